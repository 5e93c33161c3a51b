import type { z } from 'zod';
import type { UpcomingItem, UpcomingListed, UpcomingQuery } from '../../api/upcoming.ts';
import { type Breaks, type ClientFacts, type Facts, forecast, type GrantFacts, type Upcoming } from '../../core/forecast/forecast.ts';
import { connectionDefinition } from '../grants/index.ts';
import { iso } from '../iso.ts';
import type { Limits } from '../operation-call.ts';
import { serverCertificateEnd } from '../outgoing/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { EndingGrant } from '../store/forecast.ts';
import type { ForecastParts } from './parts.ts';
import { diskLevels, scheduledQuotas } from './running-out.ts';

const DAY_MS = 86_400_000;
/** More ends than that are not told one by one: they have a cause in common. */
const MAX_GRANTS = 5_000;

/** Everything that will stop in the next days, the first one first. @param limits labels: what is beyond them does not exist */
export async function upcoming(s: ForecastParts, days: number, limits?: Limits): Promise<Upcoming[]> {
  const now = s.ports.clock.now();
  const until = now + days * DAY_MS;
  return forecast(limits === undefined ? await factsOf(s, until) : await factsWithin(s, until, limits), now, until);
}

export async function listUpcoming(s: ForecastParts, query: z.output<typeof UpcomingQuery>, limits?: Limits): Promise<UpcomingListed> {
  const now = s.ports.clock.now();
  const all = await upcoming(s, query.days, limits);
  const items = all.filter((one) => (query.label === undefined || one.labels.includes(query.label)) && (query.who === undefined || one.who === query.who));
  return { items: items.map(view), now: iso(now), until: iso(now + query.days * DAY_MS) };
}

const view = ({ actBy, at, noticeAt: _noticeAt, ...one }: Upcoming): UpcomingItem => ({ ...one, at: iso(at), act_by: iso(actBy) });

/** The same facts for an account that is limited to labels: names and counts of what is within, and nothing of the machines. */
async function factsWithin(s: ForecastParts, until: number, limits: readonly string[]): Promise<Facts> {
  const facts = await factsOf(s, until, limits);
  const { limits: store } = s.store;
  const named = [
    ...facts.grants.map((one) => one.shared ?? one.connection),
    ...facts.invitations.map((one) => one.shared),
    ...facts.quotas.flatMap((quota) => quota.runs.map((run) => run.connection)),
  ];
  const users = [...facts.clients, ...facts.grants].flatMap((one) => one.breaks.callers);
  const [connections, callers] = await Promise.all([
    store.connectionsWithin([...new Set(named)], limits),
    store.callersWithin([...new Set([...users, ...facts.callerKeys.map((one) => one.caller)])], limits),
  ]);
  const shown = <T extends { breaks: Breaks }>(one: T): T => ({
    ...one,
    breaks: { ...one.breaks, callers: one.breaks.callers.filter((name) => callers.has(name)) },
  });
  return {
    clients: facts.clients.filter((one) => one.breaks.connections > 0).map(shown),
    grants: facts.grants.filter((one) => connections.has(one.shared ?? one.connection)).map(shown),
    callerKeys: facts.callerKeys.filter((one) => callers.has(one.caller)),
    invitations: facts.invitations.filter((one) => connections.has(one.shared)),
    quotas: facts.quotas.flatMap((quota) => {
      // What others use up counts; it is not named.
      const own = quota.runs.find((run) => connections.has(run.connection));
      const runs = quota.runs.map((run) => (connections.has(run.connection) ? run : { ...run, job: null }));
      return own ? [{ ...quota, connection: own.connection, labels: own.labels, runs }] : [];
    }),
    serverCertificate: null,
    disks: [],
  };
}

async function factsOf(s: ForecastParts, until: number, limits?: Limits): Promise<Facts> {
  const [ending, clients] = await Promise.all([s.store.forecast.clientsWithEndingSecrets(until), s.store.clients.all()]);
  const providers = new Map((await s.store.providers.all()).map((one) => [one.id, one.name]));
  const named = (client: ClientRow): string => providers.get(client.providerId) ?? '';
  const wanted = clients.filter(
    ({ id, approval, stage }) => stage !== 'retired' && (ending.includes(id) || approval === 'requested' || approval === 'info_requested'),
  );
  const phases = await phasesOf(s, clients, named);
  const grants = await s.store.forecast.endingGrants(
    until,
    [...phases].map(([clientId, lifeMs]) => ({ clientId, consentedBefore: until - lifeMs })),
    MAX_GRANTS,
  );
  const users = new Map<string, Breaks>();
  const usersOf = async ({ connectionId, sharedId }: EndingGrant): Promise<Breaks> => {
    const key = sharedId ?? connectionId; // callers are permitted with the shared connection, not with each person
    const known = users.get(key);
    if (known) return known;
    const { labels: _labels, ...breaks } = await s.store.forecast.usersOfConnection(key, limits);
    users.set(key, breaks);
    return breaks;
  };
  const keys = await s.store.forecast.endingKeys(until);
  const certificateEnds = await serverCertificateEnd(s.settings.publicUrl);
  return {
    clients: await Promise.all(wanted.map((client) => clientFacts(s, client, named(client), limits))),
    grants: await Promise.all(grants.map(async (grant) => grantFacts(grant, phases.get(grant.clientId) ?? null, await usersOf(grant)))),
    callerKeys: await Promise.all(
      keys.map(async (key) => {
        const examples = key.isLast ? await s.store.forecast.connectionsOfCaller(key.callerId) : [];
        const labels = key.isLast ? await s.store.forecast.labelsOfCaller(key.callerId) : [];
        return { ...key, labels, breaks: { connections: examples.length, examples, callers: [key.caller], jobs: [] } };
      }),
    ),
    invitations: await s.store.forecast.openInvitations(until),
    quotas: await scheduledQuotas(s),
    serverCertificate: certificateEnds === null ? null : { host: new URL(s.settings.publicUrl).host, endsAt: certificateEnds },
    disks: await diskLevels(s),
  };
}

/** The same, for whoever compares it with what is seen. */
export async function testPhases(s: ForecastParts): Promise<Map<string, number>> {
  const providers = new Map((await s.store.providers.all()).map((one) => [one.id, one.name]));
  return phasesOf(s, await s.store.clients.all(), (client) => providers.get(client.providerId) ?? '');
}

/** Clients for listed accounts at which refresh tokens live only so long, in ms. */
async function phasesOf(s: ForecastParts, clients: readonly ClientRow[], named: (client: ClientRow) => string): Promise<Map<string, number>> {
  const found = new Map<string, number>();
  for (const client of clients) {
    if (client.stage === 'retired' || client.reach === 'anyone') continue;
    const { definition } = await connectionDefinition(s, { provider: named(client), client: client.name, placeholders: {}, apiBaseUrl: null });
    const seconds = definition.reach.find((one) => one.reach === client.reach)?.refresh_token_life_seconds;
    if (seconds !== undefined) found.set(client.id, seconds * 1000);
  }
  return found;
}

async function clientFacts(s: ForecastParts, client: ClientRow, provider: string, limits: Limits): Promise<ClientFacts> {
  const [secrets, { labels, ...breaks }] = await Promise.all([s.store.secrets.ofClient(client.id), s.store.forecast.usersOfClient(client.id, limits)]);
  const kept = secrets.filter((one) => one.state === 'active' || one.state === 'unverified');
  const expected = client.registering.expected_on;
  return {
    id: client.id,
    provider,
    name: client.name,
    secrets: kept.map(({ kind, label, endsAt }) => ({ kind, label, endsAt })),
    approval: { state: client.approval, expectedAt: expected ? Date.parse(expected) : null },
    needsApproval: client.approval === 'approved',
    breaks,
    labels,
  };
}

const grantFacts = (grant: EndingGrant, phaseMs: number | null, breaks: Breaks): GrantFacts => ({
  id: grant.id,
  connection: grant.connection,
  shared: grant.shared,
  account: grant.account,
  consentedAt: grant.consentedAt,
  lifeEndsAt: grant.lifeEndsAt,
  phaseEndsAt: phaseMs === null ? null : grant.consentedAt + phaseMs,
  isStandby: grant.isStandby,
  labels: grant.labels,
  breaks,
});

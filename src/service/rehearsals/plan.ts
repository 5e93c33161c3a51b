import type { RehearsalPlan } from '../../api/rehearsals.ts';
import { withoutOwnKeys } from '../../core/calls/call.ts';
import { maskedCall, maskedValues } from '../../core/calls/secret-values.ts';
import { Fault } from '../../core/fault.ts';
import { filledJob } from '../jobs/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { RehearsalParts } from './parts.ts';

/** Connections alike behave alike: of each client a few are enough. */
const MAX_OF_CLIENT = 5;
const MAX_CONNECTIONS = 60;
const MAX_JOBS = 40;

type Wanted = Pick<RehearsalPlan, 'scenario' | 'act'> & { providers: readonly string[]; hits: string | null };

/**
 * What is rehearsed: definitions and settings as they are now. Secrets, tokens, accounts and names of people stay here.
 * @throws {Fault} INPUT_INVALID where nothing can be rehearsed
 */
export async function planOf(s: RehearsalParts, wanted: Wanted): Promise<RehearsalPlan> {
  const all = await s.store.providers.all();
  const unknown = wanted.providers.filter((name) => !all.some((one) => one.name === name));
  if (unknown.length > 0) throw new Fault('INPUT_INVALID', { places: [{ path: 'providers', why: `Not found: ${unknown.join(', ')}.` }] });
  const leftOut: RehearsalPlan['leftOut'] = [];
  const clients: RehearsalPlan['clients'] = [];
  const connections: RehearsalPlan['connections'] = [];
  for (const provider of all.filter((one) => wanted.providers.length === 0 || wanted.providers.includes(one.name)))
    for (const client of await s.store.clients.ofProvider(provider.id)) {
      const label = `${provider.name}/${client.name}`;
      if (client.stage !== 'active') {
        leftOut.push({ what: `Client ${label}`, why: `It is ${client.stage === 'draft' ? 'a draft' : 'retired'}.` });
        continue;
      }
      const { items, total } = await s.store.rehearsals.connectionsOf(client.id, Math.min(MAX_OF_CLIENT, MAX_CONNECTIONS - connections.length));
      if (items.length < total) leftOut.push({ what: `${total - items.length} more connections of ${label}`, why: 'They behave as those that are rehearsed.' });
      if (items.length === 0) continue;
      clients.push(await clientPlan(s, provider.name, client));
      for (const { kind, ...one } of items) connections.push({ ...one, provider: provider.name, client: client.name, grantKind: kind ?? 'authorization_code' });
    }
  if (connections.length === 0)
    throw new Fault('INPUT_INVALID', { detail: 'No connection can be rehearsed.', remedy: 'Add a connection and consent at the provider, then rehearse it.' });
  const names = connections.map((one) => one.name);
  const played = new Set(clients.map((one) => one.provider));
  const hits = wanted.hits ?? mostUsed(connections);
  if (!played.has(hits)) throw new Fault('INPUT_INVALID', { places: [{ path: 'hits', why: `No connection of ${hits} is rehearsed.` }] });
  const callers = await s.store.rehearsals.permissionsAmong(names);
  return {
    ...{ scenario: wanted.scenario, hits, act: wanted.act, clients, connections, leftOut },
    providers: await Promise.all(
      [...played].map(async (name) => ({ name, document: JSON.stringify((await s.store.providers.inUse(name))?.definition ?? {}) })),
    ),
    callers: callers.map(({ caller, ...one }) => ({ name: caller, ...one })),
    jobs: await jobsOf(s, names, leftOut),
    channels: (await s.store.channels.list()).filter((one) => one.enabled).map(({ name, kind, rule }) => ({ name, kind, rule })),
  };
}

const mostUsed = (connections: RehearsalPlan['connections']): string => {
  const counts = new Map<string, number>();
  for (const { provider } of connections) counts.set(provider, (counts.get(provider) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1] || (a[0] < b[0] ? -1 : 1))[0]?.[0] ?? '';
};

async function clientPlan(s: RehearsalParts, provider: string, client: ClientRow): Promise<RehearsalPlan['clients'][number]> {
  const secrets = (await s.store.secrets.ofClient(client.id)).filter((one) => one.state === 'active' || one.state === 'unverified');
  const { name, type, environment, variant, placeholders, authMethod, reach, registeredScopes } = client;
  return {
    ...{ provider, name, type, environment, variant, placeholders, method: authMethod, reach, scopes: registeredScopes },
    secrets: secrets.map(({ kind, endsAt }) => ({ kind, endsAt })),
  };
}

async function jobsOf(s: RehearsalParts, names: readonly string[], leftOut: RehearsalPlan['leftOut']): Promise<RehearsalPlan['jobs']> {
  const jobs: RehearsalPlan['jobs'] = [];
  for (const job of await s.store.jobs.list()) {
    const connection = (await s.store.connections.byId(job.connectionId))?.name;
    if (connection === undefined || !names.includes(connection) || !job.enabled) continue;
    if (jobs.length >= MAX_JOBS) {
      leftOut.push({ what: `Job ${job.name}`, why: `At most ${MAX_JOBS} are rehearsed.` });
      continue;
    }
    try {
      const settings = await filledJob(s, connection, job.settings);
      jobs.push({
        name: job.name,
        connection,
        settings: {
          ...settings,
          call: settings.call && maskedCall(withoutOwnKeys(settings.call), 'rehearsed'),
          values: maskedValues(settings.values, 'rehearsed'),
        },
      });
    } catch (error) {
      if (!(error instanceof Fault) || error.code === 'DATABASE_UNAVAILABLE') throw error;
      leftOut.push({ what: `Job ${job.name}`, why: error.message });
    }
  }
  return jobs;
}

import type { z } from 'zod';
import type { OpenConnection, OpenedConsent } from '../../api/connections.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import type { Way } from '../../core/oauth/grant-kinds.ts';
import { isClientsOwn } from '../../core/oauth/grant-kinds.ts';
import { sameButPort, waysOf } from '../../core/oauth/ways.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { checkPlaceholders } from '../../core/provider/placeholders.ts';
import { Secret } from '../../core/secret.ts';
import { readyOf } from '../clients/index.ts';
import { connectionDefinition } from '../grants/index.ts';
import { hashOf } from '../hash.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { emptyOutcome, missingOf, refuseShared, refuseUnconfirmed } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { ConsentFacts, ConsentRow } from '../store/consents.ts';
import { buildAuthorizationRedirect } from './authorization-redirect.ts';
import type { Parties } from './consent-context.ts';
import { consentWarnings } from './consent-warnings.ts';
import { askForDevice } from './devices.ts';
import type { ConsentParts } from './parts.ts';
import type { Runs } from './runs.ts';

export const CONSENT_MS = 30 * 60_000;
export const KEPT_DAYS = 30;

/** What opening needs of the consents that run. */
interface Opening {
  parties: Pick<Parties, 'with'>;
  runs: Pick<Runs, 'exchange' | 'finish'>;
}

/** Through whom a person came, and in which ways people can consent. */
export interface PersonOpening {
  invitation: string;
  ways: readonly Way[];
}

/** Starts a consent: where to go, or nothing to do where the client asks for itself. @throws {Fault} CLIENT_INCOMPLETE, ORIGIN_UNCONFIRMED, INPUT_INVALID */
export async function openConsent(
  s: ConsentParts,
  { parties: all, runs }: Opening,
  { params, body: input, actor }: Command<'openConnection'>,
  person: PersonOpening | null = null,
): Promise<OpenedConsent & { ticket: string }> {
  const { connection: connectionName } = params;
  const operator = actor.operator.name;
  const connection = await s.store.connections.byName(connectionName);
  if (!connection) throw new Fault('NOT_FOUND', { detail: `Connection "${connectionName}" not found.` });
  const target = await targetOf(s, connection, input);
  const parties = await all.with(connection, target.client.id, target.placeholders);
  const { client, definition } = parties;
  const secrets = await s.store.secrets.ofClient(client.id);
  const now = s.ports.clock.now();
  const missing = missingOf(client, definition, secrets, now);
  if (missing.length > 0) throw new Fault('CLIENT_INCOMPLETE', { detail: `Missing: ${missing.join(' and ')}.` });
  if (client.stage === 'retired') throw new Fault('CLIENT_INCOMPLETE', { detail: 'The client was retired.', remedy: 'Use another client.' });
  refuseUnconfirmed(parties.unconfirmed);
  refuseShared(connection);
  const ways = waysOf(definition, client, connection.grantType, s.settings.publicUrl).filter((one) => person === null || person.ways.includes(one));
  const way = chooseWay(ways, input.way, definition);
  const ready = readyOf(client, definition, { secrets, wanted: connection }, now);
  const ofClient = isClientsOwn(connection.grantType);
  const scopes = [...new Set([...connection.scopes, ...(ofClient ? [] : (definition.identity?.needs ?? []))])];
  const warnings = way === 'by_itself' ? [] : await consentWarnings(s, { connection, client, definition }, input.end_oldest);
  const ticket = base64url(s.ports.random.bytes(24));
  const facts: ConsentFacts = {
    ...(client.id === connection.clientId ? {} : { movesTo: client.name }),
    ...(input.prepare ? { prepares: true } : {}),
    ...(input.placeholders || client.id !== connection.clientId ? { placeholders: target.placeholders } : {}),
    ...(way === 'loopback' && input.port !== undefined ? { redirectUri: withPort(definition, client.redirectUri, input.port) } : {}),
    ...(way === 'printed' ? { startedAt: now } : {}),
    ...(warnings.length > 0 ? { warnings } : {}),
    ...(person ? { invitation: person.invitation } : {}),
  };
  const row: ConsentRow = {
    id: recordId(s.ports),
    ticketHash: hashOf(ticket),
    stateHash: null,
    cookieHash: null,
    clientId: client.id,
    connectionId: connection.id,
    grantId: recordId(s.ports),
    verifierSealed: null,
    scopes,
    phase: way === 'by_itself' || way === 'device' ? 'exchanging' : 'offered',
    openedBy: operator,
    expiresAt: now + CONSENT_MS,
    finishedAt: null,
    outcome: emptyOutcome(),
    way,
    facts,
    deviceSealed: null,
    pollAt: null,
    codeHash: null,
  };
  const opened = (more: Partial<OpenedConsent>): OpenedConsent & { ticket: string } => ({
    ticket,
    id: row.id,
    way,
    start_url: `${s.settings.publicUrl}/#/consents/${row.id}`,
    authorization_url: null,
    redirect_uri: null,
    by_itself: way === 'by_itself',
    expires_at: iso(row.expiresAt),
    warnings: [],
    ready,
    ...more,
  });
  await s.store.consents.add(row, KEPT_DAYS);
  if (way === 'by_itself') {
    const subject = connection.expectedAccount ?? '';
    runs.exchange(
      row,
      parties,
      connection.grantType === 'jwt_bearer' ? { grantType: 'jwt_bearer', subject, scopes } : { grantType: 'client_credentials', scopes },
    );
    return opened({});
  }
  if (way === 'printed') return opened({ warnings });
  if (way === 'redirect') return opened({ warnings, start_url: `${s.settings.publicUrl}/consent/start/${ticket}` });
  if (way === 'device') {
    const failed = await askForDevice(s, row, parties);
    if (failed) await runs.finish(row, 'failed', failed);
    return opened({ warnings });
  }
  // Pasted, or brought back by `rk`: bound to the operator who opened it instead of to a browser's cookie.
  const { location, set } = buildAuthorizationRedirect(s, row, parties);
  const sealed = s.sealer.seal({ table: 'consents', row: row.id, column: 'device_sealed' }, new Secret(location));
  await s.store.consents.advance(row.id, 'offered', { ...set, deviceSealed: sealed.length < 4000 ? sealed : null });
  return opened({ warnings, authorization_url: location, redirect_uri: facts.redirectUri ?? client.redirectUri });
}

/** The client through which this consent goes, and the values for it: the connection's own, or another of the same provider. */
async function targetOf(
  s: ConsentParts,
  connection: ConnectionRow,
  input: z.output<typeof OpenConnection>,
): Promise<{ client: ClientRow; placeholders: Record<string, string> }> {
  const now = await s.store.clients.byId(connection.clientId);
  if (!now) throw new Fault('NOT_FOUND', { detail: 'The client of this connection was removed.' });
  const own = connection.placeholders;
  const client = input.client === undefined ? now : await s.store.clients.byName(now.providerId, input.client);
  if (!client) throw new Fault('NOT_FOUND', { detail: `The provider of this connection has no client called ${input.client}.` });
  const placeholders = input.placeholders ?? own;
  if (input.placeholders) {
    const provider = await s.store.providers.byId(client.providerId);
    const { definition } = await connectionDefinition(s, { provider: provider?.name ?? '', client: client.name, placeholders: {}, apiBaseUrl: null });
    checkPlaceholders(definition, placeholders, ['connection']);
  }
  return { client, placeholders };
}

function chooseWay(ways: readonly Way[], asked: Way | undefined, definition: ProviderDefinition): Way {
  const way = asked ?? ways[0];
  if (way !== undefined && ways.includes(way)) return way;
  throw new Fault('INPUT_INVALID', {
    places: [
      {
        path: 'way',
        why: ways.length === 0 ? `${definition.title} names no way in which someone could agree.` : `For this client there is: ${ways.join(', ')}.`,
      },
    ],
    remedy: 'Choose another way, or another client.',
  });
}

/** A loopback redirect URI with the port at which the program really listens (RFC 8252 §7.3). */
function withPort(definition: ProviderDefinition, registered: string, port: number): string {
  const url = new URL(registered);
  url.port = String(port);
  if (url.href === registered) return registered;
  if (definition.registration.redirect_uri.loopback_port === 'fixed' || !sameButPort(registered, url.href))
    throw new Fault('INPUT_INVALID', {
      places: [{ path: 'port', why: `${definition.title} takes the registered port only: ${new URL(registered).port}.` }],
      remedy: 'Free that port on your machine, or paste the address by hand: --way pasted.',
    });
  return url.href;
}

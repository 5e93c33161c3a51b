import { attempts } from '../../api/attempts.ts';
import type { ConsentOutcome } from '../../api/connections.ts';
import type { Cause } from '../../core/diagnosis/causes.ts';
import { diagnosis } from '../../core/diagnosis/diagnosis.ts';
import { Fault } from '../../core/fault.ts';
import { isClientsOwn } from '../../core/oauth/grant-kinds.ts';
import { probeOf } from '../../core/provider/api.ts';
import { isSpendable, type ProviderDefinition } from '../../core/provider/definition.ts';
import { firstRow, type RenewalCause } from '../../core/renewal/row.ts';
import { compareScopes } from '../../core/scopes/compare.ts';
import { Secret } from '../../core/secret.ts';
import { endGrant, moveToStandby, newGrant } from '../grants/index.ts';
import { hashOf } from '../hash.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { emptyOutcome, methodOf, missingOf, refuseShared, refuseUnconfirmed } from '../records/index.ts';
import type { ConsentRow, StoredOutcome } from '../store/consents.ts';
import type { Consents } from './consents-interface.ts';
import { KEPT_DAYS } from './opening.ts';
import { problemOf } from './outcome.ts';
import type { ConsentParts } from './parts.ts';
import { verifyTokens } from './verify.ts';

const PROVED_WITHIN_MS = 90_000;
const LOOK_EVERY_MS = 250;

/** Said plainly with the outcome: whoever still uses the token elsewhere would end it here, or be ended by us. */
const stopElsewhere = (definition: ProviderDefinition): string =>
  isSpendable(definition.dialect)
    ? `Stop the old script now: ${definition.title} ${definition.dialect.rotation === 'each_use' ? 'replaces the refresh token at each renewal' : 'may replace the refresh token at a renewal'}, so two that renew with it end each other.`
    : `${definition.title} keeps the refresh token at a renewal: the old script would keep working. Remove the token from the script anyway, so that it is stored only here.`;

/**
 * Imports a refresh token: it is sealed and stored first, then verified by the ordinary renewal. It becomes current once it is verified;
 * until then the old tokens stay in use. @throws {Fault} CLIENT_INCOMPLETE
 */
export async function importToken(s: ConsentParts, agreed: Consents, { params, body: input, actor }: Command<'importToken'>): Promise<ConsentOutcome> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const connection = await s.store.connections.byName(name);
  if (connection) refuseShared(connection);
  if (!connection) throw new Fault('NOT_FOUND', { detail: `Connection "${name}" not found.` });
  if (isClientsOwn(connection.grantType))
    throw new Fault('INPUT_INVALID', { places: [{ path: 'refresh_token', why: 'This connection needs none: its client requests a token of its own.' }] });
  const now = Math.floor(s.ports.clock.now());
  const requested = input.scopes ?? connection.scopes;
  const consent: ConsentRow = {
    id: recordId(s.ports),
    ticketHash: hashOf(recordId(s.ports)),
    stateHash: null,
    cookieHash: null,
    clientId: connection.clientId,
    connectionId: connection.id,
    grantId: recordId(s.ports),
    verifierSealed: null,
    scopes: requested,
    phase: 'verifying',
    openedBy: operator,
    expiresAt: now + 2 * PROVED_WITHIN_MS,
    finishedAt: null,
    outcome: emptyOutcome(),
    way: 'imported',
    facts: { startedAt: now },
    deviceSealed: null,
    pollAt: null,
    codeHash: null,
  };
  const parties = await agreed.parties(consent);
  const { client, definition } = parties;
  const missing = missingOf(client, definition, await s.store.secrets.ofClient(client.id), now);
  if (missing.length > 0) throw new Fault('CLIENT_INCOMPLETE', { detail: `Missing: ${missing.join(' and ')}.` });
  refuseUnconfirmed(parties.unconfirmed);
  const grantId = consent.grantId;
  const seal = (column: string, text: string) => s.sealer.seal({ table: 'tokens', row: grantId, column }, new Secret(text));
  await s.store.grants.add(
    newGrant({
      id: grantId,
      connectionId: connection.id,
      kind: 'imported',
      scopes: requested,
      consentedBy: operator,
      consentedAt: now,
      proof: probeOf(definition, requested) ? 'not_verified' : 'not_defined',
      clientId: client.id,
      placeholders: connection.placeholders,
    }),
  );
  // No access token yet: its lifetime is over before it began, and the first renewal is due at once.
  await s.store.renewals.insert(grantId, client.id, firstRow({ issuedAt: now - 1_000, expiresAt: now }, now), {
    accessSealed: seal('access_sealed', '-'),
    refreshSealed: seal('refresh_sealed', input.refresh_token),
  });
  await s.store.consents.add(consent, KEPT_DAYS);
  s.history.add({
    actor: operator,
    kind: 'imported',
    subject: `connection:${name}`,
    says: 'A refresh token was imported: it is stored, and being verified.',
  });
  agreed.run(consent, () => verifyImported(s, consent, parties, requested));
  return agreed.outcome(consent.id, operator);
}

async function verifyImported(
  s: ConsentParts,
  consent: ConsentRow,
  parties: Awaited<ReturnType<Consents['parties']>>,
  requested: string[],
): Promise<StoredOutcome> {
  const { grantId } = consent;
  const { definition, connection } = parties;
  for await (const _ of attempts({ withinMs: PROVED_WITHIN_MS, everyMs: LOOK_EVERY_MS })) {
    await s.engine.renewOne(grantId);
    const held = await s.store.renewals.read(grantId);
    if (!held || held.row.ended) break;
    if (held.row.generation > 1) {
      const access = await s.sealer.open({ table: 'tokens', row: grantId, column: 'access_sealed' }, held.accessSealed);
      const lifeMs = held.row.expiresAt - held.row.issuedAt;
      const outcome = await verifyTokens(
        s,
        { consent, ...parties },
        {
          kind: 'imported',
          tokens: { access, lifeMs },
          scopes: { requested, ...compareScopes(requested, requested) },
          renewable: true,
          method: methodOf(parties.client, definition),
          nonce: null,
        },
      );
      return { ...outcome, warnings: [stopElsewhere(definition), ...outcome.warnings] };
    }
    if (held.row.nextAt === null) {
      const grant = await s.store.grants.byId(grantId);
      await endGrant(s, grantId, 'set_aside');
      const problem = problemOf(
        diagnosis('grant_withdrawn', {
          evidence: [grant?.evidence],
          title: 'The provider does not take this refresh token.',
          remedy: 'It may belong to another client, or the old script has replaced it since it was copied. Import the newest one, or reconnect.',
        }),
      );
      s.history.add({
        actor: consent.openedBy,
        kind: 'consent_failed',
        subject: `connection:${connection.name}`,
        says: `${problem.title} (${problem.evidence ?? ''})`,
      });
      return { ...emptyOutcome(), problem };
    }
    // Waiting fixes neither of these: the token itself was not used.
    if (held.row.cause === 'client_refused' || held.row.cause === 'set_up') break;
  }
  // Not rejected, and not verified: the provider may be down. It is kept, tried again by the ordinary renewal, and waits for a decision.
  await moveToStandby(s, connection.id, grantId, 'not_verified');
  const grant = await s.store.grants.byId(grantId);
  const { cause, ...words } = NOT_PROVED[(await s.store.renewals.read(grantId))?.row.cause ?? 'unclear'] ?? WAITING;
  const problem = problemOf(diagnosis(cause, { evidence: [grant?.evidence], ...words }));
  s.history.add({
    actor: consent.openedBy,
    kind: 'consent_failed',
    subject: `connection:${connection.name}`,
    says: `${problem.title} (${problem.evidence ?? ''})`,
  });
  return { ...emptyOutcome(), decide: 'not_verified', problem };
}

interface Words {
  cause: Cause;
  title: string;
  remedy: string;
}
const WAITING: Words = {
  cause: 'provider_down',
  title: 'The refresh token is stored but not verified yet.',
  remedy: 'It is retried automatically. After a renewal, use it from the page of the connection.',
};
/** Why a stored token could not be verified, by the cause of its renewal. */
const NOT_PROVED: Partial<Record<RenewalCause, Words>> = {
  client_refused: {
    cause: 'secret_wrong',
    title: 'The provider rejected the client, so the refresh token was not verified.',
    remedy: 'Compare the client ID and secret with the values at the provider. The token is stored and retried automatically once the client works.',
  },
  set_up: {
    cause: 'request_odd',
    title: 'The provider rejected the renewal request, so the refresh token was not verified.',
    remedy:
      'Compare the provider definition with the provider\u2019s documentation. The token is stored: renew the connection, or use or discard the token on its page.',
  },
  busy: { ...WAITING, cause: 'provider_busy' },
  unsent: { ...WAITING, cause: 'provider_unreachable' },
};

import { base64url } from '../../core/identifiers.ts';
import { isClientsOwn, isKey } from '../../core/oauth/grant-kinds.ts';
import { revocationRequest } from '../../core/oauth/revocation.ts';
import { reasonInWords } from '../../core/oauth/wire.ts';
import { requestDeadlineMs } from '../../core/renewal/plan.ts';
import { end } from '../../core/renewal/transitions.ts';
import type { Secret } from '../../core/secret.ts';
import { recordId } from '../ports.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { GrantRow } from '../store/grants.ts';
import type { HeldRow } from '../store/held-row.ts';
import type { RevocationRow } from '../store/revocations.ts';
import { connectionDefinition } from './definition.ts';
import { endGrant } from './grants.ts';
import type { GrantParts } from './parts.ts';

const FIRST_WAIT_MS = 30_000;
const MAX_WAIT_MS = 6 * 3_600_000;
/** After so many tries, more than a week, a person must do it there by hand. */
const MAX_TRIES = 40;
const LOOK_EVERY_MS = 1_000;
const AT_ONCE = 20;
const BY_HAND = 'Withdraw it on the provider\u2019s own page, where the person gave it.';

/** `again`: the provider was not reached or had trouble, and is asked once more. */
export interface RevocationResult {
  there: boolean | null;
  says: string;
  again: boolean;
}

/** Ends one grant here and tells the provider; where that fails in a way that may pass, it is written down to be told again. */
export async function revokeAtProvider(s: GrantParts, grantId: string): Promise<RevocationResult> {
  const grant = await s.store.grants.byId(grantId);
  const held = await s.store.renewals.read(grantId);
  const connection = grant && (await s.store.connections.byId(grant.connectionId));
  if (grant && connection) await tellOfSpares(s, grant, connection); // first: those of a grant that has ended are swept away
  await s.store.renewals.update([grantId], end());
  await s.store.grants.end(grantId, s.ports.clock.now(), 'revoked');
  if (!grant || !held || !connection) return { there: false, says: `Not revoked at the provider: there is no token. ${BY_HAND}`, again: false };
  if (isKey(grant.kind)) {
    await s.store.grants.discardTokens(grantId);
    return { there: null, says: 'A static key can only be deleted at the provider.', again: false };
  }
  const tokens = await openTokens(s, held);
  // Written down first: a crash between here and the answer does not lose that the provider must be notified.
  const row = await toBeTold(s, { id: grantId, of: grant, connection }, tokens, FIRST_WAIT_MS);
  await s.store.grants.discardTokens(grantId);
  return tell(s, row, tokens);
}

const openTokens = async (s: Pick<GrantParts, 'sealer'>, held: HeldRow): Promise<{ access: Secret; refresh: Secret | null }> => ({
  access: await s.sealer.open({ table: 'tokens', row: held.grantId, column: 'access_sealed' }, held.accessSealed),
  refresh: held.refreshSealed ? await s.sealer.open({ table: 'tokens', row: held.grantId, column: 'refresh_sealed' }, held.refreshSealed) : null,
});

/** Writes down that the provider must be told of these tokens: sealed under a row of their own, kept for that alone. */
async function toBeTold(
  s: GrantParts,
  what: { id: string; of: GrantRow; connection: ConnectionRow },
  { access, refresh }: { access: Secret; refresh: Secret | null },
  waitMs: number,
): Promise<RevocationRow> {
  const row: RevocationRow = {
    grantId: what.id,
    connectionName: what.connection.name,
    clientId: what.of.clientId ?? what.connection.clientId,
    placeholders: what.of.placeholders ?? what.connection.placeholders,
    accessSealed: s.sealer.seal({ table: 'revocations', row: what.id, column: 'access_sealed' }, access),
    refreshSealed: refresh ? s.sealer.seal({ table: 'revocations', row: what.id, column: 'refresh_sealed' }, refresh) : null,
    tries: 0,
    nextAt: s.ports.clock.now() + waitMs,
    says: 'It is being revoked at the provider.',
    createdAt: s.ports.clock.now(),
  };
  if (!(await s.store.revocations.byGrant(what.id))) await s.store.revocations.add(row);
  return row;
}

/** Answers that came too late to be current may hold valid refresh tokens: each is revoked at the provider, then deleted here. */
async function tellOfSpares(s: GrantParts, grant: GrantRow, connection: ConnectionRow): Promise<void> {
  for (const spare of await s.spares.all(grant.id)) {
    await toBeTold(s, { id: recordId(s.ports), of: grant, connection }, spare.tokens, 0);
    await s.spares.remove(grant.id, spare.epoch);
  }
}

/** What became of a grant that is not used any more: it is revoked at the provider, only deleted here, or there was nothing to revoke. */
export type Retirement = 'revoked' | 'deleted_locally' | 'nothing';

/**
 * Ends a grant that another one replaced, or that nobody wants. The provider is notified only where its dialect states that this ends no other
 * grant (RFC 7009 \u00a72.1 leaves it open), and never with a refresh token that the grant in use holds as well.
 * @param stays the grant that goes on, if any
 */
export async function retireGrant(s: GrantParts, grantId: string, cause: 'set_aside' | 'replaced' | 'forgotten', stays: string | null): Promise<Retirement> {
  const grant = await s.store.grants.byId(grantId);
  const held = await s.store.renewals.read(grantId);
  const connection = grant && (await s.store.connections.byId(grant.connectionId));
  let retired: Retirement = 'nothing';
  if (grant && held && connection && !held.row.ended && !isKey(grant.kind) && !isClientsOwn(grant.kind)) {
    retired = (await endsAlone(s, grant, connection)) && !(await isShared(s, held, stays)) ? 'revoked' : 'deleted_locally';
    if (retired === 'revoked') {
      await toBeTold(s, { id: grantId, of: grant, connection }, await openTokens(s, held), 0);
      await tellOfSpares(s, grant, connection);
    }
  }
  await endGrant(s, grantId, cause);
  return retired;
}

/** Does the revocation of a refresh token end its own grant and no other? */
async function endsAlone(s: GrantParts, grant: GrantRow, connection: ConnectionRow): Promise<boolean> {
  const found = await definitionOf(s, grant.clientId ?? connection.clientId, grant.placeholders ?? connection.placeholders);
  return found?.definition.dialect.revocation_ends === 'this_grant';
}

/** The definition as a client's grant meets it; null: the client is gone. */
async function definitionOf(s: GrantParts, clientId: string, placeholders: Record<string, string>) {
  const client = await s.store.clients.byId(clientId);
  const provider = client && (await s.store.providers.byId(client.providerId));
  if (!client || !provider) return null;
  const named = { provider: provider.name, client: client.name, placeholders, apiBaseUrl: null };
  return { client, ...(await connectionDefinition(s, named)) };
}

/** Some providers give the same refresh token at every consent: what is in use is never revoked with it. */
async function isShared(s: GrantParts, held: HeldRow, stays: string | null): Promise<boolean> {
  const kept = stays === null ? null : await s.store.renewals.read(stays);
  if (!kept) return false;
  const [one, other] = await Promise.all([openTokens(s, held), openTokens(s, kept)]);
  return one.refresh !== null && one.refresh.reveal() === other.refresh?.reveal();
}

export const retiredInWords = (retired: Retirement): string =>
  ({
    revoked: ' The previous grant is being revoked at the provider.',
    deleted_locally: ' The previous grant was discarded here only: the definition does not state that revoking it leaves other grants intact.',
    nothing: '',
  })[retired];

/** Tells the provider once, and writes down what came of it. */
async function tell(s: GrantParts, row: RevocationRow, tokens: { access: Secret; refresh: Secret | null }): Promise<RevocationResult> {
  const told = await send(s, row, tokens);
  if (!told.again) {
    await s.store.revocations.remove(row.grantId);
    return told;
  }
  const tries = row.tries + 1;
  const gaveUp = tries >= MAX_TRIES;
  const nextAt = gaveUp ? null : s.ports.clock.now() + Math.min(FIRST_WAIT_MS * 2 ** row.tries, MAX_WAIT_MS);
  const says = gaveUp ? `${told.says} It was tried ${tries} times. ${BY_HAND}` : `${told.says} The request is retried automatically.`;
  await s.store.revocations.change(row.grantId, { tries, nextAt, says: says.slice(0, 500) });
  return { ...told, says };
}

async function send(s: GrantParts, row: RevocationRow, tokens: { access: Secret; refresh: Secret | null }): Promise<RevocationResult> {
  const found = await definitionOf(s, row.clientId, row.placeholders);
  if (!found) return { there: false, says: `Not revoked at the provider: the client is gone. ${BY_HAND}`, again: false };
  const { client, definition } = found;
  if (found.unconfirmed.length > 0) return { there: false, says: 'Not revoked at the provider yet: its new addresses are not confirmed.', again: true };
  const [credentials] = (await s.contexts.credentialsOf(client.id, definition)).inOrder;
  if (!credentials) return { there: false, says: `Not revoked at the provider: the client has no secret. ${BY_HAND}`, again: false };
  const once = { now: s.ports.clock.now(), deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const request = await revocationRequest(definition, credentials, tokens, once);
  if (!request) return { there: null, says: `This provider offers no revocation. ${BY_HAND}`, again: false };
  const answer = await s.ports.send(request);
  if (answer.kind !== 'answer') return { there: false, says: `The provider was not reached: ${reasonInWords(answer.reason)}.`, again: true };
  if (answer.status >= 200 && answer.status < 300) return { there: true, says: 'The provider revoked it.', again: false };
  // RFC 7009 §2.2.1: 503 asks to come again; so do other troubles of theirs, and a client that is rejected may be fixed.
  const again = answer.status >= 500 || answer.status === 429 || answer.status === 401;
  return { there: false, says: `The provider answered ${answer.status}.${again ? '' : ` ${BY_HAND}`}`, again };
}

export async function tryRevocation(s: GrantParts, row: RevocationRow): Promise<RevocationResult> {
  const open = (column: 'access_sealed' | 'refresh_sealed', sealed: Buffer) => s.sealer.open({ table: 'revocations', row: row.grantId, column }, sealed);
  return tell(s, row, {
    access: await open('access_sealed', row.accessSealed),
    refresh: row.refreshSealed ? await open('refresh_sealed', row.refreshSealed) : null,
  });
}

export const note = (s: GrantParts, name: string, actor: string, told: RevocationResult): void => {
  if (!told.again)
    s.history.add({ actor, kind: 'revocation_told', subject: `connection:${name}`, says: told.says.slice(0, 600), data: { revoked_there: told.there } });
};

/** Tells providers again what they could not be told, each on whichever replica claims it first. Ends when told to stop. */
export async function keepRevoking(s: GrantParts, stop: AbortSignal): Promise<void> {
  while (!stop.aborted) {
    try {
      for (const grantId of await s.store.revocations.due(AT_ONCE)) {
        if (stop.aborted) return;
        const row = (await s.store.revocations.claim(grantId, FIRST_WAIT_MS * 2)) ? await s.store.revocations.byGrant(grantId) : null;
        if (row) note(s, row.connectionName, 'service', await tryRevocation(s, row));
      }
    } catch (cause) {
      s.ports.log.error(
        { event: 'revocations.round_failed', cause: cause instanceof Error ? cause.message : 'unknown' },
        'telling providers of revocations failed',
      );
    }
    await s.ports.sleep(LOOK_EVERY_MS, stop);
  }
}

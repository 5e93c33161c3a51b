import { Fault } from '../../core/fault.ts';
import { isClientsOwn } from '../../core/oauth/grant-kinds.ts';
import { nextRenewalAt } from '../../core/renewal/plan.ts';
import { firstRow } from '../../core/renewal/row.ts';
import { end } from '../../core/renewal/transitions.ts';
import { emptyOutcome } from '../records/index.ts';
import { type FirstAnswer, type SpilledAnswer, sealTokens } from '../renewal/index.ts';
import type { GrantRow } from '../store/grants.ts';
import type { GrantParts } from './parts.ts';

/** A grant as it is inserted: what is not named yet is empty. */
export const newGrant = (grant: Pick<GrantRow, 'id' | 'connectionId' | 'kind' | 'scopes' | 'consentedAt' | 'proof'> & Partial<GrantRow>): GrantRow => ({
  personKey: null,
  accountId: null,
  accountLabel: null,
  consentedBy: null,
  endedAt: null,
  cause: null,
  evidence: null,
  proofAnswer: null,
  lifeEndsAt: null,
  apiBaseUrl: null,
  clientId: null,
  placeholders: null,
  opened: null,
  abilities: {},
  claims: null,
  subject: null,
  ...grant,
});

/** Inserts grant, renewal row and tokens; a repeat after a lost acknowledgement, or after a crash, finds its own rows. */
export async function insertGrant(s: Pick<GrantParts, 'store' | 'sealer' | 'ports'>, answer: SpilledAnswer, first: FirstAnswer): Promise<void> {
  const id = answer.grantId;
  const kind = first.grantType ?? 'authorization_code';
  if (!(await s.store.grants.byId(id)))
    await s.store.grants.add(
      newGrant({
        id,
        connectionId: first.connectionId,
        kind,
        scopes: first.scopes,
        consentedBy: first.consentedBy,
        consentedAt: s.ports.clock.now(),
        proof: first.probed ? 'not_verified' : 'not_defined',
        lifeEndsAt: first.livesMs > 0 ? s.ports.clock.now() + first.livesMs : null,
        clientId: first.clientId,
        placeholders: first.placeholders ?? null,
        subject: first.subject ?? null,
      }),
    );
  if (await s.store.renewals.read(id)) return;
  const connection = await s.store.connections.byId(first.connectionId);
  // A connection that is renewed on request is only kept active from the beginning; one that was never used yet is about to be.
  const need = {
    policy: connection?.policy ?? 'always',
    paused: connection?.intent === 'paused',
    lastUsedAt: connection?.lastUsedAt ?? answer.life.issuedAt,
  };
  const dialect = { idle_life_seconds: first.idleLifeSeconds };
  const nextAt = answer.tokens.refresh || isClientsOwn(kind) ? nextRenewalAt(answer.life, need, dialect, s.ports.random.unit()) : null;
  await s.store.renewals.insert(id, first.clientId, firstRow(answer.life, nextAt), sealTokens(s.sealer, id, answer.tokens));
}

/**
 * A first answer that a former life had spilled: the grant is made after all. It becomes current where the connection has none that
 * works; who consented was not read any more, so a working connection keeps what it has.
 */
export async function resumeFirst(
  s: Pick<GrantParts, 'store' | 'sealer' | 'ports' | 'changes' | 'history' | 'cache'>,
  answer: SpilledAnswer,
  first: FirstAnswer,
  than?: 'newer',
): Promise<void> {
  const connection = await s.store.connections.byId(first.connectionId);
  if (!connection) {
    if (than) throw new Fault('NOT_FOUND', { detail: 'The connection of this grant does not exist.' });
    return;
  }
  await insertGrant(s, answer, first);
  const former = connection.currentGrantId === null ? null : await s.store.renewals.read(connection.currentGrantId);
  const isAnother = connection.currentGrantId !== answer.grantId && former !== null && former.row.nextAt !== null;
  // The database went back to the grant that this consent replaced.
  if (isAnother && than === 'newer' && former.row.issuedAt < answer.life.issuedAt) await endGrant(s, former.grantId, 'replaced');
  else if (isAnother) {
    await endGrant(s, answer.grantId, 'set_aside');
    return;
  }
  await s.store.connections.change(connection.id, { currentGrantId: answer.grantId, clientId: first.clientId, intent: 'active' });
  const warnings = [
    'The service was interrupted right after the tokens came; they were kept. The account was not read: make the test call on the connection\u2019s page.',
  ];
  await s.store.consents.finish(first.consentId, {
    phase: 'done',
    finishedAt: s.ports.clock.now(),
    outcome: { ...emptyOutcome(), refresh_token: answer.tokens.refresh !== null, warnings },
  });
  await s.changes.announce('connection', connection.name);
  s.history.add({
    actor: 'service',
    kind: 'consented',
    subject: `connection:${connection.name}`,
    says: 'The tokens of an interrupted consent were kept, and are in use.',
  });
}

/** Ends a grant and discards its tokens, here only: at the provider it stays. */
export async function endGrant(
  s: Pick<GrantParts, 'store' | 'ports' | 'cache'>,
  grantId: string,
  cause: 'set_aside' | 'replaced' | 'forgotten',
): Promise<void> {
  await s.store.renewals.update([grantId], end());
  await s.store.grants.end(grantId, s.ports.clock.now(), cause);
  await s.store.grants.discardTokens(grantId);
  s.cache.drop(grantId);
}

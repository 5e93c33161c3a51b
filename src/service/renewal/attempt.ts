import { performance } from 'node:perf_hooks';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { approvalSeen } from '../../core/oauth/approval-check.ts';
import { isClientsOwn } from '../../core/oauth/grant-kinds.ts';
import type { TokenOutcome } from '../../core/oauth/token-answer.ts';
import { readTokenOutcome } from '../../core/oauth/token-answer.ts';
import { type TokenRequest, tokenRequest } from '../../core/oauth/token-request.ts';
import { wireRecord } from '../../core/oauth/wire-record.ts';
import type { Dialect } from '../../core/provider/definition.ts';
import type { Entry } from '../../core/renewal/lanes.ts';
import { backoffMs, issuanceFloorMs, requestDeadlineMs } from '../../core/renewal/plan.ts';
import type { RenewalCause, RenewalRow } from '../../core/renewal/row.ts';
import { type Attempt, actionNeeded, arm, askOnceMore, disarm, giveBack, promote, release, uncertain } from '../../core/renewal/transitions.ts';
import { uncertainWaitMs } from '../../core/renewal/uncertain-wait.ts';
import type { Secret } from '../../core/secret.ts';
import type { HeldRow } from '../store/held-row.ts';
import { sealTokens } from './answer-keeper.ts';
import { renewed, settle } from './attempt-end.ts';
import type { AttemptParts } from './attempt-parts.ts';
import { inTryingOrder } from './credentials.ts';
import { evidenceText } from './evidence.ts';
import { canSpend, type GrantContext } from './grant-context.ts';

/** A claim that was not used: why, and for how long. `cause` null: only the slots are full. */
export interface GivenBack {
  cause: RenewalCause | 'held' | null;
  waitMs: number;
}

/** An arm older than this may have been overtaken by a freeze of this process: it is void. */
const ARM_VALID_MS = 1_000;
const HELD_TRY_MS = 30_000;

/** One claimed row, from T2 to its outcome. Null: an attempt was made, or T9 decided to wait. */
export function renewHeld(parts: AttemptParts, held: HeldRow, context: GrantContext | undefined, urgent: boolean): Promise<GivenBack | null> {
  const { traces } = parts.ports;
  if (!traces.isOn) return renewNow(parts, held, context, urgent);
  const about = { grant: held.grantId, client: context?.clientName ?? '', urgent };
  return traces.span('token.renew', about, async (note) => {
    const back = await renewNow(parts, held, context, urgent);
    note({ given_back: back !== null, ...(back?.cause ? { cause: back.cause } : {}) });
    return back;
  });
}

async function renewNow(parts: AttemptParts, held: HeldRow, context: GrantContext | undefined, urgent: boolean): Promise<GivenBack | null> {
  const { limits, ports } = parts;
  const attempt: Attempt = { me: parts.me, claimId: held.row.claimId ?? '', epoch: held.row.epoch, generation: held.row.generation };
  const back = async (waitMs: number, cause: GivenBack['cause']): Promise<GivenBack> => {
    const rowCause = cause === 'held' ? null : cause;
    await parts.store.update([held.grantId], giveBack(attempt, waitMs, rowCause));
    if (rowCause !== null && rowCause !== held.row.cause) parts.states.touch(held.grantId);
    return { cause, waitMs };
  };
  if (!context) return back(limits.backoffMostMs, null);
  if (!held.refreshSealed && !isClientsOwn(context.kind)) return back(limits.backoffMostMs, 'no_refresh_token');
  if (context.unconfirmed.length > 0) return back(limits.backoffMostMs, 'unconfirmed');
  if (context.credentials.inOrder.length === 0) return back(limits.backoffMostMs, 'client_refused');
  if (parts.hold.isHeld() && canSpend(context)) return back(HELD_TRY_MS * (0.5 + ports.random.unit()), 'held');

  const lane = { clientId: context.clientRecordId, origin: new URL(context.definition.server.token_endpoint).origin };
  parts.lanes.hold(lane.clientId, context.clientHeldUntil);
  const entry = parts.lanes.enter(lane, ports.clock.now(), urgent);
  if (entry.kind !== 'go') return back(entry.untilAt - ports.clock.now() + limits.backoffBaseMs * ports.random.unit(), CLOSED_CAUSE[entry.kind]);
  let how: 'answered' | 'lost' | 'unused' = 'unused';
  try {
    if (context.clientHealth === 'stopped' && !(await parts.clients.mayTry(context.clientRecordId)))
      return await back(limits.stoppedTryMs * (0.5 + ports.random.unit() / 2), 'client_refused');
    const outcome = await attemptOnce(parts, held, context, attempt);
    if (outcome) how = outcome.kind === 'unsent' || outcome.kind === 'unclear' ? 'lost' : 'answered';
    return null;
  } finally {
    parts.lanes.leave(lane, how, ports.clock.now(), ports.random.unit());
  }
}

const CLOSED_CAUSE: Record<Exclude<Entry['kind'], 'go'>, RenewalCause | null> = { full: null, open: 'unsent', held: 'busy' };

/** T9's look, T2, T3 and what follows. Null: nothing was sent. */
async function attemptOnce(parts: AttemptParts, held: HeldRow, context: GrantContext, attempt: Attempt): Promise<TokenOutcome | null> {
  const { store, sealer, limits, ports } = parts;
  const { grantId, row } = held;
  const { dialect } = context.definition;
  const deadlineMs = requestDeadlineMs(limits, row.expiresAt - row.issuedAt);
  if (row.sentEpoch !== null || row.uncertainSince !== null) {
    const { waitMs, nobodyHolds } = await uncertainty(parts, row, dialect, deadlineMs);
    if (waitMs > 0) {
      await store.update([grantId], uncertain(attempt, waitMs, nobodyHolds));
      parts.states.touch(grantId);
      return null;
    }
  }
  let refreshToken: Secret | null = null;
  if (!isClientsOwn(context.kind))
    try {
      refreshToken = await sealer.open({ table: 'tokens', row: grantId, column: 'refresh_sealed' }, held.refreshSealed as Buffer);
    } catch (cause) {
      if (!(cause instanceof Fault && cause.code === 'SEAL_BROKEN')) throw cause;
      const event = { kind: 'renewal_failed', class: 'seal_broken', says: cause.message, evidence: cause.message };
      await settle(parts, context, { attempt, failures: row.failures, transition: release(attempt, limits.backoffMostMs, 'seal_broken') }, event);
      return null;
    }
  const spends = canSpend(context);
  if (spends && refreshToken && (await parts.newest.isOutdated(grantId, { generation: row.generation, issuedAt: row.issuedAt, refresh: refreshToken }))) {
    parts.ground.suspect();
    await store.update([grantId], giveBack(attempt, HELD_TRY_MS * ports.random.unit(), null));
    return null;
  }
  const client = { id: context.clientRecordId, name: context.clientName };
  const choices = await inTryingOrder(context.credentials, parts.secrets.mayTry);
  for (const [at, credentials] of choices.entries()) {
    const once = { now: ports.clock.now(), deadlineMs, jti: base64url(ports.random.bytes(16)) };
    const asks: TokenRequest = refreshToken ? { grantType: 'refresh_token', refreshToken } : ownRequest(context);
    // Made before it is armed: what cannot be made is not written down as sent.
    const request = await tokenRequest(context.definition, credentials, asks, once);
    if (spends && !(await armed(parts, grantId, attempt, deadlineMs))) {
      await store.update([grantId], giveBack(attempt, backoffMs(limits, row.failures, ports.random.unit()), null));
      return null;
    }
    const sentAt = ports.clock.now();
    const seen = await ports.send({ ...request, freshSocket: spends && dialect.reuse === 'kills_grant' });
    const outcome = readTokenOutcome(seen, dialect);
    parts.wireLog.add(grantId, attempt.epoch, outcome.kind, () => wireRecord(request, seen));
    const { secretId } = credentials;
    if (secretId !== null && outcome.kind === 'client_refused') {
      await parts.secrets.refused(client, secretId, evidenceText(outcome.evidence));
      // Rejected before anything was spent: another of the client's secrets may be the right one, and no call needs to fail.
      if (at + 1 < choices.length && (!spends || (await store.update([grantId], disarm(attempt))) > 0)) continue;
    }
    await conclude(parts, held, context, { attempt, outcome, sentAt });
    if (outcome.kind === 'tokens' && refreshToken) {
      const other = outcome.tokens.refresh !== null && outcome.tokens.refresh.reveal() !== refreshToken.reveal();
      parts.sightings.saw(context.clientRecordId, other ? 'refresh_token_replaced' : 'refresh_token_kept');
    }
    // Only tokens prove a secret: a rejection of the grant may come from a provider that looks at the grant first.
    if (secretId !== null && outcome.kind === 'tokens' && !context.credentials.verified.has(secretId)) await parts.secrets.verified(client, secretId);
    return outcome;
  }
  return null;
}

/** A client's own token is requested again, for itself or in an account's name. */
const ownRequest = ({ kind, subject, scopes }: Pick<GrantContext, 'kind' | 'subject' | 'scopes'>): TokenRequest =>
  kind === 'jwt_bearer' ? { grantType: 'jwt_bearer', subject: subject ?? '', scopes } : { grantType: 'client_credentials', scopes };

/** T9's decision for a row, from what is known of those who may hold the answer. */
async function uncertainty(parts: AttemptParts, row: RenewalRow, dialect: Dialect, deadlineMs: number): Promise<{ waitMs: number; nobodyHolds: boolean }> {
  const now = parts.ports.clock.now();
  const sentAt = Math.min(row.sentAt ?? now, now); // nothing was sent in the future: a clock was set back
  const nobodyHolds = await parts.holders.nobodyHolds([row.sentBy, row.uncertainBy], sentAt);
  const use = {
    since: Math.min(row.uncertainSince ?? sentAt, now),
    sentAt,
    nobodyHolds,
    contactSince: parts.holders.contactSince(),
    expiresAt: row.expiresAt,
    floorMs: issuanceFloorMs(row),
  };
  return { waitMs: uncertainWaitMs(dialect, use, now, { limits: parts.limits, deadlineMs }), nobodyHolds };
}

/** T8: makes the newest spare current where there is one. True: done, or someone else moved on; it is being verified. */
async function promoted(parts: AttemptParts, held: HeldRow, attempt: Attempt): Promise<boolean> {
  const spare = await parts.spares.newest(held.grantId);
  if (!spare) return false;
  const saved = await parts.store.save(held.grantId, promote(attempt, spare.life, spare.generation), sealTokens(parts.sealer, held.grantId, spare.tokens));
  if (saved) {
    const tokens = { ...spare.tokens, lifeMs: spare.life.expiresAt - spare.life.issuedAt, scopes: null };
    parts.newest.put({ grantId: held.grantId, epoch: attempt.epoch, generation: attempt.generation + 1, tokens, life: spare.life });
    await parts.spares.remove(held.grantId, spare.epoch);
    parts.cache.drop(held.grantId);
    parts.states.touch(held.grantId);
  }
  return true;
}

/** T2; true when the request may be sent now. */
async function armed(parts: AttemptParts, grantId: string, attempt: Attempt, deadlineMs: number): Promise<boolean> {
  for (let tries = 0; tries < 3; tries += 1) {
    const startedAt = performance.now();
    if (!(await parts.store.arm(grantId, arm(attempt, parts.limits, deadlineMs)))) return false;
    if (performance.now() - startedAt <= ARM_VALID_MS) return true;
  }
  return false;
}

/** T3's outcomes to T4, T7, T8 and T9. */
async function conclude(
  parts: AttemptParts,
  held: HeldRow,
  context: GrantContext,
  { attempt, outcome, sentAt }: { attempt: Attempt; outcome: TokenOutcome; sentAt: number },
): Promise<void> {
  const { limits, ports } = parts;
  const { grantId, row } = held;
  const { dialect } = context.definition;
  const evidence = evidenceText(outcome.evidence);
  const waitMs = backoffMs(limits, row.failures, ports.random.unit());
  const fail = (transition: ReturnType<typeof release>, says: string, kind = 'renewal_failed', data = {}) =>
    settle(parts, context, { attempt, failures: row.failures, transition }, { kind, class: outcome.kind, says, evidence, data });
  const later = (cause: RenewalCause, ms: number, says: string) => fail(release(attempt, ms, cause), says);
  switch (outcome.kind) {
    case 'tokens':
      return renewed(parts, held, context, { attempt, tokens: outcome.tokens, sentAt });
    case 'unsent':
      return later('unsent', waitMs, `Nothing reached the provider (${evidence}).`);
    case 'busy': {
      const patienceMs = outcome.retryAfterMs ?? waitMs;
      const untilAt = ports.clock.now() + patienceMs;
      parts.lanes.hold(context.clientRecordId, untilAt);
      await parts.clients.hold(context.clientRecordId, untilAt);
      return later('busy', patienceMs + limits.backoffBaseMs * ports.random.unit(), `The provider asked us to wait (${evidence}).`);
    }
    case 'set_up_wrong': {
      // Some providers answer so where they do not approve the client anymore: that concerns all of its connections.
      const approval = approvalSeen(context.definition, outcome);
      if (approval !== null && approval !== 'approved') {
        const client = { id: context.clientRecordId, name: context.clientName };
        await parts.clients.seen(client, approval, evidence);
        await parts.clients.stop(client, evidence);
        return later('client_refused', limits.stoppedTryMs * (1 + ports.random.unit()), `The provider does not approve the client (${evidence}).`);
      }
      return later('set_up', limits.backoffMostMs, `The provider does not understand the renewal (${evidence}).`);
    }
    case 'client_refused':
      await parts.clients.stop({ id: context.clientRecordId, name: context.clientName }, evidence);
      return later('client_refused', limits.stoppedTryMs * (1 + ports.random.unit()), `The provider rejects the client (${evidence}).`);
    case 'refused_grant': {
      if (await promoted(parts, held, attempt)) return;
      if (row.refusedAt === null) return fail(askOnceMore(attempt, limits), `The provider rejected the refresh token (${evidence}); it is asked once more.`);
      parts.cache.drop(grantId);
      const unexplained = dialect.rotation === 'each_use' && row.uncertainSince === null;
      await fail(actionNeeded(attempt), `The provider rejected the refresh token again (${evidence}): someone must reconnect.`, 'action_needed', {
        unexplained,
      });
      if (unexplained) await parts.hold.noteRefused();
      return;
    }
    case 'unclear': {
      if (!canSpend(context)) return later('unclear', waitMs, `The provider did not answer clearly (${evidence}).`);
      if (outcome.raw) await parts.spares.putRaw({ grantId, epoch: attempt.epoch, generation: attempt.generation }, outcome.raw, sentAt);
      // Our own socket is dead; an earlier sender of the same token may still hold an answer.
      const seen = { ...row, sentAt, sentBy: null, uncertainSince: row.uncertainSince ?? sentAt };
      const { waitMs: again, nobodyHolds } = await uncertainty(parts, seen, dialect, requestDeadlineMs(limits, row.expiresAt - row.issuedAt));
      return fail(
        uncertain(attempt, Math.max(again, waitMs), nobodyHolds),
        `The answer did not come (${evidence}); whether the provider renewed is not known.`,
      );
    }
    default:
      outcome satisfies never;
  }
}

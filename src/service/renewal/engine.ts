import { performance } from 'node:perf_hooks';
import { Fault } from '../../core/fault.ts';
import type { Evidence, FreshTokens, TokenOutcome } from '../../core/oauth/token-answer.ts';
import { readTokenOutcome } from '../../core/oauth/token-answer.ts';
import { tokenRequest } from '../../core/oauth/token-request.ts';
import { type Dialect, isSpendable } from '../../core/provider/definition.ts';
import type { RenewalLimits } from '../../core/renewal/limits.ts';
import { backoffMs, handoutFloorMs, requestDeadlineMs, type TokenLife } from '../../core/renewal/plan.ts';
import type { RenewalCause, RenewalRow } from '../../core/renewal/row.ts';
import { type Attempt, arm, askOnceMore, claim, giveBack, needsPerson, promote, release, takeOver, uncertain } from '../../core/renewal/transitions.ts';
import { uncertainWaitMs } from '../../core/renewal/uncertain-wait.ts';
import type { Secret } from '../../core/secret.ts';
import type { History } from '../history.ts';
import { type Ports, recordId } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { HeldRow, RenewalStore } from '../store/renewals.ts';
import { type AnswerKeeper, sealTokens } from './answer-keeper.ts';
import type { ClientHealth } from './client-health.ts';
import type { GrantContext, GrantContexts } from './grant-context.ts';
import type { Holders } from './holders.ts';
import type { Spares } from './spares.ts';
import type { TokenCache } from './token-cache.ts';

/** Renews grants by the protocol of docs/RENEWAL.md: claim, arm, send, then save or release. */
export interface RenewalEngine {
  /** T1 for due rows, then all of it for each; how many were claimed. */
  renewDue(most: number): Promise<number>;
  /** T1 for one row, before it is due if nothing is wrong with it. False: somebody else has it, or it may not be claimed. */
  renewOne(grantId: string): Promise<boolean>;
  inFlight(): number;
  /** The watermark: since when (epoch ms) the oldest attempt is open, from just before T2 until its answer is safe; null: none. */
  openSince(): number | null;
  /** T1 from owners that have gone silent, where the provider's grace would run out before their leases. */
  takeOverSilent(): Promise<number>;
  /** Resolves when nothing is in flight any more. */
  idle(): Promise<void>;
}

export interface EngineParts {
  me: string;
  store: RenewalStore;
  sealer: Sealer;
  contexts: GrantContexts;
  keeper: AnswerKeeper;
  spares: Spares;
  holders: Holders;
  cache: TokenCache;
  clients: ClientHealth;
  history: History;
  limits: RenewalLimits;
  ports: Ports;
  noteEvidence(grantId: string, evidence: string | null): Promise<void>;
}

/** An arm older than this may have been overtaken by a freeze of this process: it is void. */
const ARM_GOOD_FOR_MS = 1_000;
const CLAIM_SPREAD = 4;

export function renewalEngine(parts: EngineParts): RenewalEngine {
  const { me, store, limits, ports } = parts;
  const running = new Map<string, Promise<void>>();
  const openAt = new Map<string, number>();

  const take = async (ids: string[], early: boolean): Promise<HeldRow[]> => {
    const free = ids.filter((id) => !running.has(id));
    if (free.length === 0) return [];
    const claimId = recordId(ports);
    const taken = await store.update(free, claim(me, claimId, limits, early));
    return taken === 0 ? [] : store.claimed(free, claimId);
  };
  const start = async (held: HeldRow[]): Promise<void> => {
    const contexts = await parts.contexts.of(held.map((one) => one.grantId));
    for (const one of held) {
      openAt.set(one.grantId, ports.clock.now());
      const work = renewHeld(parts, one, contexts.get(one.grantId))
        // What fails here is our side (database away): the lease lapses and somebody claims again.
        .catch((cause: unknown) => ports.log.warn({ cause: String(cause), grant: one.grantId }, 'renewal given up until its lease ends'))
        .finally(() => {
          running.delete(one.grantId);
          openAt.delete(one.grantId);
        });
      running.set(one.grantId, work);
    }
  };
  return {
    async renewDue(most) {
      const room = most - running.size;
      if (room <= 0) return 0;
      const ids = await store.dueIds(room * CLAIM_SPREAD);
      const held = await take(sample(ids, room, ports.random.unit), false);
      await start(held);
      return held.length;
    },
    async renewOne(grantId) {
      const present = running.get(grantId);
      if (present) {
        await present;
        return true;
      }
      const held = await take([grantId], true);
      await start(held);
      await running.get(grantId);
      return held.length > 0;
    },
    inFlight: () => running.size,
    openSince: () => (openAt.size === 0 ? null : Math.min(...openAt.values())),
    async takeOverSilent() {
      const left = await parts.holders.leftBySilent();
      const contexts = await parts.contexts.of(left.map((one) => one.grantId));
      let taken = 0;
      for (const { grantId, owner } of left) {
        if (running.has(grantId) || contexts.get(grantId)?.definition.dialect.reuse !== 'grace') continue;
        const claimId = recordId(ports);
        if ((await store.update([grantId], takeOver(me, claimId, limits, owner))) === 0) continue;
        await start(await store.claimed([grantId], claimId));
        taken += 1;
      }
      return taken;
    },
    async idle() {
      while (running.size > 0) await Promise.all(running.values());
    },
  };
}

/** Takes n at random, so that replicas that read the same list seldom want the same rows. */
function sample<T>(items: T[], n: number, unit: () => number): T[] {
  const left = [...items];
  while (left.length > n) left.splice(Math.floor(unit() * left.length), 1);
  return left;
}

async function renewHeld(parts: EngineParts, held: HeldRow, context: GrantContext | undefined): Promise<void> {
  const { store, sealer, limits, ports } = parts;
  const { grantId, row } = held;
  const attempt: Attempt = { me: parts.me, claimId: row.claimId ?? '', epoch: row.epoch, generation: row.generation };
  if (!context) return void (await store.update([grantId], giveBack(attempt, limits.backoffMostMs, null)));
  if (!context.credentials || !held.refreshSealed)
    return void (await store.update([grantId], giveBack(attempt, limits.backoffMostMs, held.refreshSealed ? 'client_refused' : 'no_refresh_token')));
  if (context.clientHealth === 'stopped' && !(await parts.clients.mayTry(context.clientRecordId)))
    return void (await store.update([grantId], giveBack(attempt, limits.stoppedTryMs * (0.5 + ports.random.unit() / 2), 'client_refused')));

  const { dialect } = context.definition;
  const deadlineMs = requestDeadlineMs(limits, row.expiresAt - row.issuedAt);
  if (row.sentEpoch !== null || row.uncertainSince !== null) {
    const { waitMs, nobodyHolds } = await uncertainty(parts, row, dialect, deadlineMs);
    if (waitMs > 0) return void (await store.update([grantId], uncertain(attempt, waitMs, nobodyHolds)));
  }
  let refreshToken: Secret;
  try {
    refreshToken = await sealer.open({ table: 'tokens', row: grantId, column: 'refresh_sealed' }, held.refreshSealed);
  } catch (cause) {
    if (!(cause instanceof Fault && cause.code === 'SEAL_BROKEN')) throw cause;
    return settle(parts, context, attempt, row.failures, release(attempt, limits.backoffMostMs, 'seal_broken'), {
      kind: 'renewal_failed',
      says: cause.message,
      evidence: cause.message,
    });
  }
  if (isSpendable(dialect) && !(await armed(parts, grantId, attempt, deadlineMs)))
    return void (await store.update([grantId], giveBack(attempt, backoffMs(limits, row.failures, ports.random.unit()), null)));

  const sentAt = ports.clock.now();
  const request = tokenRequest(context.definition, context.credentials, { grantType: 'refresh_token', refreshToken }, deadlineMs);
  const outcome = readTokenOutcome(await ports.send({ ...request, freshSocket: isSpendable(dialect) }));
  await conclude(parts, held, context, attempt, outcome, sentAt);
}

/** T9's decision for a row, from what is known of those who may hold the answer. */
async function uncertainty(parts: EngineParts, row: RenewalRow, dialect: Dialect, deadlineMs: number): Promise<{ waitMs: number; nobodyHolds: boolean }> {
  const now = parts.ports.clock.now();
  const sentAt = row.sentAt ?? now;
  const nobodyHolds = await parts.holders.nobodyHolds([row.sentBy, row.uncertainBy], sentAt);
  const use = {
    since: row.uncertainSince ?? sentAt,
    sentAt,
    nobodyHolds,
    contactSince: parts.holders.contactSince(),
    expiresAt: row.expiresAt,
    floorMs: handoutFloorMs(row),
  };
  return { waitMs: uncertainWaitMs(dialect, use, now, parts.limits, deadlineMs), nobodyHolds };
}

/** T8: makes the newest spare current where there is one. True: done, or somebody else moved on; it is being proved. */
async function promoted(parts: EngineParts, held: HeldRow, attempt: Attempt): Promise<boolean> {
  const spare = await parts.spares.newest(held.grantId);
  if (!spare) return false;
  const saved = await parts.store.save(held.grantId, promote(attempt, spare.life, spare.generation), sealTokens(parts.sealer, held.grantId, spare.tokens));
  if (saved) {
    await parts.spares.remove(held.grantId, spare.epoch);
    parts.cache.drop(held.grantId);
  }
  return true;
}

/** T2; true when the request may be sent now. */
async function armed(parts: EngineParts, grantId: string, attempt: Attempt, deadlineMs: number): Promise<boolean> {
  for (let tries = 0; tries < 3; tries += 1) {
    const startedAt = performance.now();
    const taken = await parts.store.update([grantId], arm(attempt, parts.limits, deadlineMs));
    if (taken === 0) return false;
    if (performance.now() - startedAt <= ARM_GOOD_FOR_MS) return true;
  }
  return false;
}

/** T3's outcomes to T4, T7, T8 and T9. */
async function conclude(parts: EngineParts, held: HeldRow, context: GrantContext, attempt: Attempt, outcome: TokenOutcome, sentAt: number): Promise<void> {
  const { limits, ports } = parts;
  const { grantId, row } = held;
  const evidence = evidenceText(outcome.evidence);
  const failures = row.failures;
  const waitMs = backoffMs(limits, failures, ports.random.unit());
  const fail = (transition: ReturnType<typeof release>, says: string, kind = 'renewal_failed') =>
    settle(parts, context, attempt, failures, transition, { kind, says, evidence });
  const later = (cause: RenewalCause, ms: number, says: string) => fail(release(attempt, ms, cause), says);
  switch (outcome.kind) {
    case 'tokens':
      return renewed(parts, held, context, attempt, outcome.tokens, sentAt);
    case 'unsent':
      return later('unsent', waitMs, `Nothing reached the provider (${evidence}).`);
    case 'busy':
      return later('busy', Math.max(outcome.retryAfterMs ?? 0, waitMs), `The provider asked for patience (${evidence}).`);
    case 'set_up_wrong':
      return later('set_up', limits.backoffMostMs, `The provider does not understand the renewal (${evidence}).`);
    case 'client_refused':
      await parts.clients.stop({ id: context.clientRecordId, name: context.clientName }, evidence);
      return later('client_refused', limits.stoppedTryMs * (1 + ports.random.unit()), `The provider refuses the client (${evidence}).`);
    case 'refused_grant':
      if (await promoted(parts, held, attempt)) return;
      if (row.refusedAt === null) return fail(askOnceMore(attempt, limits), `The provider refused the refresh token (${evidence}); it is asked once more.`);
      parts.cache.drop(grantId);
      return fail(needsPerson(attempt), `The provider refused the refresh token again (${evidence}): somebody must consent again.`, 'needs_person');
    case 'unclear': {
      if (!isSpendable(context.definition.dialect)) return later('unclear', waitMs, `The provider did not answer clearly (${evidence}).`);
      if (outcome.raw) await parts.spares.putRaw(grantId, attempt.epoch, attempt.generation, outcome.raw, sentAt);
      // Our own socket is dead; an earlier sender of the same token may still hold an answer.
      const seen = { ...row, sentAt, sentBy: null, uncertainSince: row.uncertainSince ?? sentAt };
      const { waitMs: again, nobodyHolds } = await uncertainty(
        parts,
        seen,
        context.definition.dialect,
        requestDeadlineMs(limits, row.expiresAt - row.issuedAt),
      );
      return fail(
        uncertain(attempt, Math.max(again, waitMs), nobodyHolds),
        `The answer did not come (${evidence}); whether the provider renewed is not known.`,
      );
    }
    default:
      outcome satisfies never;
  }
}

const LATE_ANSWERS = {
  spare: 'A late answer was put by as a spare: another one was saved first, and is being proved.',
  obsolete: 'A late answer was set aside: a newer one was saved, or the grant has ended.',
};

async function renewed(parts: EngineParts, held: HeldRow, context: GrantContext, attempt: Attempt, tokens: FreshTokens, sentAt: number): Promise<void> {
  const life = tokenLife(tokens, context.definition.dialect.assumed_life_seconds, sentAt);
  // Handed out from memory at once: the answer is good whether or not the database can take it yet.
  parts.cache.put(held.grantId, { access: tokens.access, ...life, generation: attempt.generation + 1 });
  const { dialect } = context.definition;
  const result = await parts.keeper.save(held.grantId, attempt, tokens, life, tokens.refresh !== null && dialect.reuse !== 'grace');
  const subject = `connection:${context.connectionName}`;
  if (result !== 'saved') {
    parts.cache.drop(held.grantId);
    parts.history.add({ actor: 'service', kind: `answer_${result}`, subject, says: LATE_ANSWERS[result] });
    return;
  }
  if (held.row.failures > 0) await parts.noteEvidence(held.grantId, null);
  if (context.clientHealth === 'stopped') await parts.clients.works({ id: context.clientRecordId, name: context.clientName });
  parts.history.add({
    actor: 'service',
    kind: 'renewed',
    subject,
    says: tokens.refresh ? 'Renewed; the provider replaced the refresh token.' : 'Renewed.',
    data: {
      generation: attempt.generation + 1,
      life_seconds: Math.round((life.expiresAt - life.issuedAt) / 1000),
      rotated: tokens.refresh !== null,
      after_failures: held.row.failures,
    },
  });
}

/** Writes a failed attempt: the row's transition, then the evidence; history only where the transition took hold. */
async function settle(
  parts: EngineParts,
  context: GrantContext,
  attempt: Attempt,
  failures: number,
  transition: ReturnType<typeof release>,
  event: { kind: string; says: string; evidence: string },
): Promise<void> {
  const took = await parts.store.update([context.grantId], transition);
  if (took === 0) return; // the epoch or the generation moved on: somebody else settled it
  await parts.noteEvidence(context.grantId, event.evidence);
  parts.history.add({
    actor: 'service',
    kind: event.kind,
    subject: `connection:${context.connectionName}`,
    says: event.says,
    data: { failures: failures + 1, generation: attempt.generation },
  });
}

/** A token's life counts from the moment the request was sent. */
export function tokenLife(tokens: Pick<FreshTokens, 'lifeMs'>, assumedSeconds: number, sentAt: number): TokenLife {
  const issuedAt = Math.floor(sentAt);
  return { issuedAt, expiresAt: issuedAt + Math.floor(tokens.lifeMs ?? assumedSeconds * 1000) };
}

/** What was seen, in one line: status, error code and the provider's own words, masked. */
export function evidenceText(evidence: Evidence): string {
  const parts = [
    evidence.status === null ? 'no answer' : `HTTP ${evidence.status}`,
    evidence.error,
    evidence.description ? `\u201c${evidence.description}\u201d` : null,
    evidence.reason?.replaceAll('_', ' '),
  ];
  return parts.filter(Boolean).join(', ');
}

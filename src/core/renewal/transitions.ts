import type { ConditionalUpdate, Expression } from './conditional-update.ts';
import type { RenewalLimits } from './limits.ts';
import type { TokenLife } from './plan.ts';
import type { RenewalCause } from './row.ts';

/** Names one attempt: who claimed, under which epoch, and which generation it would spend. */
export interface Attempt {
  me: string;
  claimId: string;
  epoch: number;
  generation: number;
}

const NULL: Expression = { value: null };
const sameAttempt = (a: Attempt) => [{ equal: ['epoch', a.epoch] }, { equal: ['generation', a.generation] }] as ConditionalUpdate['where'];
const notEnded: ConditionalUpdate['where'][number] = { equal: ['ended', false] };
const leaseOver: ConditionalUpdate['where'][number] = { anyOf: [[{ isNull: 'leaseUntil' }], [{ notAfterNow: ['leaseUntil', 0] }]] };

/**
 * T1: takes a due row. A token issuance may come before `next_at` only if nothing failed, nothing is uncertain, and the token that it found
 * too old (of generation `early`) is still the current one: another may have renewed it meanwhile.
 */
export function claim(me: string, claimId: string, limits: Pick<RenewalLimits, 'leaseMs'>, early: number | null = null): ConditionalUpdate {
  const due: ConditionalUpdate['where'][number] = { notAfterNow: ['nextAt', 0] };
  const calm: ConditionalUpdate['where'] = [
    { notNull: 'nextAt' },
    { equal: ['failures', 0] },
    { isNull: 'uncertainSince' },
    { isNull: 'sentEpoch' },
    { equal: ['generation', early] },
  ];
  return {
    name: 'claim',
    where: [early !== null ? { anyOf: [[due], calm] } : due, leaseOver, notEnded],
    set: {
      owner: { value: me },
      claimId: { value: claimId },
      epoch: { plus: ['epoch', 1] },
      leaseUntil: { now: limits.leaseMs },
      nextAt: { now: limits.leaseMs },
    },
  };
}

/** T2: writes down that a request is about to be sent, so that a crash leaves a trace. Only for tokens that a use may spend. */
export function arm(a: Attempt, limits: Pick<RenewalLimits, 'marginMs'>, deadlineMs: number): ConditionalUpdate {
  const sentBefore: ConditionalUpdate['where'] = [{ notNull: 'sentEpoch' }];
  return {
    name: 'arm',
    where: [...sameAttempt(a), { equal: ['claimId', a.claimId] }, notEnded, { laterThanNow: ['leaseUntil', deadlineMs + limits.marginMs] }],
    set: {
      uncertainSince: { when: sentBefore, gives: { coalesce: ['uncertainSince', 'sentAt'] }, otherwise: { column: 'uncertainSince' } },
      uncertainBy: { when: sentBefore, gives: { coalesce: ['uncertainBy', 'sentBy'] }, otherwise: { column: 'uncertainBy' } },
      sentEpoch: { value: a.epoch },
      sentBy: { value: a.me },
      sentAt: { now: 0 },
    },
  };
}

/** The client was rejected, so that nothing was spent and nobody holds an answer: the mark of T2 goes, and another secret may be tried. */
export const disarm = (a: Attempt): ConditionalUpdate => ({
  name: 'disarm',
  where: [...sameAttempt(a), { equal: ['claimId', a.claimId] }, { equal: ['sentEpoch', a.epoch] }, notEnded],
  set: { sentEpoch: NULL, sentBy: NULL },
});

/**
 * A T1 of its own: takes a row whose lease still lives from an owner that has gone silent, so that a retry comes within the
 * provider's grace although the lease outlasts it; or from one that is known to be dead, which may not have sent anything.
 */
export const takeOver = (
  me: string,
  claimId: string,
  limits: Pick<RenewalLimits, 'leaseMs'>,
  former: { owner: string; isDead: boolean },
): ConditionalUpdate => ({
  ...claim(me, claimId, limits),
  name: 'take over',
  where: [
    { equal: ['owner', former.owner] },
    ...(former.isDead ? [] : [{ notNull: 'sentEpoch' } as const]),
    { laterThanNow: ['leaseUntil', 0] },
    { notNull: 'nextAt' },
    notEnded,
  ],
});

/**
 * T4: saves an answer under the generation it spent, lease or no lease. The store adds the sealed tokens to the same statement.
 * `nextAt` null: there is no refresh token, so nothing is left to renew with.
 */
export function save(a: Pick<Attempt, 'epoch' | 'generation'>, life: TokenLife, nextAt: number | null): ConditionalUpdate {
  const stillMine: ConditionalUpdate['where'] = [{ equal: ['epoch', a.epoch] }];
  const plan: Expression = nextAt === null ? NULL : { instant: nextAt };
  return {
    name: 'save',
    where: [{ equal: ['generation', a.generation] }, notEnded],
    set: {
      generation: { value: a.generation + 1 },
      parentGeneration: { value: a.generation },
      savedEpoch: { value: a.epoch },
      failures: { value: 0 },
      cause: NULL,
      refusedAt: NULL,
      uncertainSince: NULL,
      uncertainBy: NULL,
      sentEpoch: NULL,
      sentBy: NULL,
      leaseUntil: { when: stillMine, gives: NULL, otherwise: { column: 'leaseUntil' } },
      nextAt: { when: stillMine, gives: plan, otherwise: { now: 0 } },
      issuedAt: { instant: life.issuedAt },
      expiresAt: { instant: life.expiresAt },
    },
  };
}

/**
 * T8: the current token was rejected and a spare is left. It becomes current, as if it were the answer to our own attempt, and is
 * verified at once.
 */
export function promote(a: Attempt, life: TokenLife, spareGeneration: number): ConditionalUpdate {
  const saved = save(a, life, null);
  return { ...saved, name: 'promote', set: { ...saved.set, parentGeneration: { value: spareGeneration }, leaseUntil: NULL, nextAt: { now: 0 } } };
}

/**
 * T12: the database went back, and has lost this answer. It is saved again where what the database has is older. The epoch never falls below
 * one that was used: with the grant it names an attempt.
 */
export function putBack(answer: Pick<Attempt, 'epoch' | 'generation'>, life: TokenLife, nextAt: number | null): ConditionalUpdate {
  const { set } = save({ epoch: answer.epoch, generation: answer.generation - 1 }, life, nextAt);
  return {
    name: 'put back',
    where: [{ below: ['generation', answer.generation + 1] }, notEnded],
    set: {
      ...set,
      epoch: { when: [{ below: ['epoch', answer.epoch] }], gives: { value: answer.epoch }, otherwise: { column: 'epoch' } },
      owner: NULL,
      leaseUntil: NULL,
      nextAt: nextAt === null ? NULL : { instant: nextAt },
    },
  };
}

/** T6: a spare was put by; the current token is to be verified now, also when a person was already needed. */
export const verifyNow = (): ConditionalUpdate => ({ name: 'verify now', where: [notEnded, leaseOver], set: { nextAt: { now: 0 } } });

/** T7: nothing was spent; try again after `backoffMs`. What was uncertain stays so: a failed retry settles nothing. */
export const release = (a: Attempt, backoffMs: number, cause: RenewalCause): ConditionalUpdate => ({
  name: 'release',
  where: [...sameAttempt(a), notEnded],
  set: { sentEpoch: NULL, sentBy: NULL, leaseUntil: NULL, failures: { plus: ['failures', 1] }, nextAt: { now: backoffMs }, cause: { value: cause } },
});

/** Gives back a claim that was not used (client stopped, arm not possible): no failure is counted. */
export const giveBack = (a: Attempt, waitMs: number, cause: RenewalCause | null): ConditionalUpdate => ({
  name: 'give back',
  where: [...sameAttempt(a), { equal: ['claimId', a.claimId] }, notEnded],
  set: { leaseUntil: NULL, nextAt: { now: waitMs }, cause: cause === null ? { column: 'cause' } : { value: cause } },
});

/** T8, first rejection of a refresh token: it is asked once more before a person is troubled. */
export const askOnceMore = (a: Attempt, limits: Pick<RenewalLimits, 'confirmMs'>): ConditionalUpdate => ({
  name: 'ask once more',
  where: [...sameAttempt(a), notEnded, { isNull: 'refusedAt' }],
  set: {
    refusedAt: { now: 0 },
    sentBy: NULL,
    sentEpoch: NULL,
    leaseUntil: NULL,
    failures: { plus: ['failures', 1] },
    nextAt: { now: limits.confirmMs },
    cause: { value: 'refused' },
  },
});

/** T8, confirmed: a person is needed. The grant is not ended: a late answer may still bring it back. */
export const actionNeeded = (a: Attempt): ConditionalUpdate => ({
  name: 'needs person',
  where: [...sameAttempt(a), notEnded, { notNull: 'refusedAt' }],
  set: {
    sentBy: NULL,
    sentEpoch: NULL,
    leaseUntil: NULL,
    nextAt: NULL,
    failures: { plus: ['failures', 1] },
    cause: { when: [{ notNull: 'uncertainSince' }], gives: { value: 'lost_in_flight' }, otherwise: { value: 'refused' } },
  },
});

/**
 * T9: the request went, the answer did not come. `waitMs` counts from now. `sent_by` stays while someone may hold the answer.
 */
export const uncertain = (a: Attempt, waitMs: number, nobodyHolds: boolean): ConditionalUpdate => ({
  name: 'uncertain',
  where: [...sameAttempt(a), notEnded],
  set: {
    sentEpoch: NULL,
    uncertainSince: { coalesce: ['uncertainSince', 'sentAt'] },
    uncertainBy: { coalesce: ['uncertainBy', 'sentBy'] },
    sentBy: nobodyHolds ? NULL : { column: 'sentBy' },
    leaseUntil: NULL,
    failures: { plus: ['failures', 1] },
    nextAt: { now: waitMs },
    cause: { value: 'unclear' },
  },
});

/** T10 for a row whose owner or sender is a former life of this instance: nobody holds its answer any more. */
export function recover(waitMs: number): ConditionalUpdate {
  const sent: ConditionalUpdate['where'] = [{ notNull: 'sentEpoch' }];
  return {
    name: 'recover',
    where: [notEnded, { notNull: 'nextAt' }],
    set: {
      uncertainSince: { when: sent, gives: { coalesce: ['uncertainSince', 'sentAt'] }, otherwise: { column: 'uncertainSince' } },
      uncertainBy: { when: sent, gives: { coalesce: ['uncertainBy', 'sentBy'] }, otherwise: { column: 'uncertainBy' } },
      sentEpoch: NULL,
      sentBy: NULL,
      owner: NULL,
      leaseUntil: NULL,
      nextAt: { now: waitMs },
    },
  };
}

/** "Renew now", and after a stopped client works again: brings the next renewal forward, but never past an uncertain wait. */
export const bringForward = (waitMs = 0): ConditionalUpdate => ({
  name: 'bring forward',
  where: [notEnded, { notNull: 'nextAt' }, leaseOver, { isNull: 'uncertainSince' }, { isNull: 'sentEpoch' }],
  set: { nextAt: { now: waitMs } },
});

/** The policy changed, or it was paused: plans the next renewal again, where nothing else decides when that is. */
export const reschedule = (nextAt: number): ConditionalUpdate => ({
  ...bringForward(),
  name: 'plan again',
  where: [...bringForward().where, { equal: ['failures', 0] }],
  set: { nextAt: { instant: nextAt } },
});

/** The grant was replaced, revoked or removed. */
export const end = (): ConditionalUpdate => ({ name: 'end', where: [notEnded], set: { ended: { value: true }, nextAt: NULL, leaseUntil: NULL } });

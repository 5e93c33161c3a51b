import fc from 'fast-check';
import { expect, test } from 'vitest';
import type { Dialect } from '../provider/definition.ts';
import { PLAIN_DIALECT } from '../provider/dialect.ts';
import { applyUpdate } from './conditional-update.ts';
import { DEFAULT_LIMITS } from './limits.ts';
import { backoffMs, issuanceFloorMs, nextRenewalAt, POLICIES, planRenewal, requestDeadlineMs } from './plan.ts';
import { firstRow, type RenewalRow, rowState } from './row.ts';
import { type Attempt, actionNeeded, arm, askOnceMore, bringForward, claim, end, recover, release, save, uncertain } from './transitions.ts';
import { uncertainWaitMs } from './uncertain-wait.ts';

const DAY = 86_400_000;
const spread = fc.double({ min: 0, max: 0.999, noNaN: true });

test('a renewal is due between 70 and 80 % of the lifetime, well before the token issuance floor', () => {
  fc.assert(
    fc.property(fc.integer({ min: 1_000, max: 1e10 }), fc.integer({ min: 0, max: 1e12 }), spread, (lifeMs, issuedAt, u) => {
      const life = { issuedAt, expiresAt: issuedAt + lifeMs };
      const at = planRenewal(life, u);
      expect(at).toBeGreaterThanOrEqual(Math.floor(issuedAt + lifeMs * 0.7));
      expect(at).toBeLessThanOrEqual(issuedAt + lifeMs * 0.8);
      expect(at).toBeLessThanOrEqual(life.expiresAt - issuanceFloorMs(life));
    }),
  );
});

test('a connection is renewed in time while it is wanted, and never later than half of what its refresh token may lie idle', () => {
  const need = fc.record({
    policy: fc.constantFrom(...POLICIES),
    paused: fc.boolean(),
    lastUsedAt: fc.option(fc.integer({ min: -40 * DAY, max: 0 }), { nil: null }),
  });
  const idle = fc.option(fc.integer({ min: 3_600, max: 90 * 86_400 }), { nil: undefined });
  fc.assert(
    fc.property(fc.integer({ min: 60_000, max: 10 * DAY }), need, idle, spread, (lifeMs, wanted, idleSeconds, u) => {
      const life = { issuedAt: 0, expiresAt: lifeMs };
      const at = nextRenewalAt(life, wanted, { idle_life_seconds: idleSeconds }, u);
      expect(at).toBeGreaterThan(0);
      if (idleSeconds !== undefined) expect(at).toBeLessThanOrEqual(idleSeconds * 500);
      const kept = !wanted.paused && wanted.policy === 'always';
      if (kept || (!wanted.paused && wanted.policy === 'when_used' && wanted.lastUsedAt !== null && wanted.lastUsedAt > -30 * DAY))
        expect(at).toBeLessThanOrEqual(lifeMs * 0.8);
      else expect(at).toBeGreaterThanOrEqual(Math.min(idleSeconds === undefined ? 6.2 * DAY : idleSeconds * 440, lifeMs * 0.7));
    }),
  );
});

test('five thousand tokens of one instant come due spread over a tenth of their life', () => {
  const at = Array.from({ length: 5_000 }, (_one, n) => planRenewal({ issuedAt: 0, expiresAt: 1_000_000 }, (n * 0.618034) % 1));
  const slots = Array.from({ length: 10 }, (_one, slot) => at.filter((due) => due >= 700_000 + slot * 10_000 && due < 710_000 + slot * 10_000).length);
  expect(Math.max(...slots) - Math.min(...slots)).toBeLessThan(100);
});

test('back-off grows, stays below its ceiling, and never hits at once', () => {
  fc.assert(
    fc.property(fc.nat({ max: 200 }), spread, (failures, u) => {
      const ms = backoffMs(DEFAULT_LIMITS, failures, u);
      expect(ms).toBeGreaterThanOrEqual(DEFAULT_LIMITS.backoffBaseMs / 10);
      expect(ms).toBeLessThanOrEqual(DEFAULT_LIMITS.backoffMostMs);
    }),
  );
  expect(requestDeadlineMs(DEFAULT_LIMITS, 8_000)).toBe(5_000);
  expect(requestDeadlineMs(DEFAULT_LIMITS, 3_600_000)).toBe(20_000);
});

const grace: Dialect = { ...PLAIN_DIALECT, rotation: 'each_use', reuse: 'grace', reuse_grace_seconds: 30 };
test.each([
  { name: 'within the grace: at once', dialect: grace, ago: 5_000, wait: 0 },
  { name: 'an answer would come after the grace: one lease after sending', dialect: grace, ago: 25_000, wait: 35_000 },
  { name: 'long ago: at once', dialect: grace, ago: 100_000, wait: 0 },
  { name: 'not rotating: at once', dialect: { ...grace, rotation: 'never' as const }, ago: 1, wait: 0 },
  { name: 'second use only rejected: at once', dialect: { ...grace, reuse: 'refused' as const }, ago: 1, wait: 0 },
  { name: 'second use kills the grant: one lease after sending', dialect: { ...grace, reuse: 'kills_grant' as const }, ago: 1_000, wait: 59_000 },
])('uncertain, $name', ({ dialect, ago, wait }) =>
  expect(
    uncertainWaitMs(dialect, { since: 1e6 - ago, sentAt: 1e6 - ago, nobodyHolds: true, contactSince: 0, expiresAt: 2e6, floorMs: 60_000 }, 1e6, {
      limits: DEFAULT_LIMITS,
      deadlineMs: 20_000,
    }),
  ).toBe(wait),
);

/** A few seconds of the lifetime of one row, by random transitions of two replicas in random order. */
const START = firstRow({ issuedAt: 0, expiresAt: 3_600_000 }, 0);
const limits = { ...DEFAULT_LIMITS, leaseMs: 60, marginMs: 5, confirmMs: 20 };
const step = fc.record({
  who: fc.constantFrom('r1', 'r2'),
  act: fc.constantFrom('claim', 'arm', 'save', 'release', 'refused', 'needs', 'uncertain', 'recover', 'forward', 'end'),
  afterMs: fc.nat({ max: 80 }),
});

test('two replicas in any order: one attempt holds the lease, answers count once, and a save needs the generation it spent', () => {
  fc.assert(
    fc.property(fc.array(step, { maxLength: 60 }), (steps) => {
      let [row, now] = [START, 0];
      const attempts: Record<string, Attempt | undefined> = {};
      for (const { who, act, afterMs } of steps) {
        now += afterMs;
        const before = row;
        const mine = attempts[who];
        const transition = {
          claim: () => claim(who, `${who}-${now}`, limits),
          arm: () => mine && arm(mine, limits, 10),
          save: () => mine && save(mine, { issuedAt: now, expiresAt: now + 1000 }, now + 700),
          release: () => mine && release(mine, 30, 'unsent'),
          refused: () => mine && askOnceMore(mine, limits),
          needs: () => mine && actionNeeded(mine),
          uncertain: () => mine && uncertain(mine, 10, true),
          recover: () => recover(0),
          forward: () => bringForward(),
          end: () => (steps.length % 7 === 0 ? end() : undefined),
        }[act]();
        const after = transition ? applyUpdate(transition, row, now) : null;
        if (!after) continue;
        row = after;
        if (act === 'claim') {
          expect(before.leaseUntil === null || before.leaseUntil <= now).toBe(true);
          expect(before.ended || before.nextAt === null).toBe(false);
          attempts[who] = { me: who, claimId: row.claimId ?? '', epoch: row.epoch, generation: row.generation };
        }
        if (act === 'arm') expect([row.sentEpoch, row.sentBy, (row.leaseUntil ?? 0) - now > 15]).toEqual([row.epoch, who, true]);
        if (act === 'arm' && before.sentEpoch !== null) expect(row.uncertainSince).not.toBeNull();
        if (act === 'save') expect([before.generation, row.generation]).toEqual([mine?.generation, (mine?.generation ?? 0) + 1]);
        else expect(row.generation).toBe(before.generation);
        if (before.uncertainSince !== null && act !== 'save') expect(row.uncertainSince).toBe(before.uncertainSince);
        expect(row.epoch).toBe(before.epoch + (act === 'claim' ? 1 : 0));
        if (before.ended) expect(row).toEqual(before);
        expect(rowState(row, now)).toMatch(/^(ended|action_needed|sent|claimed|uncertain|idle)$/);
      }
    }),
    { numRuns: 2_000 },
  );
});

test('a person is needed only after the rejection was confirmed, and the cause tells lost from rejected', () => {
  const attempt: Attempt = { me: 'r1', claimId: 'c', epoch: 0, generation: 1 };
  expect(applyUpdate(actionNeeded(attempt), START, 1)).toBeNull();
  expect(applyUpdate(actionNeeded(attempt), { ...START, refusedAt: 1 }, 1)).toMatchObject({ nextAt: null, cause: 'refused', ended: false });
  expect(applyUpdate(actionNeeded(attempt), { ...START, refusedAt: 1, uncertainSince: 1 }, 1)).toMatchObject({ cause: 'lost_in_flight' });
});

test('a late answer after action_needed still comes in, if nothing newer was saved', () => {
  const late: Attempt = { me: 'r1', claimId: 'c', epoch: 3, generation: 1 };
  const waiting: RenewalRow = { ...START, epoch: 4, nextAt: null, refusedAt: 1, cause: 'lost_in_flight' };
  expect(applyUpdate(save(late, { issuedAt: 0, expiresAt: 9 }, 5), waiting, 7)).toMatchObject({ generation: 2, nextAt: 7, cause: null });
  expect(applyUpdate(save(late, { issuedAt: 0, expiresAt: 9 }, 5), { ...waiting, generation: 2 }, 7)).toBeNull();
});

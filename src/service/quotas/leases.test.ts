import fc from 'fast-check';
import { expect, test } from 'vitest';
import type { Quota } from '../../core/provider/api.ts';
import { type QuotaUse, quotaLeases } from './leases.ts';

const HOUR_MS = 3_600_000;
const quota = { window: 'hour', unit: 'calls', of: 'client', most: 0, zone: 'UTC' } as unknown as Quota;

/** A database with the rows of all replicas, and replicas that lease from it. */
function world(replicas: number) {
  const rows = new Map<string, { used: number; heldUntil: number | null }>();
  const clock = { at: 10 * HOUR_MS };
  const at = ({ scope, startAt }: { scope: string; startAt: number }) => `${scope} ${startAt}`;
  const store = {
    read: async (window: { scope: string; startAt: number }) => rows.get(at(window)) ?? null,
    start: async (window: { scope: string; startAt: number }) => void rows.set(at(window), rows.get(at(window)) ?? { used: 0, heldUntil: null }),
    async take(window: { scope: string; startAt: number }, chunk: number, seen: number) {
      const row = rows.get(at(window));
      if (!row || row.used !== seen) return false;
      row.used += chunk;
      return true;
    },
    async giveBack(window: { scope: string; startAt: number }, count: number) {
      const row = rows.get(at(window));
      if (row) row.used -= count;
    },
    deleteOld: async () => undefined,
  };
  const ports = { clock: { now: () => clock.at }, log: { warn: () => undefined, debug: () => undefined } };
  return { rows, clock, each: Array.from({ length: replicas }, () => quotaLeases({ store: store as never, ports: ports as never })) };
}
const use = (scope: string, most: number, cost = 1): QuotaUse => ({ scope, quota, most, cost });

test('whatever replicas and calls do: no window gives more than it has, from memory or not, and a stop gives the rest back', async () => {
  const step = fc.record({ replica: fc.nat(2), cost: fc.integer({ min: 1, max: 4 }), both: fc.boolean(), fromMemory: fc.boolean() });
  await fc.assert(
    fc.asyncProperty(fc.integer({ min: 1, max: 60 }), fc.integer({ min: 1, max: 60 }), fc.array(step, { maxLength: 80 }), async (wide, narrow, steps) => {
      const { rows, each } = world(3);
      const spent = { wide: 0, narrow: 0 };
      for (const { replica, cost, both, fromMemory } of steps) {
        const uses = [use('wide', wide, cost), ...(both ? [use('narrow', narrow, cost)] : [])];
        const one = each[replica] as (typeof each)[number];
        const took = fromMemory ? one.takeLeased(uses) : (await one.tryTake(uses)) === 0;
        if (!took) continue;
        spent.wide += cost;
        if (both) spent.narrow += cost;
      }
      expect(spent.wide).toBeLessThanOrEqual(wide);
      expect(spent.narrow).toBeLessThanOrEqual(narrow);
      for (const one of each) await one.giveBack();
      const used = (scope: string) => [...rows].filter(([name]) => name.startsWith(scope)).reduce((sum, [, row]) => sum + row.used, 0);
      expect([used('wide'), used('narrow')]).toEqual([spent.wide, spent.narrow]);
    }),
  );
});

test('from memory: all windows of a call or none; nothing while the provider asked to wait, and nothing of a window that is over', async () => {
  const { clock, each } = world(1);
  const [one] = each as [(typeof each)[number]];
  expect(one.takeLeased([use('a', 1_000)])).toBe(false); // nothing is leased yet
  expect(await one.tryTake([use('a', 1_000)])).toBe(0);
  const left = one.unspent('a');
  expect(left).toBeGreaterThan(0);
  expect(one.takeLeased([use('a', 1_000), use('b', 1_000)])).toBe(false); // of b nothing is leased
  expect(one.unspent('a')).toBe(left);
  expect(one.takeLeased([use('a', 1_000)])).toBe(true);
  expect(one.unspent('a')).toBe(left - 1);
  one.stateOf(use('a', 1_000), clock.at).heldUntil = clock.at + 1;
  expect(one.takeLeased([use('a', 1_000)])).toBe(false);
  clock.at += HOUR_MS;
  expect([one.takeLeased([use('a', 1_000)]), one.unspent('a')]).toEqual([false, 0]);
});

import { randomUUID } from 'node:crypto';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { applyUpdate, type ConditionalUpdate } from '../src/core/renewal/conditional-update.ts';
import { DEFAULT_LIMITS } from '../src/core/renewal/limits.ts';
import { firstRow, type RenewalRow } from '../src/core/renewal/row.ts';
import * as t from '../src/core/renewal/transitions.ts';
import { type Database, openDatabase } from '../src/service/store/database.ts';
import { migrate } from '../src/service/store/migrate.ts';
import { type RenewalStore, renewalStore } from '../src/service/store/renewals.ts';
import { newDatabase } from './support/new-database.ts';

let [database, store]: [Database, RenewalStore] = [] as never;
beforeAll(async () => {
  database = openDatabase(await newDatabase(), 4);
  await migrate(database, randomUUID());
  store = renewalStore(database);
});
afterAll(() => database.close());

const NOW = Date.now();
const CLIENT = randomUUID();
/** Far enough from now that the few ms between our clock and the database's do not matter. */
const instant = fc.constantFrom(NOW - 3_600_000, NOW - 60_000, NOW + 60_000, NOW + 3_600_000);
const maybe = <T>(one: fc.Arbitrary<T>) => fc.option(one, { nil: null });
const id = fc.constantFrom('00000000-0000-7000-8000-000000000001', '00000000-0000-7000-8000-000000000002');
const small = fc.integer({ min: 0, max: 3 });
const anyRow: fc.Arbitrary<RenewalRow> = fc.record({
  nextAt: maybe(instant),
  owner: maybe(id),
  claimId: maybe(id),
  epoch: small,
  leaseUntil: maybe(instant),
  sentEpoch: maybe(small),
  sentBy: maybe(id),
  sentAt: maybe(instant),
  uncertainSince: maybe(instant),
  uncertainBy: maybe(id),
  refusedAt: maybe(instant),
  generation: small,
  parentGeneration: maybe(small),
  savedEpoch: maybe(small),
  failures: small,
  ended: fc.boolean(),
  cause: maybe(fc.constantFrom('refused' as const, 'unsent' as const)),
  issuedAt: instant,
  expiresAt: instant,
});
const attempt = fc.record({ me: id, claimId: id, epoch: small, generation: small });
const anyTransition: fc.Arbitrary<ConditionalUpdate> = fc.oneof(
  fc.tuple(id, id, maybe(small)).map(([me, claimId, early]) => t.claim(me, claimId, DEFAULT_LIMITS, early)),
  attempt.map((a) => t.arm(a, DEFAULT_LIMITS, 1_000)),
  fc.tuple(attempt, maybe(instant)).map(([a, nextAt]) => t.save(a, { issuedAt: NOW, expiresAt: NOW + 60_000 }, nextAt)),
  attempt.map((a) => t.release(a, 500, 'unclear')),
  attempt.map((a) => t.giveBack(a, 500, null)),
  attempt.map((a) => t.askOnceMore(a, DEFAULT_LIMITS)),
  attempt.map((a) => t.actionNeeded(a)),
  attempt.map((a) => t.uncertain(a, 500, a.epoch > 1)),
  fc.tuple(id, id, id, fc.boolean()).map(([me, claimId, owner, isDead]) => t.takeOver(me, claimId, DEFAULT_LIMITS, { owner, isDead })),
  attempt.map((a) => t.promote(a, { issuedAt: NOW, expiresAt: NOW + 60_000 }, 1)),
  fc.constant(t.verifyNow()),
  fc.constant(t.recover(0)),
  fc.constant(t.bringForward()),
  fc.constant(t.end()),
);
const INSTANTS = ['nextAt', 'leaseUntil', 'sentAt', 'uncertainSince', 'refusedAt', 'issuedAt', 'expiresAt'] as const;

const plain = (one: RenewalRow) => Object.fromEntries(Object.entries(one).filter(([column]) => !INSTANTS.includes(column as never)));
function expectRow(stored: RenewalRow | undefined, expected: RenewalRow): void {
  if (!stored) throw new Error('the row is gone');
  expect(plain(stored)).toEqual(plain(expected));
  for (const column of INSTANTS) {
    const [is, wanted] = [stored[column], expected[column]];
    if (wanted === null || is === null) expect(is, column).toBe(wanted);
    else expect(Math.abs(is - wanted), column).toBeLessThan(5_000);
  }
}

test('every transition does in MariaDB what it does in memory', async () => {
  await fc.assert(
    fc.asyncProperty(anyRow, anyTransition, async (row, transition) => {
      const grantId = randomUUID();
      await store.insert(grantId, CLIENT, row, { accessSealed: Buffer.from('a'), refreshSealed: null });
      const took = await store.update([grantId], transition);
      const expected = applyUpdate(transition, row, Date.now()) ?? row;
      expectRow((await store.read(grantId))?.row, expected);
      if (applyUpdate(transition, row, Date.now()) === null) expect(took).toBe(0);
    }),
    { numRuns: 400 },
  );
});

const armOrSave = fc.oneof(
  attempt.map((a) => ({ arms: true, transition: t.arm(a, DEFAULT_LIMITS, 1_000) })),
  fc.tuple(attempt, maybe(instant)).map(([a, nextAt]) => ({ arms: false, transition: t.save(a, { issuedAt: NOW, expiresAt: NOW + 60_000 }, nextAt) })),
);
/** Rows that arms and saves often fit. */
const likelyRow = anyRow.map((row) => ({
  ...row,
  ended: false,
  epoch: 1,
  generation: 1,
  savedEpoch: null,
  sentEpoch: row.sentEpoch === 1 ? 0 : row.sentEpoch,
  leaseUntil: NOW + 3_600_000,
  claimId: '00000000-0000-7000-8000-000000000001',
}));

test('many rows in one statement: each gets its own values under its own condition, and whoever asked learns how its own went', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(fc.tuple(likelyRow, armOrSave, fc.boolean()), { minLength: 2, maxLength: 24 }), async (asked) => {
      const rows = await Promise.all(
        asked.map(async ([row, { arms, transition }, withRefresh], at) => {
          const grantId = randomUUID();
          await store.insert(grantId, CLIENT, row, { accessSealed: Buffer.from('a'), refreshSealed: Buffer.from('r') });
          return { grantId, row, arms, transition, tokens: { accessSealed: Buffer.from(`a${at}`), refreshSealed: withRefresh ? Buffer.from(`r${at}`) : null } };
        }),
      );
      const took = await Promise.all(
        rows.map(({ grantId, arms, transition, tokens }) => (arms ? store.arm(grantId, transition) : store.save(grantId, transition, tokens))),
      );
      for (const [at, { grantId, row, arms, transition, tokens }] of rows.entries()) {
        const wanted = applyUpdate(transition, row, Date.now());
        expect(took[at]).toBe(wanted !== null);
        const stored = await store.read(grantId);
        expectRow(stored?.row, wanted ?? row);
        const saved = wanted !== null && !arms;
        expect(stored?.accessSealed.toString()).toBe(saved ? `a${at}` : 'a');
        expect(stored?.refreshSealed?.toString()).toBe(saved && tokens.refreshSealed ? `r${at}` : 'r');
      }
    }),
    { numRuns: 40 },
  );
});

test('due rows of clients that are closed are left out', async () => {
  const [mine, other] = [randomUUID(), randomUUID()];
  const due = async (client: string) => {
    const grantId = randomUUID();
    await store.insert(grantId, client, firstRow({ issuedAt: NOW, expiresAt: NOW }, NOW - 1000), { accessSealed: Buffer.from('a'), refreshSealed: null });
    return grantId;
  };
  const [a, b] = [await due(mine), await due(other)];
  const ids = await store.dueIds(50_000, [other]);
  expect([ids.includes(a), ids.includes(b), (await store.dueIds(50_000)).includes(b)]).toEqual([true, false, true]);
});

test('a save takes its tokens along or does nothing at all', async () => {
  const grantId = randomUUID();
  const row = { ...firstRow({ issuedAt: NOW, expiresAt: NOW }, NOW), epoch: 1 };
  await store.insert(grantId, CLIENT, row, { accessSealed: Buffer.from('a1'), refreshSealed: Buffer.from('r1') });
  const a = { me: randomUUID(), claimId: randomUUID(), epoch: 1, generation: 1 };
  const saveIt = (name: string) =>
    store.save(grantId, t.save(a, { issuedAt: NOW, expiresAt: NOW + 1 }, NOW), {
      accessSealed: Buffer.from(`a${name}`),
      refreshSealed: Buffer.from(`r${name}`),
    });
  const won = await Promise.all(['2', '3', '4', '5'].map(saveIt));
  expect(won.filter(Boolean)).toHaveLength(1);
  const name = String(won.indexOf(true) + 2);
  expect(await store.read(grantId)).toMatchObject({ accessSealed: Buffer.from(`a${name}`), refreshSealed: Buffer.from(`r${name}`), row: { generation: 2 } });
});

test('of many that claim one due row at once, one gets it', async () => {
  const grantId = randomUUID();
  await store.insert(grantId, CLIENT, firstRow({ issuedAt: NOW, expiresAt: NOW }, NOW - 1000), { accessSealed: Buffer.from('a'), refreshSealed: null });
  expect(await store.dueIds(50_000)).toContain(grantId);
  const taken = await Promise.all(Array.from({ length: 12 }, () => store.update([grantId], t.claim(randomUUID(), randomUUID(), DEFAULT_LIMITS))));
  expect(taken.reduce((sum, one) => sum + one, 0)).toBe(1);
});

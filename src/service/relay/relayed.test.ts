import fc from 'fast-check';
import { expect, test } from 'vitest';
import { Fault } from '../../core/fault.ts';
import type { RelayedStore } from '../store/relayed.ts';
import { relayed } from './relayed.ts';

type Counts = Parameters<RelayedStore['count']>[0];
type Lasts = Parameters<RelayedStore['keep']>[0];
const AT = Date.UTC(2026, 10, 29, 12, 30);

/** A store that adds up what it is given, after so many failures of each kind. */
function storeOf(fails: (statement: { counts?: Counts; lasts?: Lasts }) => unknown) {
  const counts = new Map<string, number>();
  const lasts = new Map<string, number | null>();
  let statements = 0;
  const attempt = (statement: { counts?: Counts; lasts?: Lasts }): void => {
    statements += 1;
    const fault = fails(statement);
    if (fault) throw fault;
  };
  const store = {
    async count(rows: Counts) {
      attempt({ counts: rows });
      for (const one of rows) {
        const key = `${one.connectionId} ${new Date(one.hour).toISOString()} ${one.group}`;
        counts.set(key, (counts.get(key) ?? 0) + one.count);
      }
    },
    async keep(rows: Lasts) {
      attempt({ lasts: rows });
      for (const one of rows) lasts.set(`${one.connectionId} ${one.kind}`, one.status);
    },
  };
  return { store: store as unknown as RelayedStore, counts, lasts, statements: () => statements };
}
const ports = { clock: { now: () => AT }, log: { debug: () => undefined } } as never;
const connection = (id: string) => ({ id, scope: '', setUp: { definition: { dialect: {}, scopes: {} } } });
const call = (of: ReturnType<typeof connection>) => ({
  caller: { id: 'board' },
  connection: of,
  api: { base_url: 'https://api.test' },
  method: 'GET',
  path: '/x',
});
const done = { end: 'done' as const, status: 200, bytes: 1 };

test('two statements, however many connections were called; another object of the same connection adds up', async () => {
  const { store, counts, lasts, statements } = storeOf(() => null);
  const notes = relayed({ store, ports });
  for (let n = 0; n < 90; n += 1) notes.note(call(connection(`k${n % 45}`)) as never, done);
  await notes.stop();
  expect(statements()).toBe(2);
  expect([counts.size, counts.get('k7 2026-11-29T12:00:00.000Z 2'), lasts.get('k7 last'), lasts.has('k7 failed')]).toEqual([45, 2, 200, false]);
});

test('whatever fails and comes back: every call is counted once, and one row that does not fit harms no other', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.nat(4), { minLength: 1, maxLength: 30 }),
      fc.array(fc.boolean(), { maxLength: 3 }),
      fc.boolean(),
      async (called, away, badRow) => {
        const failures = [...away];
        const { store, counts } = storeOf(({ lasts }) => {
          if (failures.shift()) return new Fault('DATABASE_UNAVAILABLE');
          return badRow && lasts?.some((one) => one.connectionId === 'k0') ? new Error('does not fit') : null;
        });
        const notes = relayed({ store, ports });
        const all = Array.from({ length: 5 }, (_none, n) => connection(`k${n}`));
        for (const n of called) notes.note(call(all[n] as never) as never, done);
        for (let turn = 0; turn < 4; turn += 1) await notes.stop(); // writes what waits
        for (let n = badRow ? 1 : 0; n < 5; n += 1) expect(counts.get(`k${n} 2026-11-29T12:00:00.000Z 2`) ?? 0).toBe(called.filter((one) => one === n).length);
      },
    ),
    { numRuns: 200 },
  );
});

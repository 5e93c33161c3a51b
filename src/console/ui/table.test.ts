import { expect, test } from 'vitest';
import { TableState } from './table.svelte.ts';

interface Row {
  name: string;
  count: number;
}
const ROWS: Row[] = [
  { name: 'berths', count: 2 },
  { name: 'sailings', count: 7 },
  { name: 'ledger', count: 2 },
];
const table = () =>
  new TableState<Row>(
    [
      { key: 'name', label: 'Name', sortBy: (row) => row.name },
      { key: 'count', label: 'Count', sortBy: (row) => row.count },
      { key: 'plain', label: 'Not sorted' },
    ],
    (row) => row.name,
  );
const names = (rows: readonly Row[]) => rows.map((row) => row.name);

test('a press on a head sorts, a second one turns the order, a third one gives the rows as they came', () => {
  const state = table();
  const seen = [1, 2, 3].map(() => {
    state.sortBy('name');
    return names(state.ordered(ROWS));
  });
  expect(seen).toEqual([
    ['berths', 'ledger', 'sailings'],
    ['sailings', 'ledger', 'berths'],
    ['berths', 'sailings', 'ledger'],
  ]);
});

test('equal rows stay as they came, another column starts ascending, and a column without an order changes nothing', () => {
  const state = table();
  state.sortBy('name');
  state.sortBy('count');
  expect(names(state.ordered(ROWS))).toEqual(['berths', 'ledger', 'sailings']);
  state.sortBy('plain');
  expect(state.ordered(ROWS)).toBe(ROWS);
});

test('a selection holds over new answers, all of it is taken back at once, and what is not shown is not acted on', () => {
  const state = table();
  const [first] = ROWS as [Row, ...Row[]];
  state.toggle(first);
  expect(state.selected([{ ...first, count: 9 }])).toEqual(['berths']);
  expect(state.selected(ROWS.slice(1))).toEqual([]);
  state.toggleAll(ROWS);
  expect(state.selected(ROWS)).toHaveLength(3);
  state.toggle(first);
  expect(state.selected(ROWS)).toEqual(['sailings', 'ledger']);
  state.toggleAll(ROWS);
  state.toggleAll(ROWS);
  expect(state.selected(ROWS)).toEqual([]);
});

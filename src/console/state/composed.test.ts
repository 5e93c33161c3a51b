import { expect, test } from 'vitest';
import type { OfferedOperation } from '../../api/trying.ts';
import { Composed, tableOf } from './composed.svelte.ts';

test.each([
  {
    name: 'a list at the top',
    value: [
      { a: 1, b: null },
      { b: 'x', c: { d: 2 } },
    ],
    is: {
      at: '',
      columns: ['a', 'b', 'c'],
      rows: [
        { a: '1', b: '', c: '' },
        { a: '', b: 'x', c: '{"d":2}' },
      ],
    },
  },
  {
    name: 'a list at a member, the first of two',
    value: { total: 3, rows: [{ id: 7 }], more: [{ id: 8 }] },
    is: { at: 'rows', columns: ['id'], rows: [{ id: '7' }] },
  },
  { name: 'a list of texts', value: ['a', 'b'], is: null },
  { name: 'a list that mixes records and texts', value: [{ a: 1 }, 'b'], is: null },
  { name: 'lists in a list', value: [[1], [2]], is: null },
  { name: 'an empty list', value: { rows: [] }, is: null },
  { name: 'nothing', value: null, is: null },
  { name: 'a text', value: 'hello', is: null },
])('records as a table: $name', ({ value, is }) => expect(tableOf(value)).toEqual(is));

test('a table has at most twelve columns, those of the first fifty records', () => {
  const wide = Object.fromEntries(Array.from({ length: 20 }, (_one, at) => [`c${at}`, at]));
  const rows = Array.from({ length: 60 }, (_one, at) => (at < 50 ? { id: at } : { id: at, late: true }));
  expect([tableOf([wide])?.columns.length, tableOf(rows)?.columns]).toEqual([12, ['id']]);
});

const OPERATION = {
  id: 'rows',
  method: 'POST',
  path: '/tables/{table}/rows',
  body: '{"note":"{note}"}',
  parameters: [
    { name: 'table', in: 'path', required: true, example: 'boats', says: 'The table' },
    { name: 'limit', in: 'query', required: false, example: '3', says: 'How many' },
    { name: 'after', in: 'query', required: true, example: '', says: 'The last one seen' },
    { name: 'unused', in: 'query', required: false, example: '', says: '' },
    { name: 'x-tenant', in: 'header', required: true, example: '', says: 'The tenant' },
  ],
} as unknown as OfferedOperation;

test('an operation brings its parameters as names to fill in; what still lacks a value is named, but not what the connection fills in', () => {
  const composed = new Composed();
  composed.take(OPERATION);
  expect(composed.call).toEqual({
    method: 'POST',
    path: '/tables/{table}/rows',
    query: [
      { name: 'limit', value: '3' },
      { name: 'after', value: '{after}' },
    ],
    headers: [{ name: 'x-tenant', value: '{x-tenant}' }],
    body: '{\n  "note": "{note}"\n}',
  });
  expect(composed.writes).toBe(true);
  expect([composed.lacking({}), composed.lacking({ 'x-tenant': 'lf1' })]).toEqual([['after', 'x-tenant'], ['after']]);
  composed.values.after = '41';
  expect(composed.lacking({ 'x-tenant': 'lf1' })).toEqual([]);
});

test('a saved call brings its values; a call that is typed begins without any', () => {
  const composed = new Composed();
  const call = { method: 'GET', path: '/tables/{table}', query: [{ name: '', value: 'x' }], headers: [], body: null } as const;
  composed.open({
    name: 'boats',
    says: '',
    call: { ...call, query: [...call.query], headers: [] },
    parameters: [{ name: 'table', value: 'boats', says: 'Which' }],
    saved_by: 'marit',
    saved_at: '',
  } as never);
  expect([composed.saved, composed.values.table, composed.call.query, composed.writes]).toEqual(['boats', 'boats', [], false]);
  composed.load({ method: 'GET', path: ' ', query: [], headers: [], body: 'not JSON' });
  expect([composed.saved, composed.values, composed.call.path, composed.call.body]).toEqual([null, {}, '/', 'not JSON']);
});

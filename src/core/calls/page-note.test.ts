import { expect, test } from 'vitest';
import type { Api } from '../provider/api.ts';
import { pageNote } from './page-note.ts';

type Paging = NonNullable<Api['paging']>;
const cursor: Paging = { style: 'cursor', items: '/rows', next: '/next', total: '/total', parameter: 'cursor', size_parameter: 'limit' };
const pages: Paging = { style: 'page_number', items: '/rows', total: '/total', parameter: 'page', size_parameter: 'size' };
const offset: Paging = { style: 'offset', items: '/rows', total: '/total', parameter: 'offset', size_parameter: 'limit' };
const link: Paging = { style: 'link_header', size_parameter: 'per_page' };
const rows = (count: number, more: object = {}): string => JSON.stringify({ rows: Array.from({ length: count }, () => ({})), ...more });

test.each<[name: string, paging: Paging | undefined, query: string, body: string, header: string | undefined, note: string | null]>([
  ['a first page', cursor, '', rows(10, { next: 'n', total: 84 }), undefined, 'records 1\u201310 of 84; more follow'],
  ['a later page by cursor', cursor, '?cursor=abc', rows(10, { next: 'n', total: 84 }), undefined, '10 records of 84; more follow'],
  ['the last by cursor', cursor, '?cursor=abc', rows(4, { next: null, total: 84 }), undefined, '4 records of 84; last page'],
  ['all of it', cursor, '', rows(3, { next: '', total: 3 }), undefined, null],
  ['a total as text', cursor, '', rows(1, { next: 'n', total: '2' }), undefined, 'record 1 of 2; more follow'],
  ['page 3 of 20 each', pages, '?page=3&size=20', rows(20, { total: 84 }), undefined, 'records 41\u201360 of 84; more follow'],
  ['a page of unknown size', pages, '?page=3', rows(20, { total: 84 }), undefined, '20 records of 84'],
  ['the last by offset', offset, '?offset=80&limit=10', rows(4, { total: 84 }), undefined, 'records 81\u201384 of 84; last page'],
  ['no total, a full page', offset, '?offset=0&limit=10', rows(10), undefined, 'records 1\u201310; more follow'],
  [
    'a link to the next',
    link,
    '?per_page=2',
    '[{},{}]',
    '<https://a.example/?page=2>; rel="next", <https://a.example/>; rel="first"',
    '2 records; more follow',
  ],
  ['no link to a next', link, '', '[{},{}]', '<https://a.example/next>; rel="prev"', null],
  ['no list', cursor, '', '{"rows":{}}', undefined, null],
  ['no JSON', cursor, '', 'rows', undefined, null],
  ['an API that names no paging', undefined, '', rows(10, { next: 'n' }), undefined, null],
])('%s', (_name, paging, query, body, header, note) => {
  expect(pageNote({ paging }, `https://a.example/things${query}`, body, header)).toBe(note);
});

import { parse } from 'csv-parse/sync';
import fc from 'fast-check';
import papa from 'papaparse';
import { expect, test } from 'vitest';
import { columnsIn, guarded, Layout, rowOf, writerOf } from './format.ts';
import type { FORMATS } from './formats.ts';
import { cellAt, flatten, withoutPersonal } from './record.ts';

const layout = (more: object = {}): Layout => Layout.parse({ ...more });
const write = (format: (typeof FORMATS)[number], records: unknown[], given: Layout, size = 3): string => {
  const writer = writerOf(format, given, columnsIn(records));
  let text = writer.head();
  for (let at = 0; at < records.length; at += size) text += writer.batch(records.slice(at, at + size), at === 0);
  return text + writer.tail();
};

test('nested fields become columns by one rule', () => {
  expect([...flatten({ id: 1, guest: { name: 'Ane', tags: ['a', { b: 1 }] }, none: null, empty: {} })]).toEqual([
    ['id', 1],
    ['guest.name', 'Ane'],
    ['guest.tags', '["a",{"b":1}]'],
    ['none', null],
  ]);
  expect([...flatten(7)]).toEqual([['value', 7]]);
});

test.each([
  ['=1+1', "'=1+1"],
  ['+cmd', "'+cmd"],
  ['-2', '-2'],
  ['-2.5e3', '-2.5e3'],
  ['-a', "'-a"],
  ['@x', "'@x"],
  ['\t=1', "'\t=1"],
  ['plain', 'plain'],
  ['', ''],
  [' =3', "' =3"],
  ['\uff1d4', "'\uff1d4"],
  ['\n=2+2', "\n'=2+2"],
  ['a\r=1+1', "a\r'=1+1"],
  ['a\n-2', 'a\n-2'],
])('a spreadsheet takes %j for no formula', (text, want) => expect(guarded(text)).toBe(want));

test('columns are chosen, renamed and ordered; delimiter and byte order mark; RFC 4180 quoting', () => {
  const given = layout({ columns: [{ field: 'b.c', title: 'C' }, { field: 'a' }, { field: 'nothing' }], delimiter: ';', bom: true });
  expect(write('csv', [{ a: 'x;"y"\nz', b: { c: 1 } }], given)).toBe('\uFEFFC;a;nothing\r\n1;"x;""y""\nz";\r\n');
  expect(JSON.parse(write('json', [{ a: 1, b: { c: 2 } }], given))).toEqual([{ C: 2, a: 1, nothing: null }]);
  expect(rowOf({ a: '=1' }, [{ field: 'a' }], false)).toEqual(['=1']);
});

const record = fc.dictionary(
  fc.stringMatching(/^[a-z]{1,6}$/),
  fc.oneof(fc.string(), fc.integer(), fc.boolean(), fc.constant(null), fc.dictionary(fc.stringMatching(/^[a-z]{1,3}$/), fc.string(), { maxKeys: 2 })),
  { maxKeys: 5 },
);
test('whatever records, in whatever batches: CSV, NDJSON and JSON read back hold each of them once', () =>
  fc.assert(
    fc.property(fc.array(record, { maxLength: 20 }), fc.integer({ min: 1, max: 7 }), (records, size) => {
      const given = layout({ guard: false });
      expect(JSON.parse(write('json', records, given, size))).toEqual(records);
      expect(
        write('ndjson', records, given, size)
          .split('\n')
          .filter(Boolean)
          .map((line) => JSON.parse(line)),
      ).toEqual(records);
      const columns = columnsIn(records);
      if (columns.length === 0) return;
      const rows = parse(write('csv', records, given, size), { columns: true, relax_column_count: false }) as Record<string, string>[];
      // A record whose only cell is empty is an empty line.
      if (columns.length > 1) expect(rows.length).toBe(records.length);
    }),
  ));

const KEY = Buffer.alloc(32, 7);
test('personal fields: dropped, masked, or a keyed hash that stays the same for one person', () => {
  const guest = (name: string) => ({ id: 1, guest: { name, mail: 'ane@post.example', phone: '5' }, list: [{ name }] });
  const fields = [
    { field: 'guest.name', rule: 'hash' as const },
    { field: 'guest.mail', rule: 'mask' as const },
    { field: 'guest.phone', rule: 'drop' as const },
    { field: 'list.name', rule: 'drop' as const },
    { field: 'absent.x', rule: 'hash' as const },
  ];
  const [one, two, other] = [
    withoutPersonal(guest('Ane'), fields, KEY),
    withoutPersonal(guest('Ane'), fields, KEY),
    withoutPersonal(guest('Tom'), fields, KEY),
  ] as Record<string, { name: string }>[];
  expect(one).toEqual(two);
  expect(one?.guest?.name).not.toBe(other?.guest?.name);
  expect(one).toMatchObject({ id: 1, guest: { mail: 'an\u2026' }, list: [{}] });
  expect(JSON.stringify([one, other])).not.toMatch(/Ane|Tom|post\.example|phone/);
  expect(withoutPersonal(guest('Ane'), fields, Buffer.alloc(32, 8))).not.toEqual(one);
});

test('one cell is what flattening gives, for every column of every record', () =>
  fc.assert(
    fc.property(fc.dictionary(fc.stringMatching(/^[a-c.]{1,3}$/), fc.jsonValue({ maxDepth: 3 }), { maxKeys: 4 }), (made) => {
      const cells = flatten(made);
      // Two ways to one name: the record itself is ambiguous, and the last one wins in the table.
      fc.pre(!JSON.stringify(made).match(/"([^"]*\.[^"]*)?":/));
      for (const [name, value] of cells) expect(cellAt(made, name)).toEqual(value);
      for (const name of ['x', 'a.x', '']) if (!cells.has(name)) expect(cellAt(made, name)).toBeUndefined();
    }),
  ));

test('what is written as CSV is read back as it was by two readers that know nothing of each other, and no row begins with a formula', () => {
  const odd = fc
    .array(fc.constantFrom('a', '"', ',', ';', '\n', '\r', '\r\n', '=', '+', '-', '@', ' ', '\t', "'", '\uff1d', '7'), { maxLength: 8 })
    .map((parts) => parts.join(''));
  fc.assert(
    fc.property(
      fc.array(fc.tuple(odd, odd, odd), { minLength: 1, maxLength: 6 }),
      fc.constantFrom(',' as const, ';' as const, '|' as const),
      (rows, delimiter) => {
        const columns = ['one', 'two', 'three'].map((field) => ({ field }));
        const text = write(
          'csv',
          rows.map(([one, two, three]) => ({ one, two, three })),
          layout({ columns, delimiter }),
        );
        const wanted = [['one', 'two', 'three'], ...rows.map((row) => row.map(guarded))];
        expect(parse(text, { delimiter, record_delimiter: '\r\n' })).toEqual(wanted);
        expect(papa.parse<string[]>(text.slice(0, -2), { delimiter, newline: '\r\n' }).data).toEqual(wanted);
        for (const line of text.split(/[\r\n]+/)) expect(line).not.toMatch(/^\s*[=@\uff1d]/);
      },
    ),
    { numRuns: 500 },
  );
});

test.each<[string, unknown]>([
  ['guest.mail', { 'guest.mail': 'p@private.example', guest: { mail: 'p@private.example' } }],
  ['guest.mail.work', { guest: { 'mail.work': 'p@private.example' }, 'guest.mail': { work: 'p@private.example' } }],
  ['guest.mail', { 'guest.mail': { work: 'p@private.example' } }],
  ['guests.mail', { guests: [{ mail: 'p@private.example' }], 'guests.mail': 'p@private.example' }],
])('the personal field %s is meant however a record writes it: %j', (field, record) => {
  for (const rule of ['drop', 'mask', 'hash'] as const) {
    const kept = withoutPersonal(record, [{ field, rule }], Buffer.from('k'));
    expect(JSON.stringify(kept)).not.toContain('private.example');
    expect(String(cellAt(kept, field))).not.toContain('private.example');
  }
});

test('a column, a filter and the list of columns address one place', () => {
  for (const both of [
    { guest: { mail: 'below' }, 'guest.mail': 'beside' },
    { 'guest.mail': 'beside', guest: { mail: 'below' } },
  ])
    expect(flatten(both).get('guest.mail')).toBe(cellAt(both, 'guest.mail'));
});

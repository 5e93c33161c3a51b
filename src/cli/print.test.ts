import { expect, test } from 'vitest';
import { EXIT } from './exit.ts';
import { plain } from './plain.ts';
import { drawn } from './print.ts';
import { failedWith, fields, list, one, state, table, text } from './show.ts';

test.each([
  ['\u001b[2Jcleared', '[2Jcleared'],
  ['\u001b]0;a title\u0007after', ']0;a titleafter'],
  ['back\u0008space and \u009b31m', 'backspace and 31m'],
  ['two\nlines\tand a tab', 'two\nlines\tand a tab'],
  ['\u001b[32mcolored\u001b[39m', '[32mcolored[39m'],
  ['\u0007[31m', '[31m'],
])('%j is printed as %j', (given, printed) => expect(plain(given)).toBe(printed));

const BOATS = [
  { name: 'Curlew', seats: 12 },
  { name: 'Little Tern', seats: 140 },
];
const COLUMNS = { NAME: (boat: (typeof BOATS)[number]) => boat.name, SEATS: (boat: (typeof BOATS)[number]) => String(boat.seats) };

test.each([
  { what: 'a table', shown: list(BOATS, COLUMNS, 'No boats.'), output: 'table', drawing: 'NAME         SEATS\nCurlew       12\nLittle Tern  140\n' },
  { what: 'no rows', shown: list([], COLUMNS, 'No boats yet. Add one.'), output: 'table', drawing: 'No boats yet. Add one.\n' },
  {
    what: 'a list for programs',
    shown: list(BOATS.slice(0, 1), COLUMNS, ''),
    output: 'json',
    drawing: '{\n  "items": [\n    {\n      "name": "Curlew",\n      "seats": 12\n    }\n  ]\n}\n',
  },
  { what: 'the same as YAML', shown: list(BOATS.slice(0, 1), COLUMNS, ''), output: 'yaml', drawing: 'items:\n  - name: Curlew\n    seats: 12\n' },
  {
    what: 'fields: empty ones are left out, further lines stand below the first',
    shown: one({}, [
      ['Boat', 'Curlew'],
      ['Notes', ''],
      ['Crew', null],
      ['Harbor log', 'in\nout'],
    ]),
    output: 'table',
    drawing: 'Boat        Curlew\nHarbor log  in\n            out\n',
  },
  { what: 'several parts', shown: { parts: [fields([['A', '1']]), table([], COLUMNS, ''), text('End.')] }, output: 'table', drawing: 'A  1\n\nEnd.\n' },
  { what: 'nothing for programs', shown: { parts: [text('Removed.')] }, output: 'json', drawing: '' },
  {
    what: 'a control character in a cell',
    shown: list([{ name: 'a\u001b[31mb', seats: 1 }], COLUMNS, ''),
    output: 'table',
    drawing: 'NAME    SEATS\na[31mb  1\n',
  },
] as const)('$what', async ({ shown, output, drawing }) => expect(await drawn({ output }, shown)).toBe(drawing));

test('a state is a mark and a word, whatever the color', async () => {
  expect(await drawn({ output: 'table' }, one({}, [['State', state('paused')]]))).toContain('\u2016 paused');
});

test('what failed is shown anyway, with a code of its own', () => {
  const shown = failedWith(one({ a: 1 }, []), 'They differ.');
  expect([shown.data, shown.outcome?.message, shown.outcome?.code]).toEqual([{ a: 1 }, 'They differ.', EXIT.failed]);
});

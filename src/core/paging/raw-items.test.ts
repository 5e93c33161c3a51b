import fc from 'fast-check';
import { expect, test } from 'vitest';
import { rawItems } from './raw-items.ts';

const value = fc.jsonValue({ maxDepth: 3 });

test('whatever document it is: the text is null, or exactly the list', () => {
  fc.assert(
    fc.property(
      fc.array(value, { maxLength: 5 }),
      fc.dictionary(fc.string({ maxLength: 4 }), value, { maxKeys: 4 }),
      fc.boolean(),
      fc.boolean(),
      (rows, more, isFirst, isPretty) => {
        const document = isFirst ? { rows, ...more } : { ...more, rows };
        const body = JSON.stringify(document, null, isPretty ? 1 : 0);
        const raw = rawItems(body, JSON.parse(body), '/rows');
        if (raw !== null) expect(JSON.parse(raw)).toEqual((JSON.parse(body) as { rows: unknown }).rows);
      },
    ),
    { numRuns: 500 },
  );
});

test.each<[string, string, string, string | null]>([
  ['the usual page', '{"rows":[{"id":1},{"id":2}],"total":2,"next":null}', '/rows', '[{"id":1},{"id":2}]'],
  ['the whole response', ' [1,2] ', '', '[1,2]'],
  ['spaces around', '{ "rows" : [ 1 ] }', '/rows', '[ 1 ]'],
  ['lists at the end of records', '{"rows":[{"tags":["a"]},{"tags":[]}]}', '/rows', '[{"tags":["a"]},{"tags":[]}]'],
  ['another list after it', '{"rows":[1],"errors":[]}', '/rows', null],
  ['another list before it', '{"errors":[],"rows":[1]}', '/rows', null],
  ['a list twice under one name', '{"rows":[1],"rows":[2]}', '/rows', null],
  ['another name twice, once with a list', '{"rows":[1],"more":[2],"more":3}', '/rows', null],
  ['a text that looks like the end of the list', '{"rows":["x],"],"next":"y"}', '/rows', null],
  ['brackets in a text before it', '{"note":"[","rows":[1]}', '/rows', null],
  ['deeper than one member', '{"data":{"rows":[1]}}', '/data/rows', null],
  ['no such member', '{"rows":[1]}', '/records', null],
  ['no list there', '{"rows":{"a":[1]}}', '/rows', null],
  ['an odd name', '{"__proto__":[1]}', '/__proto__', '[1]'],
])('%s', (_name, body, pointer, text) => expect(rawItems(body, JSON.parse(body), pointer)).toBe(text));

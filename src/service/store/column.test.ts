import { expect, test } from 'vitest';
import { z } from 'zod';
import { bytes, flag, id, instant, json, number, oneOf, orElse, orNull, rowReader, text, textList, words } from './column.ts';
import { readScopes, readUse } from './definition-uses.ts';

const ID = '0192f0c1-2a3b-7c4d-8e5f-60718293a4b5';
const ID_BYTES = Buffer.from(ID.replaceAll('-', ''), 'hex');
const read = rowReader(
  'samples',
  {
    ...{ id, name: text, count: number, on: flag, at: instant, hash: orNull(bytes), state: oneOf(['degraded', 'working']) },
    ...{ scopes: textList, more: orElse(textList, []), labels: words, calls: json(z.object({ calls: z.number() })) },
  },
  'id',
);
const AT = new Date('2026-11-28T06:00:00.123Z');
const stored = {
  ...{ id: ID_BYTES, name: 'sailings', count: 7n, on: 1, at: AT, hash: null, state: 'working' },
  ...{ scopes: '["a","b"]', more: null, labels: 'north south', calls: '{"calls":3}' },
};
const row = {
  ...{ id: ID, name: 'sailings', count: 7, on: true, at: AT.getTime(), hash: null, state: 'working' },
  ...{ scopes: ['a', 'b'], more: [], labels: ['north', 'south'], calls: { calls: 3 } },
};

test('a row is read column by column, empty ones too', () => {
  expect(read(stored)).toEqual(row);
  expect(read({ ...stored, labels: null, state: 'degraded', hash: ID_BYTES })).toEqual({ ...row, labels: [], state: 'degraded', hash: ID_BYTES });
});

test.each<[keyof typeof stored, unknown, RegExp]>([
  ['id', 'text', /samples\.id of text: it is not an ID/],
  ['count', 'seven', /samples\.count of ROW: it is not a number/],
  ['at', '2026-11-28', /samples\.at of ROW: it is not an instant/],
  ['hash', 'text', /samples\.hash of ROW: it is not bytes/],
  ['state', 'asleep', /samples\.state of ROW: it is not one of degraded, working: asleep/],
  ['name', null, /samples\.name of ROW: it is not allowed to be empty/],
  ['scopes', '["a",1]', /samples\.scopes of ROW: it is not of the expected form/],
  ['scopes', '["a"', /samples\.scopes of ROW: /],
  ['calls', '{"calls":"3"}', /samples\.calls of ROW: it is not of the expected form/],
])('%s that holds %j: the error names table, column and row', (column, value, expected) => {
  const found = () => read({ ...stored, [column]: value });
  expect(found).toThrow(expect.objectContaining({ code: 'RECORD_INVALID', detail: expect.stringMatching(new RegExp(expected.source.replace('ROW', ID))) }));
});

const use = {
  ...{ client_record: ID_BYTES, version_id: ID_BYTES, environment: 'live', variant: null, rehearsal_port: null },
  ...{ placeholders: '{"region":"north"}', own_placeholders: null, trusted_origins: null },
};
test('how a definition is used is checked where it is read', () => {
  expect(readUse(use)).toEqual({ environment: 'live', placeholders: { region: 'north' }, ownPlaceholders: {}, trustedOrigins: null });
  for (const wrong of [{ environment: 'moon' }, { placeholders: '[]' }, { own_placeholders: '{"a":1}' }, { trusted_origins: '{}' }])
    expect(() => readUse({ ...use, ...wrong })).toThrow(expect.objectContaining({ code: 'RECORD_INVALID', detail: expect.stringContaining(ID) }));
  expect(readScopes({ name: 'sailings', scopes: null })).toEqual([]);
  expect(() => readScopes({ name: 'sailings', scopes: '"a"' })).toThrow(
    expect.objectContaining({ detail: expect.stringContaining('grants.scopes of sailings') }),
  );
});

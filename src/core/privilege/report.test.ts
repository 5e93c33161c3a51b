import { readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { readDefinition } from '../provider/read-definition.ts';
import { type ConnectionFacts, couldBeLess, operationOf, privilegeOfConnection } from './report.ts';

const definition = readDefinition(readFileSync(new URL('../../../definitions/eelgrass.yaml', import.meta.url), 'utf8'));
const base: ConnectionFacts = {
  ...{ name: 'sailings', definition, clientType: 'web', shared: false, granted: ['tables.read', 'offline_access'] },
  ...{ operations: ['list-tables'], calls: [], hasTokensIssued: false },
};

test.each<[string, Partial<ConnectionFacts>, object]>([
  ['reads one account', {}, { power: 'read', width: 'one_account', unneeded: [], isKnown: true }],
  [
    'writes, though it is set up to read',
    { granted: ['tables.read', 'tables.write', 'calendars.write'] },
    { power: 'write', unneeded: ['calendars.write'], isKnown: true },
  ],
  ['administers the whole organization', { granted: ['tables.all'] }, { power: 'admin', width: 'organization', unneeded: ['tables.all'] }],
  ['acts for itself', { clientType: 'service_account' }, { width: 'organization' }],
  ['holds one grant for each person', { shared: true }, { width: 'each_person' }],
  [
    'a saved call needs more',
    { operations: [], granted: ['tables.read', 'calendars.read'], calls: [{ method: 'GET', path: '/tables/7/rows?limit=5' }] },
    { unneeded: ['calendars.read'], isKnown: true },
  ],
  ['a call that the definition does not know', { calls: [{ method: 'GET', path: '/elsewhere' }] }, { isKnown: false }],
  ['callers fetch its tokens', { hasTokensIssued: true }, { isKnown: false }],
  ['nothing says what it is for', { operations: [] }, { isKnown: false }],
  ['scopes that nobody listed', { granted: ['odd'] }, { power: null, unneeded: ['odd'] }],
])('%s', (_name, change, expected) => {
  expect(privilegeOfConnection({ ...base, ...change })).toMatchObject(expected);
});

test('a call is known by method and path', () => {
  expect(operationOf(definition, { method: 'get', path: '/tables/7/rows' })?.id).toBe('list-rows');
  expect(operationOf(definition, { method: 'DELETE', path: '/tables/7/rows' })).toBe(null);
});

test.each<[Parameters<typeof couldBeLess>[0], RegExp | null]>([
  [{ use: 'any', tokens: 0, relayed: 0, hasLimits: false }, /Not used/],
  [{ use: 'any', tokens: 0, relayed: 9, hasLimits: false }, /relay only/],
  [{ use: 'any', tokens: 9, relayed: 0, hasLimits: false }, /tokens only/],
  [{ use: 'relay', tokens: 0, relayed: 9, hasLimits: false }, /Every method/],
  [{ use: 'relay', tokens: 0, relayed: 9, hasLimits: true }, null],
  [{ use: 'token', tokens: 9, relayed: 0, hasLimits: false }, null],
])('a permission that could be less: %j', (facts, expected) => {
  const says = couldBeLess(facts, 35);
  if (expected === null) expect(says).toBe(null);
  else expect(says).toMatch(expected);
});

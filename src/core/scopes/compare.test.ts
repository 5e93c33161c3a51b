import { expect, test } from 'vitest';
import { compareScopes, reviewScopes } from './compare.ts';

const CATALOGUE = ['tables.read', 'tables.write', 'offline_access'];
test.each([
  { scope: 'tables.read', found: null },
  { scope: 'tables.raed', found: { kind: 'misspelt', meant: 'tables.read' } },
  { scope: 'Tables.Read', found: { kind: 'misspelt', meant: 'tables.read' } },
  { scope: 'offline_acces', found: { kind: 'misspelt', meant: 'offline_access' } },
  { scope: 'tables.read,', found: { kind: 'delimiter', meant: 'tables.read' } },
  { scope: 'tables.read,tables.write', found: { kind: 'delimiter', meant: null } },
  { scope: 'invoices.approve', found: { kind: 'not_in_catalogue', meant: null } },
])('$scope', ({ scope, found }) => {
  const [remark] = reviewScopes([scope], CATALOGUE);
  if (found === null) expect(remark).toBeUndefined();
  else expect(remark).toMatchObject(found);
});

test('requested against granted', () => {
  expect(compareScopes(['a', 'b'], ['b', 'c'])).toEqual({ granted: ['b', 'c'], missing: ['a'], unasked: ['c'] });
});

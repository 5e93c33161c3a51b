import fc from 'fast-check';
import { expect, test } from 'vitest';
import { accessOf, accountName, GROUP_ROLES, type GroupRule, groupsIn } from './oidc.ts';

test.each<[string, Record<string, unknown>, object]>([
  ['a list', { groups: ['a', 'b', 7] }, { kind: 'listed', groups: ['a', 'b'] }],
  ['one text', { groups: 'a' }, { kind: 'listed', groups: ['a'] }],
  ['none', {}, { kind: 'missing' }],
  [
    'too many for the token',
    { _claim_names: { groups: 's1' }, _claim_sources: { s1: { endpoint: 'https://id.test/groups', access_token: 't' } } },
    { kind: 'elsewhere', endpoint: 'https://id.test/groups', token: 't' },
  ],
  ['a reference to nothing', { _claim_names: { groups: 's1' }, _claim_sources: {} }, { kind: 'missing' }],
  ['of the prototype', { _claim_names: { groups: 'constructor' }, _claim_sources: {} }, { kind: 'missing' }],
])('groups: %s', (_name, claims, expected) => {
  expect(groupsIn(claims, 'groups')).toEqual(expected);
});

test('by more groups nobody may less, and nobody gets a role that no group of theirs has', () => {
  const rule = fc.record<GroupRule>({
    group: fc.constantFrom('a', 'b', 'c'),
    role: fc.constantFrom(...GROUP_ROLES),
    labels: fc.uniqueArray(fc.constantFrom('x', 'y'), { maxLength: 2 }),
  });
  const rank = (one: ReturnType<typeof accessOf>) => (one === null ? -1 : GROUP_ROLES.indexOf(one.role));
  fc.assert(
    fc.property(fc.array(rule, { maxLength: 6 }), fc.subarray(['a', 'b', 'c', 'd']), (rules, groups) => {
      const access = accessOf(groups, rules);
      expect(rank(accessOf([...groups, 'a'], rules))).toBeGreaterThanOrEqual(rank(access));
      if (access) expect(rules.some((one) => groups.includes(one.group) && one.role === access.role)).toBe(true);
      else expect(rules.some((one) => groups.includes(one.group))).toBe(false);
    }),
  );
});

test.each<[Record<string, unknown>, string | null]>([
  [{ preferred_username: 'Oda.Lien' }, 'oda.lien'],
  [{ email: 'Ødegård@saltmarsh.test' }, 'degard@saltmarsh.test'],
  [{ name: '  Åse  Berg ' }, 'ase-berg'],
  [{ preferred_username: '海' }, null],
  [{}, null],
])('a name of %j', (claims, expected) => {
  expect(accountName(claims)).toBe(expected);
});

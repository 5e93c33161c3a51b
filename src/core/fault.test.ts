import { inspect } from 'node:util';
import { expect, test } from 'vitest';
import { FAULTS } from './fault-table.ts';
import { Secret } from './secret.ts';

test.each(Object.entries(FAULTS))('%s says what and what to do', (code, fault) => {
  expect(code).toMatch(/^[A-Z][A-Z_]+$/);
  expect(fault.status).toBeGreaterThanOrEqual(400);
  for (const text of [fault.says, fault.remedy]) expect(text).toMatch(/^[A-Z].*\.$/);
});

test('a secret does not print, whichever way it is turned into text', () => {
  const secret = new Secret('barnacle');
  const ways = [
    String(secret),
    `${secret}`,
    JSON.stringify({ secret }),
    inspect({ deep: [secret] }, { depth: 9, showHidden: true }),
    new Error('x', { cause: secret }).stack ?? '',
  ];
  for (const way of ways) expect(way).not.toContain('barnacle');
  expect(secret.reveal()).toBe('barnacle');
});

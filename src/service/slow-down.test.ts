import { expect, test } from 'vitest';
import { networkOf, slowDown } from './slow-down.ts';

const LIMITS = { free: 3, firstWaitMs: 60_000, mostWaitMs: 120_000, forgottenMs: 600_000 };

test('a try counts before it is judged, costs a wait after the free ones, and is forgiven when it was right', () => {
  const limit = slowDown(LIMITS);
  const first = Array.from({ length: 10 }, () => limit.enter('a'));
  expect(first.slice(0, 3)).toEqual([0, 0, 0]);
  expect(first.slice(3).every((waitMs) => waitMs > 55_000)).toBe(true);
  expect([limit.enter('b'), limit.failures('a')]).toEqual([0, 3]);
  limit.forgive('a');
  expect([limit.enter('a'), limit.failures('a')]).toEqual([0, 1]);
});

test('keys from outside are bounded in number and length', () => {
  const limit = slowDown(LIMITS);
  for (let index = 0; index < 40_000; index += 1) limit.enter(`${index}`);
  expect([limit.failures('0'), limit.failures('39999')]).toEqual([0, 1]);
  const long = 'x'.repeat(100_000);
  limit.enter(`${long}1`);
  expect(limit.failures(`${long}2`)).toBe(1); // only the beginning is kept
});

test.each([
  ['192.0.2.7', '192.0.2.250', true],
  ['192.0.2.7', '192.0.3.7', false],
  ['::ffff:192.0.2.7', '192.0.2.9', true],
  ['2001:db8:1:200::1', '2001:db8:1:2ff::2', true],
  ['2001:db8:1:200::1', '2001:db8:2:200::1', false],
  ['', 'not an address', true],
])('%s and %s are of one network: %s', (one, other, same) => expect(networkOf(one) === networkOf(other)).toBe(same));

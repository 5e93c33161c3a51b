import fc from 'fast-check';
import { expect, test } from 'vitest';
import { expectedLeft } from './forecast.ts';

const HOUR = 3_600_000;
test.each([
  { name: 'half the hour, a quarter used', left: 750, minutes: 30, want: 500 },
  { name: 'half the hour, three quarters used: it will not do', left: 250, minutes: 30, want: -500 },
  { name: 'nothing used', left: 1_000, minutes: 30, want: 1_000 },
  { name: 'a minute after the reset: too early', left: 900, minutes: 59, want: null },
  { name: 'just before the reset', left: 10, minutes: 0, want: 10 },
])('$name', ({ left, minutes, want }) => {
  expect(expectedLeft({ most: 1_000, left, window: 'hour', resetsAt: minutes * 60_000 }, 0)).toBe(want);
});

test('never more than is left now, whatever the time', () =>
  fc.assert(
    fc.property(
      fc.integer({ min: 1, max: 100_000 }),
      fc.double({ min: 0, max: 1, noNaN: true }),
      fc.double({ min: 0, max: 1, noNaN: true }),
      (most, of, rest) => {
        const left = Math.floor(most * of);
        const expected = expectedLeft({ most, left, window: 'hour', resetsAt: rest * HOUR }, 0);
        return expected === null || expected <= left;
      },
    ),
  ));

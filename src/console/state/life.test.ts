import { expect, test } from 'vitest';
import { relativeTime } from '../../api/relative-time.ts';
import { readLife } from './life.ts';
import { times } from './moments.ts';

const NOW = Date.UTC(2026, 10, 23, 10);
const at = (ms: number) => new Date(NOW + ms).toISOString();
const life = { issued_at: at(-30_000), due_at: at(15_000), expires_at: at(30_000), renewed_at: [at(-1), at(-43_200_000), at(-90_000_000)] };

test.each([
  { name: 'half way', change: {}, seen: { now: 50, due: 75, phase: 'fresh' } },
  { name: 'due', change: { due_at: at(-5_000) }, seen: { now: 50, phase: 'due' } },
  { name: 'over', change: { expires_at: at(-1) }, seen: { now: 100, phase: 'over' } },
  { name: 'no renewal planned', change: { due_at: null }, seen: { due: null, phase: 'fresh' } },
  { name: 'issued a moment ahead of this clock', change: { issued_at: at(400) }, seen: { now: 0, phase: 'fresh' } },
])('a lifetime line, $name', ({ change, seen }) => expect(readLife({ ...life, ...change }, NOW)).toMatchObject(seen));

test('the ticks are the last day, and no more', () => {
  expect(readLife(life, NOW).ticks.map(Math.round)).toEqual([100, 50]);
});

test.each([
  [-400, 'just now'],
  [40_000, 'in 40 s'],
  [-150_000, '3 min ago'],
  [7_200_000, 'in 2 h'],
  [-3 * 86_400_000, '3 d ago'],
])('%d ms: %s', (ms, says) => expect(relativeTime(NOW + ms, NOW)).toBe(says));

test('once, and more than once', () => expect([times(1), times(0), times(3)]).toEqual(['once', '0 times', '3 times']));

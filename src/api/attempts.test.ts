import { expect, test } from 'vitest';
import { attempts } from './attempts.ts';

test.each([
  { name: 'a pause longer than the time: one look', withinMs: 5, everyMs: 20, least: 1, most: 1 },
  { name: 'no time at all: one look', withinMs: 0, everyMs: 1, least: 1, most: 1 },
  { name: 'many', withinMs: 100, everyMs: 1, least: 3, most: 101 },
])('$name', async ({ withinMs, everyMs, least, most }) => {
  let count = 0;
  for await (const look of attempts({ withinMs, everyMs })) expect(look).toBe(count++);
  expect(count).toBeGreaterThanOrEqual(least);
  expect(count).toBeLessThanOrEqual(most);
});

test('whoever has what it looked for leaves at once', async () => {
  const startedAt = performance.now();
  for await (const look of attempts({ withinMs: 60_000, everyMs: 1 })) if (look === 2) break;
  expect(performance.now() - startedAt).toBeLessThan(10_000);
});

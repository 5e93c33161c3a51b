import fc from 'fast-check';
import { expect, test } from 'vitest';
import { nextTryMs } from './redelivery.ts';

const DAY_MS = 86_400_000;

test('a delivery is tried again for a day, later each time, never before the application asked for it', () =>
  fc.assert(
    fc.property(
      fc.nat({ max: 60 }),
      fc.nat({ max: 2 * DAY_MS }),
      fc.option(fc.nat({ max: DAY_MS })),
      fc.double({ min: 0, max: 1, noNaN: true }),
      (tries, ageMs, retryAfterMs, spread) => {
        const wait = nextTryMs({ tries, ageMs, retryAfterMs, spread });
        if (ageMs >= DAY_MS) {
          expect(wait).toBeNull();
          return;
        }
        expect(wait).toBeGreaterThanOrEqual(Math.min(retryAfterMs ?? 0, 2 * 3_600_000));
        expect(wait).toBeLessThanOrEqual(2 * 3_600_000);
        const later = nextTryMs({ tries: tries + 1, ageMs, retryAfterMs, spread });
        expect(later).toBeGreaterThanOrEqual(wait ?? 0);
      },
    ),
  ));

test('a receiver that is away for an hour gets the event within the next two hours, after fewer than 20 tries', () => {
  let [at, tries] = [0, 0];
  while (at < 3_600_000) {
    at += nextTryMs({ tries, ageMs: at, retryAfterMs: null, spread: 1 }) ?? Number.POSITIVE_INFINITY;
    tries += 1;
  }
  expect([at < 3 * 3_600_000, tries < 20]).toEqual([true, true]);
});

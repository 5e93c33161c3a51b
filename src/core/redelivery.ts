const FIRST_MS = 5_000;
const MOST_MS = 2 * 3_600_000;
/** A day: then it is a dead letter, which someone can send again. */
export const GIVEN_UP_MS = 86_400_000;

/** When a delivery that failed is tried again, ms from now; null: not again. `ageMs`: since the event. `spread`: 0 to 1. */
export function nextTryMs(of: { tries: number; ageMs: number; retryAfterMs: number | null; spread: number }): number | null {
  if (of.ageMs >= GIVEN_UP_MS) return null;
  const ceiling = Math.min(MOST_MS, FIRST_MS * 2 ** Math.min(of.tries, 20));
  return Math.max(of.retryAfterMs === null ? 0 : Math.min(of.retryAfterMs, MOST_MS), Math.ceil(ceiling * (0.5 + 0.5 * of.spread)));
}

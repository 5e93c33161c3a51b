import { setTimeout as sleep } from 'node:timers/promises';

/** Ends a wait at once: it cannot happen any more. */
export class Stop extends Error {}

const LOOK_EVERY_MS = 50;
/** A bound, not a measure: a starved machine takes many times as long. */
const LEAST_LIMIT_MS = 100_000;

/** Tries until `look` gives something true; bounded. Errors count as "not yet". */
export async function eventually<T>(look: () => Promise<T>, wantedMs = LEAST_LIMIT_MS, what = 'it'): Promise<NonNullable<T>> {
  const limitMs = Math.max(wantedMs, LEAST_LIMIT_MS);
  let last: unknown;
  for (const endsAt = Date.now() + limitMs; Date.now() < endsAt; await sleep(LOOK_EVERY_MS)) {
    try {
      const seen = await look();
      if (seen) return seen;
      last = seen;
    } catch (error) {
      if (error instanceof Stop) throw error;
      last = error;
    }
  }
  throw new Error(`${what} did not happen within ${limitMs} ms; last seen: ${last instanceof Error ? last.message : JSON.stringify(last)}`);
}

/** Waits for an instant that the test's world knows: the end of a token, of a key, of a quota's window. Epoch ms or ISO text. */
export async function untilInstant(at: number | string): Promise<void> {
  const instant = typeof at === 'string' ? Date.parse(at) : at;
  // In steps: a timer may fire a little early.
  while (Date.now() < instant) await sleep(Math.max(1, instant - Date.now()));
}

/** Looks for a while whether something stays as it is: the only way to see that nothing happens. Fails at once if it changes. */
export async function staysFor<T>(ms: number, look: () => Promise<T> | T): Promise<void> {
  const first = JSON.stringify(await look());
  for (const endsAt = Date.now() + ms; Date.now() < endsAt; await sleep(LOOK_EVERY_MS)) {
    const now = JSON.stringify(await look());
    if (now !== first) throw new Error(`it was ${first} and became ${now}`);
  }
}

/** Waits until a figure stands still for so long, and gives it. */
export async function standsStill(ms: number, look: () => number, limitMs = 20_000): Promise<number> {
  let [last, sinceAt] = [look(), Date.now()];
  for (const endsAt = Date.now() + limitMs; Date.now() < endsAt; await sleep(LOOK_EVERY_MS)) {
    if (look() !== last) [last, sinceAt] = [look(), Date.now()];
    else if (Date.now() - sinceAt >= ms) return last;
  }
  throw new Error(`it still changes after ${limitMs} ms: ${last}`);
}

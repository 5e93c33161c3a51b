import { LRUCache } from 'lru-cache';
import { RateLimiterMemory } from 'rate-limiter-flexible';
import type { CallerDirectory, KnownCaller } from './caller-directory.ts';

/** Who calls, or why that is not known. */
export type Checked = { caller: KnownCaller; keyId: string } | { wrong: 'key' } | { wrong: 'throttled'; waitMs: number };

/** Checks a caller's id and key, and makes whoever guesses wait, by id and address: at the token endpoint, the relay and the door alike. */
export interface CallerCheck {
  (id: string, key: string, address: string): Promise<Checked>;
  /** The caller whose id and key these are, from memory, where nobody guessed lately; null: ask. */
  ready(id: string, key: string, address: string): { caller: KnownCaller; keyId: string } | null;
}

const WRONG_KEYS_MOST = 10;
const WRONG_KEYS_WINDOW_SECONDS = 60;

export function callerCheck(callers: CallerDirectory): CallerCheck {
  const throttle = new RateLimiterMemory({ points: WRONG_KEYS_MOST, duration: WRONG_KEYS_WINDOW_SECONDS });
  const failing = new LRUCache<string, true>({ max: 50_000, ttl: WRONG_KEYS_WINDOW_SECONDS * 1000 });
  const check = async (id: string, key: string, address: string): Promise<Checked> => {
    const gate = `${id}|${address}`;
    const state = failing.has(gate) ? await throttle.get(gate) : null; // who never failed costs nothing here
    if (state && state.consumedPoints >= WRONG_KEYS_MOST) return { wrong: 'throttled', waitMs: state.msBeforeNext };
    const found = await callers.check(id, key);
    if (found) return found;
    failing.set(gate, true);
    await throttle.consume(gate).catch(() => undefined); // over the limit: the next request is told so
    return { wrong: 'key' };
  };
  const ready: CallerCheck['ready'] = (id, key, address) => (failing.size > 0 && failing.has(`${id}|${address}`) ? null : callers.checkKnown(id, key));
  return Object.assign(check, { ready });
}

import { isCallerId } from '../../core/identifiers.ts';
import { networkOf, slowDown } from '../slow-down.ts';
import type { CallerDirectory, KnownCaller } from './caller-directory.ts';

/** Who calls, or why that is not known. */
type Checked = { caller: KnownCaller; keyId: string } | { wrong: 'key' } | { wrong: 'throttled'; waitMs: number };

/**
 * Checks a caller's id and key: at the token endpoint, the relay and the sign-in for tools alike. A right key always passes, whoever else
 * guessed before: it has 256 bits. Wrong ones are slowed down, by id and network.
 */
export interface CallerCheck {
  (id: string, key: string, address: string): Promise<Checked>;
  /** The caller whose id and key these are, from memory; null: ask. */
  ready(id: string, key: string): { caller: KnownCaller; keyId: string } | null;
}

const WRONG_KEYS = { free: 10, firstWaitMs: 1_000, mostWaitMs: 60_000, forgottenMs: 300_000 };

export function callerCheck(callers: CallerDirectory): CallerCheck {
  const wrong = slowDown(WRONG_KEYS);
  const check = async (id: string, key: string, address: string): Promise<Checked> => {
    if (!isCallerId(id)) return { wrong: 'key' }; // never ours: it meets neither cache nor database
    const found = await callers.check(id, key);
    if (found) return found;
    const waitMs = wrong.enter(`${id}|${networkOf(address)}`);
    return waitMs > 0 ? { wrong: 'throttled', waitMs } : { wrong: 'key' };
  };
  return Object.assign(check, { ready: (id: string, key: string) => (isCallerId(id) ? callers.checkKnown(id, key) : null) });
}

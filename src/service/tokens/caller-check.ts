import { LRUCache } from 'lru-cache';
import { isCallerId } from '../../core/identifiers.ts';
import { boundedCache } from '../bounded-cache.ts';
import { hashTextOf } from '../hash.ts';
import type { Ports } from '../ports.ts';
import { networkOf, slowDown } from '../slow-down.ts';
import type { CallerDirectory, KnownCaller } from './caller-directory.ts';
import { callerPair } from './oauth-form.ts';

/** Who calls, or why that is not known. */
type Checked = { caller: KnownCaller; keyId: string } | { wrong: 'key' } | { wrong: 'throttled'; waitMs: number };

/**
 * Checks a caller's id and key: at the token endpoint, the relay and the sign-in for tools alike. A right key always passes, whoever else
 * guessed before: it has 256 bits. Wrong ones are slowed down, by id and network.
 */
export interface CallerCheck {
  (id: string, key: string, address: string): Promise<Checked>;
  /** The caller whose id and key these are, from memory; null: ask. */
  ready(id: string, key: string): Known | null;
  /** The same of an Authorization header with id and key. */
  readyHeader(authorization: string): Known | null;
}

interface Known {
  caller: KnownCaller;
  keyId: string;
}
/** A header that was verified, and nothing changed since. */
interface Seen extends Known {
  epoch: number;
  /** When the key expires, epoch ms. */
  endsAt: number | null;
}
const HEADERS_KEPT = 20_000;

const WRONG_KEYS = { free: 10, firstWaitMs: 1_000, mostWaitMs: 60_000, forgottenMs: 300_000 };

export function callerCheck(callers: CallerDirectory, ports: Pick<Ports, 'clock'>): CallerCheck {
  const wrong = slowDown(WRONG_KEYS);
  const check = async (id: string, key: string, address: string): Promise<Checked> => {
    if (!isCallerId(id)) return { wrong: 'key' }; // never ours: it meets neither cache nor database
    const found = await callers.check(id, key);
    if (found) return found;
    const waitMs = wrong.enter(`${id}|${networkOf(address)}`);
    return waitMs > 0 ? { wrong: 'throttled', waitMs } : { wrong: 'key' };
  };
  const ready: CallerCheck['ready'] = (id, key) => (isCallerId(id) ? callers.checkKnown(id, key) : null);
  /** By SHA-256 of the header, so that no key stays in memory, and how long it takes to find one shows nothing of it. */
  const seen = new LRUCache<string, Seen>(boundedCache(HEADERS_KEPT));
  const readyHeader: CallerCheck['readyHeader'] = (authorization) => {
    const at = hashTextOf(authorization);
    const kept = seen.get(at);
    if (kept && kept.epoch === callers.epoch() && (kept.endsAt === null || kept.endsAt > ports.clock.now())) return kept;
    const pair = callerPair(authorization);
    const found = pair && ready(pair.id, pair.key);
    if (found) seen.set(at, { ...found, epoch: callers.epoch(), endsAt: found.caller.keys.find((one) => one.id === found.keyId)?.endsAt ?? null });
    return found;
  };
  return Object.assign(check, { ready, readyHeader });
}

import ipaddr from 'ipaddr.js';
import { LRUCache } from 'lru-cache';
import { boundedCache } from './bounded-cache.ts';

/**
 * Slows down whoever fails again and again, by keys from outside: bounded in number, each of bounded length. A try counts before it is
 * judged, so that many at once are not all judged; one that was right is forgiven.
 */
export interface SlowDown {
  /** Counts a try. In how many ms it may be made; 0: now. */
  enter(key: string): number;
  /** How many tries failed lately. */
  failures(key: string): number;
  forgive(key: string): void;
}

interface Failing {
  tries: number;
  readyAt: number;
}

export interface SlowDownLimits {
  /** So many tries cost nothing. */
  free: number;
  firstWaitMs: number;
  mostWaitMs: number;
  /** Without a further try, what was counted is discarded after so long. */
  forgottenMs: number;
}

const MAX_KEYS = 20_000;
const MAX_KEY_LENGTH = 200;

export function slowDown({ free, firstWaitMs, mostWaitMs, forgottenMs }: SlowDownLimits): SlowDown {
  const failing = new LRUCache<string, Failing>({ ...boundedCache(MAX_KEYS), ttl: forgottenMs });
  const cut = (key: string) => key.slice(0, MAX_KEY_LENGTH);
  const now = () => performance.now();
  return {
    enter(long) {
      const key = cut(long);
      const known = failing.get(key) ?? { tries: 0, readyAt: 0 };
      const rest = known.readyAt - now();
      if (rest > 0) return Math.ceil(rest);
      const tries = known.tries + 1;
      const waitMs = tries < free ? 0 : Math.min(mostWaitMs, firstWaitMs * 2 ** Math.min(tries - free, 20));
      failing.set(key, { tries, readyAt: now() + waitMs });
      return 0;
    },
    failures: (key) => failing.get(cut(key))?.tries ?? 0,
    forgive: (key) => void failing.delete(cut(key)),
  };
}

/** The network of an address: whoever holds one address of it mostly holds the others too. */
export function networkOf(address: string): string {
  if (!ipaddr.isValid(address)) return 'unknown';
  const parsed = ipaddr.process(address);
  const bytes = parsed.toByteArray().slice(0, parsed instanceof ipaddr.IPv4 ? 3 : 7);
  return `${parsed.kind()}:${bytes.join('.')}`;
}

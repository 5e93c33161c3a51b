import type { JSONWebKeySet } from 'jose';
import { LRUCache } from 'lru-cache';
import { z } from 'zod';
import { parsedJson } from '../../core/json.ts';
import type { Send } from '../../core/oauth/wire.ts';
import type { Ports } from '../ports.ts';

/** An unknown key may be a new one: documents are fetched again for it, but not for everyone who asks. */
const AGAIN_MS = 30_000;

/** JSON documents that others publish, such as metadata (RFC 8414) and public keys (RFC 7517). */
export interface Published {
  /** The document at an address, or null where there is no good answer. */
  json(url: string, headers?: Record<string, string>): Promise<unknown>;
  /**
   * What `read` makes of a place, kept for a while; what was known stays while the place does not answer.
   * @param again fetch it although it is kept, unless that was done within 30 s
   */
  kept<T extends object>(place: string, again: boolean, read: () => Promise<T | null>): Promise<T | null>;
  /** The keys at an address, not kept. */
  keys(url: string): Promise<JSONWebKeySet | null>;
}

interface PublishedLimits {
  deadlineMs: number;
  limitBytes: number;
  keptMs: number;
  places: number;
  keys: number;
}

export function published({ send, ports, limits }: { send: Send; ports: Pick<Ports, 'clock'>; limits: PublishedLimits }): Published {
  const { deadlineMs, limitBytes } = limits;
  const known = new LRUCache<string, { value: object; at: number }>({ max: limits.places });
  const forced = new LRUCache<string, number>({ max: limits.places });
  const Keys = z.object({ keys: z.array(z.looseObject({ kty: z.string() })).max(limits.keys) });
  const json = async (url: string, headers: Record<string, string> = {}): Promise<unknown> => {
    const answer = await send({ method: 'GET', url, headers: { accept: 'application/json', ...headers }, deadlineMs, limitBytes });
    return answer.kind === 'answer' && answer.status === 200 && !answer.cut ? parsedJson(answer.body) : null;
  };
  return {
    json,
    async kept<T extends object>(place: string, again: boolean, read: () => Promise<T | null>): Promise<T | null> {
      const found = known.get(place);
      const now = ports.clock.now();
      const isFresh = again ? now - (forced.get(place) ?? Number.NEGATIVE_INFINITY) < AGAIN_MS : found !== undefined && now - found.at < limits.keptMs;
      if (found && isFresh) return found.value as T;
      if (again) forced.set(place, now);
      const fresh = await read();
      if (fresh !== null) known.set(place, { value: fresh, at: ports.clock.now() });
      return fresh ?? (found?.value as T | undefined) ?? null;
    },
    async keys(url) {
      const read = Keys.safeParse(await json(url));
      return read.success ? (read.data as JSONWebKeySet) : null;
    },
  };
}

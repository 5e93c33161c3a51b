import { LRUCache } from 'lru-cache';
import { isIssuedAhead, issuanceFloorMs } from '../../core/renewal/plan.ts';
import type { Secret } from '../../core/secret.ts';

export interface CachedToken {
  access: Secret;
  issuedAt: number;
  expiresAt: number;
  generation: number;
}

/** Access tokens in memory, capped by bytes. A newer generation replaces an older one, never the other way round. */
export interface TokenCache {
  get(grantId: string): CachedToken | undefined;
  put(grantId: string, token: CachedToken): void;
  drop(grantId: string): void;
}

const MAX_BYTES = 160 * 1024 * 1024;
const ENTRY_BYTES = 400;

export function tokenCache(): TokenCache {
  const kept = new LRUCache<string, CachedToken>({ maxSize: MAX_BYTES, sizeCalculation: (token) => token.access.reveal().length + ENTRY_BYTES });
  return {
    get: (grantId) => kept.get(grantId),
    put(grantId, token) {
      const present = kept.peek(grantId);
      if (!present || present.generation <= token.generation) kept.set(grantId, token);
    },
    drop: (grantId) => void kept.delete(grantId),
  };
}

/** True while a token may still be issued: its remaining lifetime is at or above the floor, and known. */
export const hasEnoughLife = (token: Pick<CachedToken, 'issuedAt' | 'expiresAt'>, now: number): boolean =>
  token.expiresAt - now >= issuanceFloorMs(token) && !isIssuedAhead(token, now);

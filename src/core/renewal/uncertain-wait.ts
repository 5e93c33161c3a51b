import { type Dialect, isSpendable } from '../provider/definition.ts';
import type { RenewalLimits } from './limits.ts';

/** A refresh token that may have been spent by a request whose answer nobody saved. All instants in epoch ms. */
export interface UncertainUse {
  /** When the first uncertain request was sent. */
  since: number;
  /** When the last one was sent. */
  sentAt: number;
  /** True when it is known that no process can still bring the answer. */
  nobodyHolds: boolean;
  /** Since when this replica has had unbroken contact with the database, through which a holder would show itself. */
  contactSince: number;
  /** The end of the access token that is held now, and the least remaining lifetime with which it is issued (ms). */
  expiresAt: number;
  floorMs: number;
}

/**
 * T9: how long to wait, in ms from `now`, before the token is used once more. Within a grace: not at all, while an answer would
 * still come inside it. Where a second use may end the grant, and nobody holds the answer: until a request that was given up can no
 * longer be processed, one lease after it was sent. Where someone may hold it: as long as a holder may need to come back.
 */
export function uncertainWaitMs(
  dialect: Dialect,
  use: UncertainUse,
  now: number,
  { limits, deadlineMs }: { limits: Pick<RenewalLimits, 'leaseMs' | 'holderWaitMs'>; deadlineMs: number },
): number {
  if (!isSpendable(dialect) || dialect.reuse === 'refused') return 0;
  const graceEndsAt = use.since + (dialect.reuse_grace_seconds ?? 0) * 1000;
  if (dialect.reuse === 'grace' && now + deadlineMs < graceEndsAt) return 0;
  if (use.nobodyHolds) return Math.max(0, use.sentAt + limits.leaseMs - now);
  const holderGoneAt = Math.max(use.sentAt, use.contactSince) + limits.holderWaitMs;
  return Math.max(0, holderGoneAt - now, use.expiresAt - use.floorMs - 2 * deadlineMs - now);
}

/** What a replica's heartbeat tells of one life of an instance; null: no trace of it is left. */
export interface HolderSign {
  seenAt: number;
  /** The watermark: when the oldest attempt in flight or unsaved answer was sent; null: there is none. */
  openSince: number | null;
  /** A later life of the same instance has replayed what this one left. */
  succeeded: boolean;
}

/** True when a lifetime that sent a request at `sentAt` can no longer bring its answer. */
export const cannotHold = (sign: HolderSign | null, sentAt: number, limits: Pick<RenewalLimits, 'leaseMs'>): boolean =>
  sign === null || sign.succeeded || (sign.seenAt > sentAt + limits.leaseMs && (sign.openSince === null || sign.openSince > sentAt));

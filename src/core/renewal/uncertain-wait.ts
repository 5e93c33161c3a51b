import { type Dialect, isSpendable } from '../provider/definition.ts';
import type { RenewalLimits } from './limits.ts';

export interface UncertainUse {
  /** When the first uncertain request was sent, epoch ms. */
  since: number;
  /** When the last one was sent. */
  sentAt: number;
}

/**
 * T9: how long to wait, in ms from `now`, before a refresh token whose use is uncertain is used once more,
 * where it is known that nobody can still hold the answer. Within a grace: at once, while an answer would still come inside it.
 * After it, or without one: when a request that we gave up on can no longer be processed, one lease after it was sent.
 */
export function uncertainWaitMs(dialect: Dialect, use: UncertainUse, now: number, limits: Pick<RenewalLimits, 'leaseMs'>, deadlineMs: number): number {
  if (!isSpendable(dialect) || dialect.reuse === 'refused') return 0;
  const graceEndsAt = use.since + (dialect.reuse_grace_seconds ?? 0) * 1000;
  if (dialect.reuse === 'grace' && now + deadlineMs < graceEndsAt) return 0;
  return Math.max(0, use.sentAt + limits.leaseMs - now);
}

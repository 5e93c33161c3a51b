/** The time limits of renewal, all in milliseconds; settings, which tests shorten together (docs/RENEWAL.md). */
export interface RenewalLimits {
  /** The longest a token request may take; shorter for short lives, see `requestDeadlineMs`. */
  deadlineMs: number;
  leaseMs: number;
  /** How much of the lease must be left over beyond the deadline when a request is armed. */
  marginMs: number;
  heartbeatMs: number;
  /** A replica without a heartbeat for this long is silent; a gap of ours this long breaks our contact. */
  silentMs: number;
  /** How long to wait for one who may hold an answer. */
  holderWaitMs: number;
  /** After a first rejection of a refresh token: when it is asked once more. */
  confirmMs: number;
  /** The worker looks for due rows this often. */
  pollMs: number;
  backoffBaseMs: number;
  backoffMostMs: number;
  /** While a client is stopped, one of its connections tries this often. */
  stoppedTryMs: number;
}

export const DEFAULT_LIMITS: RenewalLimits = {
  deadlineMs: 20_000,
  leaseMs: 60_000,
  marginMs: 10_000,
  heartbeatMs: 2_000,
  silentMs: 10_000,
  holderWaitMs: 120_000,
  confirmMs: 30_000,
  pollMs: 500,
  backoffBaseMs: 1_000,
  backoffMostMs: 15 * 60_000,
  stoppedTryMs: 15 * 60_000,
};

import type { Dialect } from '../provider/definition.ts';
import type { RenewalLimits } from './limits.ts';

/** One access token's lifetime, both ends in epoch ms of the database's clock. */
export interface TokenLife {
  issuedAt: number;
  expiresAt: number;
}

/** When to renew, epoch ms: a fifth to three tenths of the lifetime before expiry; `spread` in [0, 1) keeps a fleet apart. */
export function planRenewal(life: TokenLife, spread: number): number {
  const lifeMs = life.expiresAt - life.issuedAt;
  return Math.floor(life.expiresAt - lifeMs * (0.2 + 0.1 * spread));
}

/** When a connection is renewed: always in time; only while callers use it; or when a caller asks. */
export const POLICIES = ['always', 'when_used', 'on_demand'] as const;
export type RenewalPolicy = (typeof POLICIES)[number];

/** `when_used`: issued within this many milliseconds. */
const USED_LATELY_MS = 30 * 86_400_000;
/** Where a refresh token's idle lifetime is not known, it is used at least this often. */
const KEEP_ALIVE_MS = 7 * 86_400_000;

export interface Need {
  policy: RenewalPolicy;
  /** A paused connection is only kept active. */
  paused: boolean;
  /** Epoch ms of the last token issuance; null: never. */
  lastUsedAt: number | null;
}

/**
 * When the grant is renewed next, epoch ms: in time for the access token where it is wanted; in any case before half of the refresh
 * token's idle lifetime is over, counted from this renewal. A connection that is only kept active is renewed by the next token request.
 */
export function nextRenewalAt(life: TokenLife, need: Need, dialect: Pick<Dialect, 'idle_life_seconds'>, spread: number): number {
  const idleMs = dialect.idle_life_seconds === undefined ? KEEP_ALIVE_MS * 2 : dialect.idle_life_seconds * 1000;
  const keepAliveAt = life.issuedAt + Math.floor(idleMs * (0.5 - 0.05 * spread));
  const usedLately = need.lastUsedAt !== null && life.issuedAt - need.lastUsedAt < USED_LATELY_MS;
  const wanted = !need.paused && (need.policy === 'always' || (need.policy === 'when_used' && usedLately));
  if (!wanted) return keepAliveAt;
  const inTime = planRenewal(life, spread);
  return dialect.idle_life_seconds === undefined ? inTime : Math.min(inTime, keepAliveAt);
}

/** True where one renewal can be made just to verify it: a second use of the refresh token, should the answer be lost, costs nothing. */
export const mayVerifyRenewal = (dialect: Pick<Dialect, 'rotation' | 'reuse'>): boolean => dialect.rotation === 'never' || dialect.reuse !== 'kills_grant';

/** A token is issued at most so far in the future, in ms, as another replica's clock goes; beyond it, a clock was set back. */
const ISSUED_AHEAD_MS = 5_000;

/** True where the instants of a token cannot be believed: it was issued in the future, so its true remaining lifetime is not known. */
export const isIssuedAhead = (life: Pick<TokenLife, 'issuedAt'>, now: number): boolean => life.issuedAt > now + ISSUED_AHEAD_MS;

/** The least remaining lifetime, in ms, with which a token is still issued. */
export const issuanceFloorMs = (life: TokenLife): number => Math.min(60_000, (life.expiresAt - life.issuedAt) / 10);

/**
 * Until when a token may be issued where a renewal ends it, epoch ms: until it is due, and not at all while a renewal is under way or
 * its outcome is not known.
 */
export function endsByRenewalAt(
  row: TokenLife & { nextAt: number | null; leaseUntil: number | null; sentEpoch: number | null; uncertainSince: number | null },
  now: number,
): number {
  const underWay = (row.leaseUntil !== null && row.leaseUntil > now) || row.sentEpoch !== null || row.uncertainSince !== null;
  return underWay ? now : Math.min(row.nextAt ?? Number.POSITIVE_INFINITY, row.expiresAt - issuanceFloorMs(row));
}

/** How long a token request may take, in ms: short lives leave less time. `lifeMs` null: not known yet. */
export const requestDeadlineMs = (limits: Pick<RenewalLimits, 'deadlineMs'>, lifeMs: number | null): number =>
  lifeMs === null ? limits.deadlineMs : Math.min(limits.deadlineMs, Math.max(5_000, lifeMs / 4));

/** Full jitter: anywhere between a tenth and all of a ceiling that doubles with each failure, in ms. */
export function backoffMs(limits: Pick<RenewalLimits, 'backoffBaseMs' | 'backoffMostMs'>, failures: number, spread: number): number {
  const ceiling = Math.min(limits.backoffMostMs, limits.backoffBaseMs * 2 ** Math.min(failures, 30));
  return Math.ceil(ceiling * (0.1 + 0.9 * spread));
}

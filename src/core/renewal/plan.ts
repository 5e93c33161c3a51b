import type { RenewalLimits } from './limits.ts';

/** One access token's life, both ends in epoch ms of the database's clock. */
export interface TokenLife {
  issuedAt: number;
  expiresAt: number;
}

/** When to renew, epoch ms: a fifth to three tenths of the life before expiry; `spread` in [0, 1) keeps a fleet apart. */
export function planRenewal(life: TokenLife, spread: number): number {
  const lifeMs = life.expiresAt - life.issuedAt;
  return Math.floor(life.expiresAt - lifeMs * (0.2 + 0.1 * spread));
}

/** The least rest of life, in ms, with which a token is still handed out. */
export const handoutFloorMs = (life: TokenLife): number => Math.min(60_000, (life.expiresAt - life.issuedAt) / 10);

/** How long a token request may take, in ms: short lives leave less time. `lifeMs` null: not known yet. */
export const requestDeadlineMs = (limits: Pick<RenewalLimits, 'deadlineMs'>, lifeMs: number | null): number =>
  lifeMs === null ? limits.deadlineMs : Math.min(limits.deadlineMs, Math.max(5_000, lifeMs / 4));

/** Full jitter: anywhere between a tenth and all of a ceiling that doubles with each failure, in ms. */
export function backoffMs(limits: Pick<RenewalLimits, 'backoffBaseMs' | 'backoffMostMs'>, failures: number, spread: number): number {
  const ceiling = Math.min(limits.backoffMostMs, limits.backoffBaseMs * 2 ** Math.min(failures, 30));
  return Math.ceil(ceiling * (0.1 + 0.9 * spread));
}

/** Why a connection's renewal last went wrong; null while all is well. */
export const RENEWAL_CAUSES = [
  'refused',
  'lost_in_flight',
  'no_refresh_token',
  'client_refused',
  'set_up',
  'busy',
  'unsent',
  'unclear',
  'seal_broken',
  'unconfirmed',
] as const;
export type RenewalCause = (typeof RENEWAL_CAUSES)[number];

/**
 * The renewal row of one grant, as docs/RENEWAL.md has it. Instants are epoch ms of the database's clock,
 * ids are UUIDs. `generation` counts answers saved, `epoch` counts claims; (grant, epoch) names an attempt.
 */
export interface RenewalRow {
  nextAt: number | null;
  owner: string | null;
  claimId: string | null;
  epoch: number;
  leaseUntil: number | null;
  sentEpoch: number | null;
  sentBy: string | null;
  sentAt: number | null;
  uncertainSince: number | null;
  uncertainBy: string | null;
  refusedAt: number | null;
  generation: number;
  parentGeneration: number | null;
  savedEpoch: number | null;
  failures: number;
  ended: boolean;
  cause: RenewalCause | null;
  issuedAt: number;
  expiresAt: number;
}

export type RenewalColumn = keyof RenewalRow;
export type RenewalRowState = 'ended' | 'action_needed' | 'sent' | 'claimed' | 'uncertain' | 'idle';

/** Reads the state from the row: the first match counts. */
export function rowState(row: RenewalRow, now: number): RenewalRowState {
  const leaseLive = row.leaseUntil !== null && row.leaseUntil > now;
  if (row.ended) return 'ended';
  if (row.nextAt === null) return 'action_needed';
  if (leaseLive && row.sentEpoch === row.epoch) return 'sent';
  if (leaseLive) return 'claimed';
  if (row.uncertainSince !== null || row.sentEpoch !== null) return 'uncertain';
  return 'idle';
}

/** The row of a grant whose first answer was just saved. `nextAt` null: there is no refresh token to renew with. */
export const firstRow = (life: Pick<RenewalRow, 'issuedAt' | 'expiresAt'>, nextAt: number | null): RenewalRow => ({
  nextAt,
  owner: null,
  claimId: null,
  epoch: 0,
  leaseUntil: null,
  sentEpoch: null,
  sentBy: null,
  sentAt: null,
  uncertainSince: null,
  uncertainBy: null,
  refusedAt: null,
  generation: 1,
  parentGeneration: null,
  savedEpoch: null,
  failures: 0,
  ended: false,
  cause: nextAt === null ? 'no_refresh_token' : null,
  ...life,
});

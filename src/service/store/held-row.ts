import type { RenewalRow } from '../../core/renewal/row.ts';

/** One claimed or read renewal row with its sealed tokens. */
export interface HeldRow {
  grantId: string;
  row: RenewalRow;
  /** The database's time of the reading, epoch ms. */
  readAt: number;
  accessSealed: Buffer;
  refreshSealed: Buffer | null;
}

export interface SealedTokens {
  accessSealed: Buffer;
  /** Null: the answer brought none, and the stored one stays. */
  refreshSealed: Buffer | null;
}

import { type Database, idBytes, instantText } from './database.ts';

/** A sealed answer that could not become current. Instants are epoch ms. */
interface SpareRow {
  grantId: string;
  epoch: number;
  generation: number;
  /** `raw`: an answer that could not be read, kept as evidence. */
  kind: 'tokens' | 'raw';
  accessSealed: Buffer;
  refreshSealed: Buffer | null;
  issuedAt: number;
  expiresAt: number;
}

export interface SpareStore {
  /** Adds it once for each grant and epoch. */
  add(row: SpareRow): Promise<void>;
  /** Those of a grant that hold a refresh token, newest first. */
  of(grantId: string, most: number): Promise<(SpareRow & { refreshSealed: Buffer })[]>;
  remove(grantId: string, epoch: number): Promise<void>;
  /** Deletes those of grants that ended, or that were renewed since with what was current. */
  sweep(): Promise<void>;
}

export function spareStore(database: Database): SpareStore {
  return {
    add: async (row) =>
      void (await database.write(
        `INSERT IGNORE INTO spare_tokens (grant_id, epoch, generation, kind, access_sealed, refresh_sealed, issued_at, expires_at)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
        [
          ...[idBytes(row.grantId), row.epoch, row.generation, row.kind, row.accessSealed, row.refreshSealed],
          ...[instantText(row.issuedAt), instantText(row.expiresAt)],
        ],
      )),
    async of(grantId, most) {
      const rows = await database.select<{
        epoch: number | bigint;
        generation: number | bigint;
        access_sealed: Buffer;
        refresh_sealed: Buffer;
        issued_at: Date;
        expires_at: Date;
      }>(
        `SELECT epoch, generation, access_sealed, refresh_sealed, issued_at, expires_at FROM spare_tokens
         WHERE grant_id = $1 AND kind = 'tokens' AND refresh_sealed IS NOT NULL
         ORDER BY generation DESC, epoch DESC LIMIT ${Math.floor(most)}`,
        [idBytes(grantId)],
      );
      return rows.map((row) => ({
        grantId,
        epoch: Number(row.epoch),
        generation: Number(row.generation),
        kind: 'tokens',
        accessSealed: row.access_sealed,
        refreshSealed: row.refresh_sealed,
        issuedAt: row.issued_at.getTime(),
        expiresAt: row.expires_at.getTime(),
      }));
    },
    remove: async (grantId, epoch) => void (await database.write('DELETE FROM spare_tokens WHERE grant_id = $1 AND epoch = $2', [idBytes(grantId), epoch])),
    sweep: async () =>
      void (await database.write(
        `DELETE s FROM spare_tokens s LEFT JOIN renewals r ON r.grant_id = s.grant_id
         WHERE r.grant_id IS NULL OR r.ended = 1 OR r.parent_generation > s.generation`,
      )),
  };
}

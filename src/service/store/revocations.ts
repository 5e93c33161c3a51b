import { bytes, id, instant, number, orNull, text, textMap } from './column.ts';
import { type Database, idBytes, idText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  grantId: id,
  connectionName: text,
  clientId: id,
  placeholders: textMap,
  accessSealed: bytes,
  refreshSealed: orNull(bytes),
  tries: number,
  nextAt: orNull(instant),
  says: text,
  createdAt: instant,
};
export type RevocationRow = RowOf<typeof COLUMNS>;

/** Tokens that the provider must still be asked to revoke, sealed and kept for that alone. */
export interface RevocationStore {
  byGrant(grantId: string): Promise<RevocationRow | null>;
  ofConnection(name: string): Promise<RevocationRow[]>;
  count(): Promise<number>;
  add(row: RevocationRow): Promise<void>;
  change(grantId: string, set: Partial<RevocationRow>): Promise<void>;
  remove(grantId: string): Promise<void>;
  /** Grants whose revocation is due. */
  due(most: number): Promise<string[]>;
  /** Takes one that is due; another replica may take it after `forMs`. */
  claim(grantId: string, forMs: number): Promise<boolean>;
}

export function revocationStore(database: Database): RevocationStore {
  const table = defineTable(database, 'revocations', COLUMNS, { primaryKey: ['grantId'] });
  return {
    byGrant: (grantId) => table.find({ grantId }),
    ofConnection: (name) => table.list({ connectionName: name }),
    count: () => table.count(),
    add: (row) => table.insert(row),
    change: async (grantId, set) => void (await table.change({ grantId }, set)),
    remove: async (grantId) => void (await table.remove({ grantId })),
    async due(most) {
      const rows = await database.select<{ grant_id: Buffer }>(
        `SELECT grant_id FROM revocations WHERE next_at <= UTC_TIMESTAMP(3) ORDER BY next_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map((row) => idText(row.grant_id));
    },
    claim: async (grantId, forMs) =>
      (await database.write(
        `UPDATE revocations SET next_at = UTC_TIMESTAMP(3) + ${intervalText(forMs)}
         WHERE grant_id = $1 AND next_at <= UTC_TIMESTAMP(3)`,
        [idBytes(grantId)],
      )) > 0,
  };
}

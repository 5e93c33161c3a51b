import { bytes, id, instant, number, oneOf, text } from './column.ts';
import { type Database, idBytes } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = { id, wrapped: bytes, masterKeyName: text, state: oneOf(['active', 'opens_only']), seals: number, createdAt: instant };
type DataKeyRow = RowOf<typeof COLUMNS>;

/** The keys that seal, each wrapped by the master key. */
export interface DataKeyStore {
  all(): Promise<DataKeyRow[]>;
  newestActive(): Promise<DataKeyRow | null>;
  add(row: DataKeyRow): Promise<void>;
  /** Counts so many seals ahead. */
  reserve(keyId: string, seals: number): Promise<void>;
  /** Wraps it under another master key; false: another replica did. */
  rewrap(keyId: string, former: string, set: { wrapped: Buffer; masterKeyName: string }): Promise<boolean>;
  /** Deletes a key that seals nothing any more, and does not seal. */
  destroy(keyId: string): Promise<void>;
  /** The key opens what it sealed, and seals no more. */
  retire(keyId: string): Promise<void>;
}

export function dataKeyStore(database: Database): DataKeyStore {
  const table = defineTable(database, 'data_keys', COLUMNS, { primaryKey: ['id'] });
  return {
    all: () => table.list({}, { orderBy: 'id' }),
    newestActive: async () => (await table.list({ state: 'active' }, { orderBy: 'createdAt' })).at(-1) ?? null,
    add: (row) => table.insert(row),
    reserve: async (keyId, seals) => void (await database.write(`UPDATE data_keys SET seals = seals + ${Math.floor(seals)} WHERE id = $1`, [idBytes(keyId)])),
    rewrap: async (keyId, former, set) => (await table.change({ id: keyId, masterKeyName: former }, set)) > 0,
    destroy: async (keyId) => void (await table.remove({ id: keyId, state: 'opens_only' })),
    retire: async (keyId) => void (await table.change({ id: keyId }, { state: 'opens_only' })),
  };
}

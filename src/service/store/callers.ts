import { bytes, flag, id, instant, orElse, orNull, readColumn, text, textList } from './column.ts';
import { type Database, idBytes, idText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const CALLER = {
  id,
  name: text,
  title: text,
  callerId: text,
  tokenPath: orNull(text),
  redirectUris: orElse(textList, []),
  keepsNoSecret: flag,
  createdAt: instant,
};
const KEY = {
  id,
  callerId: id,
  label: text,
  starts: text,
  hash: bytes,
  startsAt: instant,
  endsAt: orNull(instant),
  lastUsedAt: orNull(instant),
  retired: flag,
};
export type CallerRow = RowOf<typeof CALLER>;
type CallerKeyRow = RowOf<typeof KEY>;

/** A caller with its keys, as requests are checked by it. */
export interface CallerWithKeys extends Omit<CallerRow, 'title' | 'createdAt'> {
  /** Some of what it may use is permitted by label. */
  byLabel: boolean;
  keys: { id: string; hash: Buffer; endsAt: number | null }[];
}

/** Callers and their keys. What they may use is in `permissions.ts`. */
export interface CallerStore {
  byName(name: string): Promise<CallerRow | null>;
  byId(recordId: string): Promise<CallerRow | null>;
  byTokenPath(path: string): Promise<CallerRow | null>;
  /** By the ID that it sends; with the keys that have not expired. */
  withKeys(callerId: string): Promise<CallerWithKeys | null>;
  /** By name. */
  all(): Promise<CallerRow[]>;
  tokenPaths(): Promise<string[]>;
  /** Redirect URIs of tools that keep no secret: such a tool may be a page in a browser. */
  publicRedirectUris(): Promise<string[]>;
  add(row: CallerRow): Promise<void>;
  change(recordId: string, set: Partial<CallerRow>): Promise<void>;
  /** Removes the caller with keys, permissions and open sign-in requests. */
  remove(recordId: string): Promise<void>;
  /** By start date. */
  keysOf(recordId: string): Promise<CallerKeyRow[]>;
  /** It stops working then. */
  endKey(keyId: string, at: number): Promise<void>;
  key(recordId: string, keyId: string): Promise<CallerKeyRow | null>;
  addKey(row: CallerKeyRow): Promise<void>;
  /** Someone ended it: nobody is told that it expired. `at`: epoch ms. */
  retireKey(keyId: string, at: number): Promise<void>;
  keyUsed(keyId: string): Promise<void>;
}

export function callerStore(database: Database): CallerStore {
  const callers = defineTable(database, 'callers', CALLER, { primaryKey: ['id'] });
  const keys = defineTable(database, 'caller_keys', KEY, { primaryKey: ['id'] });
  return {
    byName: (name) => callers.find({ name }),
    byId: (recordId) => callers.find({ id: recordId }),
    byTokenPath: (path) => callers.find({ tokenPath: path }),
    async withKeys(callerId) {
      const rows = await database.select<{
        id: Buffer;
        name: string;
        token_path: string | null;
        redirect_uris: string | null;
        keeps_no_secret: number;
        by_label: number;
        key_id: Buffer | null;
        hash: Buffer | null;
        ends_at: Date | null;
      }>(
        `SELECT c.id, c.name, c.token_path, c.redirect_uris, c.keeps_no_secret,
           EXISTS (SELECT 1 FROM permissions p WHERE p.caller_id = c.id AND p.label IS NOT NULL) AS by_label,
           k.id AS key_id, k.hash, k.ends_at
         FROM callers c LEFT JOIN caller_keys k ON k.caller_id = c.id AND (k.ends_at IS NULL OR k.ends_at > UTC_TIMESTAMP(3))
         WHERE c.caller_id = $1`,
        [callerId],
      );
      const [first] = rows;
      if (!first) return null;
      return {
        id: idText(first.id),
        name: first.name,
        callerId,
        tokenPath: first.token_path,
        redirectUris: readColumn(CALLER.redirectUris, first.redirect_uris, { table: 'callers', column: 'redirect_uris', row: first.name }),
        keepsNoSecret: Number(first.keeps_no_secret) === 1,
        byLabel: Number(first.by_label) === 1,
        keys: rows.flatMap((row) => (row.key_id && row.hash ? [{ id: idText(row.key_id), hash: row.hash, endsAt: row.ends_at?.getTime() ?? null }] : [])),
      };
    },
    all: () => callers.list({}, { orderBy: 'name' }),
    tokenPaths: async () =>
      (await database.select<{ token_path: string }>('SELECT token_path FROM callers WHERE token_path IS NOT NULL')).map((row) => row.token_path),
    publicRedirectUris: async () => (await callers.list({ keepsNoSecret: true })).flatMap((row) => row.redirectUris),
    add: (row) => callers.insert(row),
    change: async (recordId, set) => void (await callers.change({ id: recordId }, set)),
    remove: async (recordId) => void (await callers.remove({ id: recordId })),
    endKey: async (keyId, endsAt) => void (await keys.change({ id: keyId }, { endsAt })),
    keysOf: (recordId) => keys.list({ callerId: recordId }, { orderBy: 'startsAt' }),
    key: (recordId, keyId) => keys.find({ id: keyId, callerId: recordId }),
    addKey: (row) => keys.insert(row),
    retireKey: async (keyId, at) => void (await keys.change({ id: keyId }, { endsAt: at, retired: true })),
    keyUsed: async (keyId) => void (await database.write('UPDATE caller_keys SET last_used_at = UTC_TIMESTAMP(3) WHERE id = $1', [idBytes(keyId)])),
  };
}

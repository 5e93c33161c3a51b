import { SaveCall } from '../../api/trying.ts';
import { bytes, id, instant, json, orNull, text } from './column.ts';
import type { Database } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  ...{ id, connectionId: id, name: text, callDocument: json(SaveCall.omit({ name: true })), callDocumentSealed: orNull(bytes) },
  ...{ savedBy: text, savedAt: instant },
};
export type SavedCallRow = RowOf<typeof COLUMNS>;

/** Calls that someone saved with a connection. */
export interface SavedCallStore {
  /** By name. */
  ofConnection(connectionId: string): Promise<SavedCallRow[]>;
  /** All of them, by connection. */
  byConnection(): Promise<Map<string, SavedCallRow[]>>;
  /** Methods and paths of the calls saved with these connections. */
  callsOf(connectionIds: readonly string[]): Promise<Map<string, { method: string; path: string }[]>>;
  /** Documents that an earlier version wrote: not checked for secrets yet. */
  unsealed(most: number): Promise<SavedCallRow[]>;
  byName(connectionId: string, name: string): Promise<SavedCallRow | null>;
  add(row: SavedCallRow): Promise<void>;
  change(callId: string, set: Partial<SavedCallRow>): Promise<void>;
  /** False: there was none of this name. */
  remove(connectionId: string, name: string): Promise<boolean>;
}

export function savedCallStore(database: Database): SavedCallStore {
  const table = defineTable(database, 'saved_calls', COLUMNS, { primaryKey: ['id'] });
  return {
    ofConnection: (connectionId) => table.list({ connectionId }, { orderBy: 'name' }),
    async byConnection() {
      const found = new Map<string, SavedCallRow[]>();
      for (const row of await table.list({}, { orderBy: 'name' })) {
        const own = found.get(row.connectionId);
        if (own) own.push(row);
        else found.set(row.connectionId, [row]);
      }
      return found;
    },
    async callsOf(connectionIds) {
      const found = new Map<string, { method: string; path: string }[]>();
      const wanted = new Set(connectionIds);
      for (const row of await table.list()) {
        if (!wanted.has(row.connectionId)) continue;
        const { method, path } = row.callDocument.call;
        found.set(row.connectionId, [...(found.get(row.connectionId) ?? []), { method, path }]);
      }
      return found;
    },
    unsealed: (most) => table.list({ callDocumentSealed: null }, { limit: most }),
    byName: (connectionId, name) => table.find({ connectionId, name }),
    add: (row) => table.insert(row),
    change: async (callId, set) => void (await table.change({ id: callId }, set)),
    remove: async (connectionId, name) => (await table.remove({ connectionId, name })) > 0,
  };
}

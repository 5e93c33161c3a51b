import { type Database, idBytes, idText, instantText } from './database.ts';

/** Kinds of change that other replicas must learn of soon. */
export type ChangeKind = 'caller' | 'connection' | 'client' | 'provider' | 'installation' | 'quota' | 'log_level' | 'keys';

/** What replicas announce to each other. Instants are epoch ms of the database. */
export interface ChangeStore {
  /** Oldest first. */
  since(at: number): Promise<{ id: string; at: number; kind: ChangeKind; subject: string }[]>;
  add(change: { id: string; kind: ChangeKind; subject: string }): Promise<void>;
  deleteBefore(at: number): Promise<void>;
}

export function changeStore(database: Database): ChangeStore {
  return {
    async since(at) {
      const rows = await database.select<{ id: Buffer; at: Date; kind: ChangeKind; subject: string }>(
        'SELECT id, at, kind, subject FROM changes WHERE at > $1 ORDER BY at',
        [instantText(at)],
      );
      return rows.map((row) => ({ ...row, id: idText(row.id), at: row.at.getTime() }));
    },
    add: async ({ id, kind, subject }) =>
      void (await database.write('INSERT INTO changes (id, at, kind, subject) VALUES ($1, UTC_TIMESTAMP(3), $2, $3)', [idBytes(id), kind, subject])),
    deleteBefore: async (at) => void (await database.write('DELETE FROM changes WHERE at < $1 LIMIT 1000', [instantText(at)])),
  };
}

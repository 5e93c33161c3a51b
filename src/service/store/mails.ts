import { bytes, id, instant, number, oneOf, text } from './column.ts';
import { type Database, idBytes, idText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  /** The person's row. */
  connectionId: id,
  recipient: text,
  letterSealed: bytes,
  state: oneOf(['waiting', 'sent', 'failed']),
  tries: number,
  says: text,
  createdAt: instant,
  nextAt: instant,
};
export type MailRow = RowOf<typeof COLUMNS>;

/** Mail on its way to people. Instants are epoch ms. */
export interface MailStore {
  add(row: MailRow): Promise<void>;
  due(most: number): Promise<MailRow[]>;
  /** Takes one for a while. False: someone else has it. */
  claim(mailId: string, forMs: number): Promise<boolean>;
  change(mailId: string, set: Partial<MailRow>): Promise<void>;
  /** Deletes what was sent, or given up, so long ago. */
  deleteOld(olderThanMs: number): Promise<void>;
}

export function mailStore(database: Database): MailStore {
  const table = defineTable(database, 'mails', COLUMNS, { primaryKey: ['id'] });
  const waits = "state = 'waiting' AND next_at <= UTC_TIMESTAMP(3)";
  return {
    add: (row) => table.insert(row),
    async due(most) {
      const rows = await database.select<{ id: Buffer }>(`SELECT id FROM mails WHERE ${waits} ORDER BY next_at LIMIT ${Math.floor(most)}`);
      return rows.length === 0 ? [] : table.list({ id: rows.map((row) => idText(row.id)) });
    },
    claim: async (mailId, forMs) =>
      (await database.write(`UPDATE mails SET next_at = UTC_TIMESTAMP(3) + ${intervalText(forMs)} WHERE id = $1 AND ${waits}`, [idBytes(mailId)])) > 0,
    change: async (mailId, set) => void (await table.change({ id: mailId }, set)),
    deleteOld: async (olderThanMs) =>
      void (await database.write(`DELETE FROM mails WHERE state <> 'waiting' AND created_at < UTC_TIMESTAMP(3) - ${intervalText(olderThanMs)} LIMIT 5000`)),
  };
}

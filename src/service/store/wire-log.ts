import type { WireRecord } from '../../core/oauth/wire-record.ts';
import { documentWith, id, instant, json, rowReader, text } from './column.ts';
import { type Bind, type Database, idBytes, instantText } from './database.ts';

const readAttempt = rowReader('wire_log', { grantId: id, at: instant, kind: text, record: json(documentWith<WireRecord>('request', 'answer')) }, 'grantId');

/** One attempt of a grant, masked. `slot`: its place among those kept; `at`: epoch ms. */
export interface WireRow {
  grantId: string;
  slot: number;
  at: number;
  kind: string;
  record: WireRecord;
}

export interface WireLogStore {
  /** Puts attempts into their slots, in place of earlier ones. */
  put(rows: readonly WireRow[]): Promise<void>;
  /** Newest first. */
  of(grantId: string): Promise<Omit<WireRow, 'slot'>[]>;
}

export function wireLogStore(database: Database): WireLogStore {
  return {
    async put(rows) {
      const bind: Bind[] = [];
      const values = rows.map((row) =>
        [idBytes(row.grantId), row.slot, instantText(row.at), row.kind, JSON.stringify(row.record)].map((value) => `$${bind.push(value)}`).join(', '),
      );
      await database.write(
        `INSERT INTO wire_log (grant_id, n, at, class, record) VALUES (${values.join('), (')})
         ON DUPLICATE KEY UPDATE at = VALUES(at), class = VALUES(class), record = VALUES(record)`,
        bind,
      );
    },
    async of(grantId) {
      const rows = await database.select('SELECT grant_id AS grantId, at, class AS kind, record FROM wire_log WHERE grant_id = $1 ORDER BY at DESC', [
        idBytes(grantId),
      ]);
      return rows.map(readAttempt);
    },
  };
}

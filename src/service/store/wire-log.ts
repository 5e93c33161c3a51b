import type { WireRecord } from '../../core/oauth/wire-record.ts';
import { type Bind, type Database, idBytes, instantText } from './database.ts';

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
  of(grantId: string): Promise<{ at: number; kind: string; record: WireRecord }[]>;
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
      const rows = await database.select<{ at: Date; class: string; record: string }>(
        'SELECT at, class, record FROM wire_log WHERE grant_id = $1 ORDER BY at DESC',
        [idBytes(grantId)],
      );
      return rows.map((row) => ({ at: row.at.getTime(), kind: row.class, record: JSON.parse(row.record) as WireRecord }));
    },
  };
}

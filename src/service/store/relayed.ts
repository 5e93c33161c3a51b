import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

/** One relayed call as it is kept for a day; its query and body never are. */
export interface RelayedRow {
  status: number | null;
  method: string;
  path: string;
  cause: string | null;
  says: string | null;
  remedy: string | null;
}
type Pair = { callerId: string; connectionId: string };

/** How relayed calls went in the last day, by caller and connection. Instants are epoch ms. */
export interface RelayedStore {
  /** Adds to the count of an hour and class: 0 for no answer, else the first digit of the status. */
  count(of: Pair, hour: number, group: number, count: number): Promise<void>;
  /** Keeps a call as the last one, or as the last one that failed. */
  keep(of: Pair, kind: 'last' | 'failed', at: number, row: RelayedRow): Promise<void>;
  /** Counts and last calls, of one caller by connection or of one connection by caller; `other` is the ID of the other. */
  read(of: { callerId: string } | { connectionId: string }): Promise<{
    counts: { other: string; group: number; n: number }[];
    lasts: (RelayedRow & { other: string; kind: 'last' | 'failed'; at: number })[];
  }>;
  /** Deletes what is older than a day, at most so many rows of each table. */
  deleteOld(most: number): Promise<void>;
}

const DAY = 'UTC_TIMESTAMP(3) - INTERVAL 1 DAY';
const KEPT_HOURS = 25;
const ROWS_MOST = 10_000;

export function relayedStore(database: Database): RelayedStore {
  return {
    count: async (of, hour, group, count) =>
      void (await database.write(
        `INSERT INTO relayed_hours (caller_id, connection_id, hour, class, count) VALUES ($1, $2, $3, $4, $5)
         ON DUPLICATE KEY UPDATE count = count + VALUES(count)`,
        [idBytes(of.callerId), idBytes(of.connectionId), instantText(hour), group, count],
      )),
    async keep(of, kind, at, row) {
      const values: Bind[] = [
        ...[idBytes(of.callerId), idBytes(of.connectionId), kind, instantText(at)],
        ...[row.status, row.method, row.path, row.cause, row.says, row.remedy],
      ];
      await database.write(
        `REPLACE INTO relayed_last (caller_id, connection_id, kind, at, status, method, path, cause, says, remedy)
         VALUES (${values.map((_one, index) => `$${index + 1}`).join(', ')})`,
        values,
      );
    },
    async read(of) {
      const [mine, other, key] = 'callerId' in of ? ['caller_id', 'connection_id', of.callerId] : ['connection_id', 'caller_id', of.connectionId];
      const [counts, lasts] = await Promise.all([
        database.select<{ other: Buffer; class: number; n: number | bigint | string }>(
          `SELECT ${other} AS other, class, SUM(count) AS n FROM relayed_hours
           WHERE ${mine} = $1 AND hour > ${DAY} GROUP BY ${other}, class LIMIT ${ROWS_MOST}`,
          [idBytes(key)],
        ),
        database.select<RelayedRow & { other: Buffer; kind: 'last' | 'failed'; at: Date }>(
          `SELECT ${other} AS other, kind, at, status, method, path, cause, says, remedy FROM relayed_last
           WHERE ${mine} = $1 AND at > ${DAY} LIMIT ${ROWS_MOST}`,
          [idBytes(key)],
        ),
      ]);
      return {
        counts: counts.map((row) => ({ other: idText(row.other), group: row.class, n: Number(row.n) })),
        lasts: lasts.map((row) => ({ ...row, other: idText(row.other), at: row.at.getTime() })),
      };
    },
    async deleteOld(most) {
      const old = `UTC_TIMESTAMP(3) - INTERVAL ${KEPT_HOURS} HOUR LIMIT ${Math.floor(most)}`;
      await database.write(`DELETE FROM relayed_hours WHERE hour < ${old}`);
      await database.write(`DELETE FROM relayed_last WHERE at < ${old}`);
    },
  };
}

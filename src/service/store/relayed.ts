import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

/** One relayed call as it is kept for a day; its query and body never are. */
interface RelayedRow {
  status: number | null;
  method: string;
  path: string;
  cause: string | null;
  says: string | null;
  remedy: string | null;
}
interface Pair {
  callerId: string;
  connectionId: string;
}
/** So many calls in an hour (epoch ms) with this class: 0 for no answer, else the first digit of the status. */
interface RelayedCount extends Pair {
  hour: number;
  group: number;
  count: number;
}
/** The last call, or the last one that failed. */
interface RelayedLast extends Pair, RelayedRow {
  kind: 'last' | 'failed';
  at: number;
}

/** How relayed calls went in the last day, by caller and connection. Instants are epoch ms. */
export interface RelayedStore {
  /** Adds to the counts; at least one, in one statement. */
  count(counts: readonly RelayedCount[]): Promise<void>;
  /** Keeps calls; at least one, in one statement. Of two of one kind the later in the list stays. */
  keep(lasts: readonly RelayedLast[]): Promise<void>;
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
const MAX_ROWS = 10_000;

const pairOf = (one: Pair): Bind[] => [idBytes(one.callerId), idBytes(one.connectionId)];
/** Rows of a statement with what they bind. */
function rowsOf(rows: readonly Bind[][]): { values: string; bind: Bind[] } {
  const bind: Bind[] = [];
  return { values: rows.map((row) => `(${row.map((value) => `$${bind.push(value)}`).join(', ')})`).join(', '), bind };
}

export function relayedStore(database: Database): RelayedStore {
  return {
    async count(counts) {
      const { values, bind } = rowsOf(counts.map((one) => [...pairOf(one), instantText(one.hour), one.group, one.count]));
      await database.write(
        `INSERT INTO relayed_hours (caller_id, connection_id, hour, class, count) VALUES ${values}
         ON DUPLICATE KEY UPDATE count = count + VALUES(count)`,
        bind,
      );
    },
    async keep(lasts) {
      const { values, bind } = rowsOf(
        lasts.map((one) => [...[...pairOf(one), one.kind, instantText(one.at)], ...[one.status, one.method, one.path, one.cause, one.says, one.remedy]]),
      );
      await database.write(`REPLACE INTO relayed_last (caller_id, connection_id, kind, at, status, method, path, cause, says, remedy) VALUES ${values}`, bind);
    },
    async read(of) {
      const [mine, other, key] = 'callerId' in of ? ['caller_id', 'connection_id', of.callerId] : ['connection_id', 'caller_id', of.connectionId];
      const [counts, lasts] = await Promise.all([
        database.select<{ other: Buffer; class: number; n: number | bigint | string }>(
          `SELECT ${other} AS other, class, SUM(count) AS n FROM relayed_hours
           WHERE ${mine} = $1 AND hour > ${DAY} GROUP BY ${other}, class LIMIT ${MAX_ROWS}`,
          [idBytes(key)],
        ),
        database.select<RelayedRow & { other: Buffer; kind: 'last' | 'failed'; at: Date }>(
          `SELECT ${other} AS other, kind, at, status, method, path, cause, says, remedy FROM relayed_last
           WHERE ${mine} = $1 AND at > ${DAY} LIMIT ${MAX_ROWS}`,
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

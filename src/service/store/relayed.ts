import { type Bind, type Database, idBytes, instantText } from './database.ts';

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
const DAY = 'UTC_TIMESTAMP(3) - INTERVAL 1 DAY';
const KEPT_HOURS = 25;
const ROWS_MOST = 10_000;

/** Adds to the count of an hour (epoch ms) and class: 0 for no answer, else the first digit of the status. */
export const countRelayed = (database: Pick<Database, 'write'>, of: Pair, hour: number, group: number, count: number): Promise<number> =>
  database.write(
    'INSERT INTO relayed_hours (caller_id, connection_id, hour, class, count) VALUES ($1, $2, $3, $4, $5) ON DUPLICATE KEY UPDATE count = count + VALUES(count)',
    [idBytes(of.callerId), idBytes(of.connectionId), instantText(hour), group, count],
  );

/** Keeps a call as the last one, or as the last one that failed. `at`: epoch ms. */
export async function keepRelayed(database: Pick<Database, 'write'>, of: Pair, kind: 'last' | 'failed', at: number, row: RelayedRow): Promise<void> {
  const values: Bind[] = [
    ...[idBytes(of.callerId), idBytes(of.connectionId), kind, instantText(at)],
    ...[row.status, row.method, row.path, row.cause, row.says, row.remedy],
  ];
  await database.write(
    `REPLACE INTO relayed_last (caller_id, connection_id, kind, at, status, method, path, cause, says, remedy) VALUES (${values.map((_one, index) => `$${index + 1}`).join(', ')})`,
    values,
  );
}

/** Counts and last calls of the last day, of one caller by connection or of one connection by caller; `other` is the id of the other. */
export function readRelayed(database: Pick<Database, 'select'>, of: 'caller_id' | 'connection_id', id: Buffer) {
  const other = of === 'caller_id' ? 'connection_id' : 'caller_id';
  return Promise.all([
    database.select<{ other: Buffer; class: number; n: number | bigint | string }>(
      `SELECT ${other} AS other, class, SUM(count) AS n FROM relayed_hours WHERE ${of} = $1 AND hour > ${DAY} GROUP BY ${other}, class LIMIT ${ROWS_MOST}`,
      [id],
    ),
    database.select<RelayedRow & { other: Buffer; kind: 'last' | 'failed'; at: Date }>(
      `SELECT ${other} AS other, kind, at, status, method, path, cause, says, remedy FROM relayed_last WHERE ${of} = $1 AND at > ${DAY} LIMIT ${ROWS_MOST}`,
      [id],
    ),
  ]);
}

/** Deletes what is older than a day, at most so many rows of each table. */
export async function deleteOldRelayed(database: Pick<Database, 'write'>, most: number): Promise<void> {
  const old = `UTC_TIMESTAMP(3) - INTERVAL ${KEPT_HOURS} HOUR LIMIT ${Math.floor(most)}`;
  await database.write(`DELETE FROM relayed_hours WHERE hour < ${old}`);
  await database.write(`DELETE FROM relayed_last WHERE at < ${old}`);
}

/** Deletes the counts of minutes that are older than so many days, at most so many rows. */
export const deleteOldUsage = (database: Pick<Database, 'write'>, days: number, most: number): Promise<number> =>
  database.write(`DELETE FROM usage_minutes WHERE minute < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(days)} DAY LIMIT ${Math.floor(most)}`);

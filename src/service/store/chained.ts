import { DatabaseError, type Sequelize } from 'sequelize';
import type { Bind } from './ids.ts';

/** A pooled connection of the driver, as far as it is used here. */
interface Queries {
  query(sql: string, values: readonly Bind[]): Promise<[rows: { changed: number | bigint }[], end: unknown]>;
}

/** `$1`, `$2` stand for values, as in every other statement. */
const compound = (first: string, then: string): string => `BEGIN NOT ATOMIC
  DECLARE EXIT HANDLER FOR SQLEXCEPTION BEGIN ROLLBACK; RESIGNAL; END;
  START TRANSACTION;
  ${first};
  IF ROW_COUNT() = 0 THEN
    ROLLBACK;
    SELECT 0 AS changed;
  ELSE
    ${then};
    COMMIT;
    SELECT 1 AS changed;
  END IF;
END`;

/**
 * Runs two statements as one: one round trip instead of four, which is a tenth of the time of a job. `then` runs where `first` changes a
 * row; both are done, or neither.
 * @returns false: `first` changed no row
 */
export async function chained(sequelize: Sequelize, first: string, then: string, bind: readonly Bind[]): Promise<boolean> {
  const values: Bind[] = [];
  const sql = compound(first, then).replace(/\$(\d+)/g, (_all, place: string) => {
    values.push(bind[Number(place) - 1] ?? null);
    return '?';
  });
  const { connectionManager } = sequelize;
  const connection = await connectionManager.getConnection({ type: 'write' });
  try {
    const [[row]] = await (connection as Queries).query(sql, values);
    connectionManager.releaseConnection(connection);
    return Number(row?.changed) === 1;
  } catch (error) {
    // What is killed for taking too long skips the handler, and leaves its transaction open: it ends with its connection.
    await connectionManager.destroyConnection(connection);
    throw error instanceof Error ? new DatabaseError(Object.assign(error, { sql: '' })) : error;
  }
}

import { type Database, idText } from './database.ts';
import { SEALED_TABLES, type SealedValue, sealedValueStore } from './sealed-values.ts';

/** Looks through a database that was restored for practice. */
export interface PracticeStore {
  counts(): Promise<Record<string, number>>;
  /** Every sealed value. */
  sealed(): AsyncGenerator<SealedValue>;
  /** Rows of tables without foreign keys whose owner is gone, where there are any. */
  orphans(): Promise<Record<string, number>>;
  /** Files of results: how many have all their pieces, and the runs of those that have not. */
  results(): Promise<{ whole: number; broken: string[] }>;
}

const COUNTED = ['providers', 'clients', 'connections', 'grants', 'callers', 'jobs', 'operators'] as const;
/** Tables without foreign keys (docs/decisions/10): the column, and the table whose `id` it has. */
const OWNED: Readonly<Record<string, readonly [column: string, owner: string]>> = {
  grants: ['connection_id', 'connections'],
  renewals: ['grant_id', 'grants'],
  tokens: ['grant_id', 'grants'],
  spare_tokens: ['grant_id', 'grants'],
  api_sessions: ['grant_id', 'grants'],
  wire_log: ['grant_id', 'grants'],
  runs: ['job_id', 'jobs'],
  run_pages: ['run_id', 'runs'],
  run_files: ['run_id', 'runs'],
};
const ROWS = 500;
/** Of no key: all values are read. */
const NO_KEY = '00000000-0000-0000-0000-000000000000';

export const practiceStore = (database: Database): PracticeStore => ({
  async counts() {
    const columns = COUNTED.map((name) => `(SELECT COUNT(*) FROM ${name}) AS ${name}`).join(', ');
    const [row] = await database.select<Record<string, number | bigint>>(`SELECT ${columns}`);
    return Object.fromEntries(COUNTED.map((name) => [name, Number(row?.[name] ?? 0)]));
  },
  async orphans() {
    const counts = Object.entries(OWNED).map(
      ([table, [column, owner]]) =>
        `(SELECT COUNT(*) FROM ${table} c LEFT JOIN ${owner} o ON o.id = c.${column} WHERE c.${column} IS NOT NULL AND o.id IS NULL) AS ${table}`,
    );
    const [row] = await database.select<Record<string, number | bigint>>(`SELECT ${counts.join(', ')}`);
    const found = Object.entries(row ?? {}).map(([table, count]): [string, number] => [table, Number(count)]);
    return Object.fromEntries(found.filter(([, count]) => count > 0));
  },
  async *sealed() {
    const values = sealedValueStore(database);
    for (let table = 0; table < SEALED_TABLES.length; table += 1)
      for (let after: string[] | null = null; ; ) {
        const page = await values.next(table, after, NO_KEY, ROWS);
        yield* page.values;
        if (page.last === null) break;
        after = page.last;
      }
  },
  async results() {
    const rows = await database.select<{ run_id: Buffer; gap: number | bigint }>(
      `SELECT run_id, MIN(starts) <> 0 OR MAX(starts + size) <> SUM(size) OR MIN(LENGTH(data)) = 0 AS gap FROM run_files GROUP BY run_id, format`,
    );
    const broken = rows.filter((row) => Number(row.gap) === 1).map((row) => idText(row.run_id));
    return { whole: rows.length - broken.length, broken };
  },
});

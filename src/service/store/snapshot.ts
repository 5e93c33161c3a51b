import { Transaction } from 'sequelize';
import { Fault } from '../../core/fault.ts';
import { type Bind, type Database, idBytes } from './database.ts';
import { migrate } from './migrate.ts';
import { BASELINE, LAST_BEFORE_BASELINE, MIGRATIONS } from './migrations/index.ts';

/** A value as text; bytes in base64. What kind it is, the column says. */
type SnapshotRow = (string | null)[];
interface SnapshotPart {
  table: string;
  columns: string[];
  rows: SnapshotRow[];
}

/** What lives only where and while the service runs. Sessions and one-time links do not outlive a restore: they may have been stolen with the machine. */
const LEFT_OUT = new Set([
  'leases',
  'schema_versions',
  'changes',
  'arm_marks',
  'loss_reports',
  'losses',
  'marks',
  'replicas',
  'sessions',
  'tickets',
  'backups',
  'relayed_last',
  'sightings',
  'used_assertions',
]);
/** What a job collected: large, and collected again. */
const RESULTS = new Set(['run_pages', 'run_files']);
/** Tables come in the order of their names, and each with rows of one moment. */
const WITHOUT_CHECKS = 'SET STATEMENT foreign_key_checks = 0 FOR';
const BEFORE_BASELINE = /^0\d{3}-/;
const ROWS = 500;
const ROWS_OF_LARGE = 20;

interface ColumnFacts {
  name: string;
  isBytes: boolean;
  isInstant: boolean;
}
interface TableFacts {
  name: string;
  columns: ColumnFacts[];
  key: string[];
}

/** Reads and writes whole databases, table by table. */
export interface SnapshotStore {
  /** Everything as it was at one moment, however long the reading takes (REPEATABLE READ). */
  read(options: { results: boolean }): AsyncGenerator<SnapshotPart>;
  /** Names of the migrations that made the schema. */
  migrations(): Promise<string[]>;
}

async function tablesOf(database: Database, transaction?: Transaction): Promise<TableFacts[]> {
  const columns = await database.select<{ t: string; c: string; type: string }>(
    `SELECT TABLE_NAME AS t, COLUMN_NAME AS c, DATA_TYPE AS type FROM information_schema.COLUMNS
     WHERE TABLE_SCHEMA = DATABASE() AND COALESCE(GENERATION_EXPRESSION, '') = '' ORDER BY TABLE_NAME, ORDINAL_POSITION`,
    [],
    transaction,
  );
  const keys = await database.select<{ t: string; c: string }>(
    `SELECT TABLE_NAME AS t, COLUMN_NAME AS c FROM information_schema.KEY_COLUMN_USAGE
     WHERE TABLE_SCHEMA = DATABASE() AND CONSTRAINT_NAME = 'PRIMARY' ORDER BY TABLE_NAME, ORDINAL_POSITION`,
    [],
    transaction,
  );
  const tables = new Map<string, TableFacts>();
  for (const { t, c, type } of columns) {
    const table = tables.get(t) ?? { name: t, columns: [], key: [] };
    tables.set(t, table);
    table.columns.push({ name: c, isBytes: /binary|blob/.test(type), isInstant: /datetime|timestamp/.test(type) });
  }
  for (const { t, c } of keys) tables.get(t)?.key.push(c);
  return [...tables.values()];
}

const shown = ({ name, isBytes, isInstant }: ColumnFacts): string =>
  isBytes ? `REPLACE(TO_BASE64(\`${name}\`), '\\n', '')` : isInstant ? `DATE_FORMAT(\`${name}\`, '%Y-%m-%d %H:%i:%s.%f')` : `CAST(\`${name}\` AS CHAR)`;
const given = ({ isBytes }: ColumnFacts, place: string): string => (isBytes ? `FROM_BASE64(${place})` : place);

export const snapshotStore = (database: Database): SnapshotStore => ({
  async *read({ results }) {
    const transaction = await database.sequelize.transaction({ isolationLevel: Transaction.ISOLATION_LEVELS.REPEATABLE_READ, readOnly: true });
    try {
      // The first read of a table fixes the moment; the tables of the schema do not.
      await database.select('SELECT 1 AS here FROM installations', [], transaction);
      for (const table of await tablesOf(database, transaction)) {
        if (LEFT_OUT.has(table.name) || (!results && RESULTS.has(table.name))) continue;
        yield* rowsOf(database, table, transaction);
      }
    } finally {
      await transaction.rollback();
    }
  },
  migrations: async () => (await database.select<{ name: string }>('SELECT name FROM schema_versions ORDER BY name')).map((row) => row.name),
});

/** A table by its key, a piece at a time. */
async function* rowsOf(database: Database, table: TableFacts, transaction: Transaction): AsyncGenerator<SnapshotPart> {
  const { key } = table;
  if (key.length === 0) throw new Fault('INTERNAL', { detail: `The table ${table.name} has no primary key.` });
  const columns = table.columns.map((one) => one.name);
  const keyFacts = key.map((name) => table.columns.find((one) => one.name === name)).filter((one) => one !== undefined);
  const at = keyFacts.map((one) => columns.indexOf(one.name));
  const most = RESULTS.has(table.name) ? ROWS_OF_LARGE : ROWS;
  let last: string[] | null = null;
  for (;;) {
    const bind: Bind[] = [];
    const seen = last as string[] | null;
    const place = (part: number): string => given(keyFacts[part] as ColumnFacts, `$${bind.push(seen?.[part] ?? '')}`);
    // (a, b) > (x, y), spelled out so that the index serves it.
    const beyond: string =
      seen === null
        ? 'TRUE'
        : key
            .map(
              (_, to) =>
                `(${key
                  .slice(0, to + 1)
                  .map((name, part) => `\`${name}\` ${part === to ? '>' : '='} ${place(part)}`)
                  .join(' AND ')})`,
            )
            .join(' OR ');
    const rows: Record<string, unknown>[] = await database.select<Record<string, unknown>>(
      `SELECT ${table.columns.map((one, index) => `${shown(one)} AS c${index}`).join(', ')} FROM \`${table.name}\` WHERE ${beyond}
       ORDER BY ${key.map((name) => `\`${name}\``).join(', ')} LIMIT ${most}`,
      bind,
      transaction,
    );
    const texts: SnapshotRow[] = rows.map((row) => columns.map((_, index): string | null => (row[`c${index}`] == null ? null : String(row[`c${index}`]))));
    if (texts.length > 0) yield { table: table.name, columns, rows: texts };
    if (texts.length < most) return;
    last = at.map((index) => texts.at(-1)?.[index] ?? '');
  }
}

/** What was restored, until the installation row is there: a restore that was killed can be begun again. */
export interface RestoreStore {
  /** Throws away what a restore left that was killed. @throws {Fault} NOT_EMPTY where there is an installation */
  makeEmpty(): Promise<void>;
  /** The schema as it was when the backup was made. @throws {Fault} BACKUP_UNREADABLE for a backup of a newer version */
  makeSchema(migrations: readonly string[], me: string): Promise<void>;
  insert(part: SnapshotPart): Promise<void>;
}

export function restoreStore(database: Database): RestoreStore {
  let facts: Map<string, TableFacts> | null = null;
  const tableOf = async (name: string): Promise<TableFacts | undefined> => {
    facts ??= new Map((await tablesOf(database)).map((one) => [one.name, one]));
    return facts.get(name);
  };
  return {
    async makeEmpty() {
      const tables = await tablesOf(database);
      if (tables.some((one) => one.name === 'installations')) {
        const [row] = await database.select<{ id: Buffer; at: Date }>('SELECT installation_id AS id, created_at AS at FROM installations');
        if (row) throw new Fault('NOT_EMPTY', { detail: `The database holds an installation of ${row.at.toISOString().slice(0, 10)}.` });
      }
      for (const one of tables) await database.run(`${WITHOUT_CHECKS} DROP TABLE \`${one.name}\``);
    },
    async makeSchema(migrations, me) {
      const isBeforeBaseline = !migrations.includes(BASELINE);
      if (isBeforeBaseline && !migrations.includes(LAST_BEFORE_BASELINE))
        throw new Fault('BACKUP_UNREADABLE', {
          detail: 'It was made by a development version that this one does not upgrade.',
          remedy: 'Restore it with the version that made it, upgrade that installation to the last development version, and back up again.',
        });
      const known = new Set(MIGRATIONS.map(([name]) => name));
      // A recognized database keeps the names of the changes before the baseline.
      const made = isBeforeBaseline ? [BASELINE] : migrations.filter((name) => !BEFORE_BASELINE.test(name));
      const unknown = made.filter((name) => !known.has(name));
      if (unknown.length > 0)
        throw new Fault('BACKUP_UNREADABLE', {
          detail: `It was made by a newer version: this one does not know ${unknown[0] ?? ''}${unknown.length > 1 ? ` and ${unknown.length - 1} more changes` : ''}.`,
          remedy: 'Install the version that made it, or a later one, and restore with that.',
        });
      await migrate(database, me, new Set(made));
    },
    async insert({ table, columns, rows }) {
      const of = await tableOf(table);
      const known = columns.map((name) => of?.columns.find((one) => one.name === name));
      if (!of || known.some((one) => one === undefined))
        throw new Fault('BACKUP_UNREADABLE', {
          detail: `It holds a table or column that its own version does not have: ${table}.`,
          remedy: 'Use another backup.',
        });
      const bind: Bind[] = [];
      const values = rows.map((row) => `(${row.map((value, index) => given(known[index] as ColumnFacts, `$${bind.push(value)}`)).join(', ')})`);
      await database.write(`${WITHOUT_CHECKS} INSERT INTO \`${table}\` (${columns.map((name) => `\`${name}\``).join(', ')}) VALUES ${values.join(', ')}`, bind);
    },
  };
}

/** Makes the restored database an installation of its own: a new generation, on hold until it is certain that the former one is gone. */
export async function becomeRestored(
  database: Database,
  {
    restore,
    formerUrl,
    why,
    fingerprint,
    isOwned,
    moves,
    isPractice,
  }: { restore: string; formerUrl: string; why: string; fingerprint: string; isOwned: boolean; moves: boolean; isPractice: boolean },
): Promise<void> {
  await database.write(
    `UPDATE installations SET generation = generation + 1, restore_id = $1, former_url = $2, fingerprint = $3, held = $4,
       held_why = $5, held_at = IF($6, UTC_TIMESTAMP(3), NULL), owned_at = IF($7, UTC_TIMESTAMP(3), NULL), moves = $8, practice = $9`,
    [idBytes(restore), formerUrl, fingerprint, isOwned ? 0 : 1, isOwned ? null : why, isOwned ? 0 : 1, isOwned ? 1 : 0, moves ? 1 : 0, isPractice ? 1 : 0],
  );
}

import { attempts } from '../../api/attempts.ts';
import { Fault } from '../../core/fault.ts';
import { type Database, idBytes } from './database.ts';
import { AT, BASELINE, ID, LAST_BEFORE_BASELINE, MIGRATIONS, table } from './migrations/index.ts';

const LEASE_SECONDS = 60;
/** How long one statement of a migration may take: large tables get their indexes in minutes. */
export const MIGRATION_LIMIT_MS = 3_600_000;
const WAIT_LIMIT_MS = 120_000;
/** Statements between two renewals of the lease. */
const RENEWED_EVERY = 16;

/** Brings the schema up to date, one replica at a time, over a database opened with `MIGRATION_LIMIT_MS`. The lease is a row: `GET_LOCK`
 * is local to one node of a cluster. Ours rather than a package's: all of it is the loop below, and the usual package costs each start a third of
 * a second (docs/decisions/5).
 * @param only these: the schema of an earlier version, for a restore */
export async function migrate(database: Database, me: string, only?: ReadonlySet<string>): Promise<void> {
  const wanted = MIGRATIONS.filter(([name]) => only?.has(name) ?? true);
  await database.run(table('leases', `name VARCHAR(60) PRIMARY KEY, owner ${ID}, until DATETIME(3) NOT NULL`));
  await database.run(table('schema_versions', `name VARCHAR(100) PRIMARY KEY, at ${AT}`));
  await recognize(database);
  if ((await executedIn(database)).size >= wanted.length) return;
  await database.write(`INSERT IGNORE INTO leases (name, owner, until) VALUES ('migration', $1, '2000-01-01')`, [idBytes(me)]);
  const renew = () =>
    database.write(
      `UPDATE leases SET owner = $1, until = UTC_TIMESTAMP(3) + INTERVAL ${LEASE_SECONDS} SECOND WHERE name = 'migration' AND (until < UTC_TIMESTAMP(3) OR owner = $2)`,
      [idBytes(me), idBytes(me)],
    );
  let ours = false;
  for await (const _ of attempts({ withinMs: WAIT_LIMIT_MS, everyMs: 200 })) {
    ours = (await renew()) > 0;
    if (ours) break;
  }
  if (!ours)
    throw new Fault('DATABASE_UNAVAILABLE', {
      detail: 'Another replica has been migrating for two minutes.',
      remedy: 'See whether that replica still runs, then start again.',
    });
  const executed = await executedIn(database);
  try {
    for (const [name, ...statements] of wanted.filter(([name]) => !executed.has(name))) {
      for (const [at, statement] of statements.entries()) {
        if (at % RENEWED_EVERY === 0) await renew();
        await database.run(statement);
      }
      await database.write('INSERT IGNORE INTO schema_versions (name, at) VALUES ($1, UTC_TIMESTAMP(3))', [name]);
    }
  } finally {
    await database.write(`UPDATE leases SET until = '2000-01-01' WHERE name = 'migration' AND owner = $1`, [idBytes(me)]);
  }
}

/** A schema that development versions made change by change is the baseline, or too old for it. */
async function recognize(database: Database): Promise<void> {
  const rows = await database.select<{ name: string }>('SELECT name FROM schema_versions');
  const names = new Set(rows.map((row) => row.name));
  if (names.size === 0 || names.has(BASELINE)) return;
  if (!names.has(LAST_BEFORE_BASELINE))
    throw new Fault('DATABASE_OUTDATED', {
      detail: `Its last change is ${[...names].sort().at(-1) ?? 'unknown'}; this version upgrades databases that have ${LAST_BEFORE_BASELINE}.`,
    });
  await database.write('INSERT IGNORE INTO schema_versions (name, at) VALUES ($1, UTC_TIMESTAMP(3))', [BASELINE]);
}

/** The names of the migrations that this database has had. A newer version may have had more. */
async function executedIn(database: Database): Promise<Set<string>> {
  const rows = await database.select<{ name: string }>('SELECT name FROM schema_versions');
  const known = new Set(MIGRATIONS.map(([name]) => name));
  return new Set(rows.map((row) => row.name).filter((name) => known.has(name)));
}

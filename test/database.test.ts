import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { DEFAULT_LIMITS } from '../src/core/renewal/limits.ts';
import { freePort } from '../src/service/database/private-mariadb.ts';
import { beginLife } from '../src/service/replicas/replica.ts';
import { type Database, idText, openDatabase } from '../src/service/store/database.ts';
import { migrate } from '../src/service/store/migrate.ts';
import { replicaStore } from '../src/service/store/replicas.ts';
import { newDatabase } from './support/new-database.ts';

let [database, databaseUrl]: [Database, string] = [null as never, ''];
beforeAll(async () => {
  databaseUrl = await newDatabase();
  database = openDatabase(databaseUrl, 8);
  await migrate(database, randomUUID());
  await database.run('CREATE TABLE counts (id INT PRIMARY KEY, n INT NOT NULL)');
});
afterAll(() => database.close());
beforeEach(async () => {
  await database.run('DELETE FROM counts');
  await database.run('INSERT INTO counts VALUES (1, 0), (2, 0)');
});

const counts = async () => (await database.select<{ n: number }>('SELECT n FROM counts ORDER BY id')).map((row) => row.n);
/** Whether nobody has locked the row. */
const free = async (id: number) => (await database.select('SELECT id FROM counts WHERE id = $1 FOR UPDATE SKIP LOCKED', [id])).length === 1;

/** A starved machine may take longer to come to the deadlock than a lock is waited for. */
const PATIENT = 'SET STATEMENT innodb_lock_wait_timeout = 30, max_statement_time = 30 FOR';

/** Everybody who comes waits for the others; whoever comes again goes on at once. */
function meeting(of: number): (who: number) => Promise<void> {
  const here = new Set<number>();
  let [open, opened] = [() => {}, Promise.resolve()];
  opened = new Promise((resolve) => {
    open = resolve;
  });
  return async (who) => {
    here.add(who);
    if (here.size === of) open();
    await opened;
  };
}

test('a session reads what is committed, in a transaction and outside', async () => {
  const level = async (transaction?: Parameters<Database['select']>[2]) =>
    (await database.select<{ level: string }>('SELECT @@tx_isolation AS level', [], transaction))[0]?.level;
  expect([await level(), await database.transaction(level)]).toEqual(['READ-COMMITTED', 'READ-COMMITTED']);
});

test('chained statements: both or neither, whatever ends them, and nothing stays locked', async () => {
  const add = (id: number) => `UPDATE counts SET n = n + $1 WHERE id = ${id}`;
  const hurried = openDatabase(databaseUrl, 1, [], { statementMs: 300 });
  for (const [what, run, wanted, after] of [
    ['both', () => database.chained(add(1), add(2), [5]), true, [5, 5]],
    ['the first changes nothing', () => database.chained(add(9), add(2), [5]), false, [0, 0]],
    ['the second is wrong', () => database.chained(add(1), 'INSERT INTO counts VALUES (2, $1)', [5]), 'INTERNAL', [0, 0]],
    ['the second takes too long', () => hurried.chained(add(1), `${add(2)} + SLEEP(2)`, [5]), 'DATABASE_UNAVAILABLE', [0, 0]],
    ['its connection goes on', () => hurried.chained(add(1), add(2), [7]), true, [7, 7]],
  ] as const) {
    await database.run('UPDATE counts SET n = 0');
    expect([what, await run().catch((error: { code: string }) => error.code), await counts(), await free(1)]).toEqual([what, wanted, after, true]);
  }
  await hurried.close();
  await expect(database.atomically(() => database.chained(add(1), add(2), [1]))).rejects.toMatchObject({ code: 'INTERNAL' });
});

test('two transactions that lock each other: both are done, each once', async () => {
  const met = meeting(2);
  const runs = [0, 0];
  const both = [1, 2].map((first, who) =>
    database.transaction(async (transaction) => {
      runs[who] = (runs[who] ?? 0) + 1;
      await database.write('UPDATE counts SET n = n + 1 WHERE id = $1', [first], transaction);
      await met(who);
      await database.write('UPDATE counts SET n = n + 1 WHERE id = $1', [3 - first], transaction);
      return who;
    }),
  );
  expect(await Promise.all(both)).toEqual([0, 1]);
  expect(await counts()).toEqual([2, 2]);
  expect(runs.sort()).toEqual([1, 2]);
});

// InnoDB rolls back whoever has changed less.
for (const { loser, heavy } of [
  { loser: 'transaction', heavy: 0 },
  { loser: 'statement', heavy: 50 },
])
  test(`a statement alone and a transaction that lock each other, the ${loser} loses: both are done, each once`, async () => {
    let [runs, alone]: [number, Promise<number> | null] = [0, null];
    await database.transaction(async (transaction) => {
      runs += 1;
      for (let id = 3; id < 3 + heavy; id += 1) await database.write('INSERT INTO counts VALUES ($1, 0)', [id], transaction);
      await database.write('UPDATE counts SET n = n + 1 WHERE id = 2', [], transaction);
      alone ??= database.write(`${PATIENT} UPDATE counts SET n = n + 10 WHERE id IN (1, 2)`);
      if (runs === 1) await expect.poll(() => free(1), { timeout: 60_000 }).toBe(false); // it holds the first row and waits for the second
      await database.write('UPDATE counts SET n = n + 1 WHERE id = 1', [], transaction);
    });
    expect(await alone).toBe(2);
    expect((await counts()).slice(0, 2)).toEqual([11, 11]);
    expect(runs).toBe(loser === 'transaction' ? 2 : 1);
  });

test('nodes that cannot be reached are passed over within one statement, by whoever meets them, and the one that answers is kept', async () => {
  const url = await newDatabase();
  const { host } = new URL(url);
  const dead = async () => `127.0.0.1:${await freePort()}`;
  const several = openDatabase(url, 4, [await dead(), await dead(), host]);
  const one = () => several.select<{ n: number }>('SELECT 1 AS n');
  try {
    expect(await Promise.all(Array.from({ length: 12 }, one))).toEqual(Array.from({ length: 12 }, () => [{ n: 1 }]));
    expect(await several.transaction((transaction) => several.select('SELECT 2 AS n', [], transaction))).toEqual([{ n: 2 }]);
  } finally {
    await several.close();
  }
  const nobody = openDatabase(url, 4, [await dead(), await dead()]);
  await expect(nobody.select('SELECT 1')).rejects.toMatchObject({ code: 'DATABASE_UNAVAILABLE' });
  await nobody.close();
});

test('a new life of a replica discards the lives of more than a week ago, and no other, while the living write their heartbeats', async () => {
  const replicas = replicaStore(database);
  const life = (daysAgo: number, at = Date.now() - daysAgo * 86_400_000) => ({
    lifeId: randomUUID(),
    instanceId: randomUUID(),
    incarnation: 1,
    roles: 'web,renewal',
    startedAt: at,
    seenAt: at,
    openSince: null,
    offsetMs: 0,
    recoveredAt: null,
  });
  const [long, week, day] = [life(8), life(6), life(1)];
  for (const one of [long, week, day]) await replicas.add(one);
  const ports = { log: { error: () => {}, warn: () => {}, info: () => {}, debug: () => {} } };
  const clock = { now: () => Date.now(), sleep: async () => {}, offsetMs: () => 0, stop: () => {} };
  const lives = [];
  for (let n = 0; n < 12; n += 1)
    lives.push(
      await beginLife({
        store: replicas,
        clock: clock as never,
        limits: { ...DEFAULT_LIMITS, heartbeatMs: 20 },
        ports: ports as never,
        instanceId: randomUUID(),
        lifeId: randomUUID(),
        openSince: () => null,
        known: () => 0,
      }),
    );
  for (const one of lives) await one.stop(true);
  const left = (await database.select<{ life_id: Buffer }>('SELECT life_id FROM replicas')).map((row) => idText(row.life_id));
  expect(left.sort()).toEqual([week.lifeId, day.lifeId, ...lives.map((one) => one.lifeId)].sort());
});

test.each([1021, 1114, 1290])('a database whose disk is full or that is read-only (%i) is said to be away, never an error of ours', async (errno) => {
  const full = database.run(`BEGIN NOT ATOMIC SIGNAL SQLSTATE '45000' SET MYSQL_ERRNO = ${errno}, MESSAGE_TEXT = 'simulated'; END`);
  await expect(full).rejects.toMatchObject({ code: 'DATABASE_UNAVAILABLE', status: 503, detail: expect.stringContaining('disk full') });
});

/** Columns that name a row of another table, and have no foreign key: hot tables, and those that outlive what they name (docs/decisions/10). */
const WITHOUT_KEY = [
  'campaigns.caller_id connections.current_grant_id connections.inviting_caller_id connections.standby_grant_id consents.client_id consents.grant_id',
  'door_requests.connection_id door_requests.sign_in_id door_sign_ins.caller_id door_sign_ins.connection_id invitation_uses.consent_id invitations.consent_id',
  'api_sessions.grant_id grants.client_id grants.connection_id renewals.client_id renewals.grant_id revocations.client_id revocations.grant_id',
  'sightings.client_id spare_tokens.grant_id tokens.grant_id wire_log.grant_id providers.version_id',
  'person_events.caller_id person_events.connection_id person_events.shared_id',
  'jobs.latest_run_id run_files.run_id run_pages.run_id runs.connection_id runs.job_id',
  'relayed_hours.caller_id relayed_hours.connection_id relayed_last.caller_id relayed_last.connection_id usage_minutes.caller_id usage_minutes.connection_id',
].flatMap((one) => one.split(' '));
const NAMES_A_ROW =
  /^(caller|campaign|channel|client|connection|consent|current_grant|grant|invitation|inviting_caller|job|latest_run|loss|notice|operator|provider|run|shared|sign_in|standby_grant|version)_id$|^person_of$/;

test('each column that names a row of another table has a foreign key, or is listed as one without', async () => {
  const columns = await database.select<{ place: string; name: string; type: string }>(
    `SELECT CONCAT(TABLE_NAME, '.', COLUMN_NAME) AS place, COLUMN_NAME AS name, DATA_TYPE AS type FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE()`,
  );
  const keys = await database.select<{ place: string }>(
    `SELECT CONCAT(TABLE_NAME, '.', COLUMN_NAME) AS place FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = DATABASE() AND REFERENCED_TABLE_NAME IS NOT NULL`,
  );
  const withKey = new Set(keys.map((one) => one.place));
  const without = columns.filter(({ name, type, place }) => type === 'binary' && NAMES_A_ROW.test(name) && !withKey.has(place)).map((one) => one.place);
  expect(without.sort()).toEqual([...WITHOUT_KEY].sort());
});

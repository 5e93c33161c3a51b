import { randomBytes } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { createPool } from 'mariadb';
import { Pool } from 'undici';
import { newRecordId } from '../src/core/identifiers.ts';
import { DEFAULT_LIMITS } from '../src/core/renewal/limits.ts';
import { claim } from '../src/core/renewal/transitions.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { migrate } from '../src/service/store/migrate.ts';
import { renewalStore } from '../src/service/store/renewals.ts';
import { openSeeder, type Seeder } from '../testing/seed.ts';
import { alternate } from './alternate.ts';
import { startChild } from './child.ts';
import { CLIENT, type Measured, startRig, timed } from './rig.ts';

const CONCURRENCY = 64;
const SLICE_MS = 1_000;
const START_MS = 300;
const DRAIN_MS = 200;
const SLICES = 14;
const HOUR_MS = 3_600_000;
const newId = (): string => newRecordId(Date.now(), randomBytes(16));

/** The least that any renewer must do: the same POST, then one durable UPDATE by the driver. */
async function bareLoop(databaseUrl: string, tokenPort: number): Promise<{ slice(): Promise<number>; close(): Promise<void> }> {
  const url = new URL(databaseUrl);
  const pool = createPool({
    host: url.hostname,
    port: Number(url.port),
    user: url.username,
    password: decodeURIComponent(url.password),
    database: url.pathname.slice(1),
    connectionLimit: 16,
  });
  await pool.query('CREATE TABLE IF NOT EXISTS bench_tokens (id INT PRIMARY KEY, sealed VARBINARY(2000) NOT NULL, at DATETIME(3) NOT NULL)');
  for (let id = 0; id < 1_000; id += 1) await pool.query('INSERT IGNORE INTO bench_tokens VALUES (?, ?, UTC_TIMESTAMP(3))', [id, randomBytes(300)]);
  const http = new Pool(`http://127.0.0.1:${tokenPort}`, { connections: CONCURRENCY, pipelining: 1 });
  return {
    async slice() {
      let done = 0;
      const startedAt = performance.now();
      const worker = async (n: number) => {
        for (let id = n; performance.now() < startedAt + SLICE_MS; id = (id + CONCURRENCY) % 1_000) {
          const answer = await http.request({
            method: 'POST',
            path: '/token',
            headers: { 'content-type': 'application/x-www-form-urlencoded' },
            body: 'grant_type=refresh_token&refresh_token=r.xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx&client_id=bench&client_secret=bench-secret',
          });
          await answer.body.json();
          await pool.execute('UPDATE bench_tokens SET sealed = ?, at = UTC_TIMESTAMP(3) WHERE id = ?', [randomBytes(300), id]);
          done += 1;
        }
      };
      await Promise.all(Array.from({ length: CONCURRENCY }, (_one, n) => worker(n)));
      return (done / (performance.now() - startedAt)) * 1000;
    },
    async close() {
      await http.close();
      await pool.end();
    },
  };
}

/** Renewals a second in one slice: all that are meant are due at once, and those that are left over are put off again. */
export async function renewedInSlice({ database }: Seeder, meant = ''): Promise<number> {
  // Generations only grow: a database that goes back is noticed, and puts renewals on hold.
  const renewed = async () => Number((await database.select<{ n: unknown }>('SELECT SUM(generation) AS n FROM renewals'))[0]?.n ?? 0);
  await database.write(`UPDATE renewals SET next_at = UTC_TIMESTAMP(3) ${meant}`);
  await sleep(START_MS);
  const [before, startedAt] = [await renewed(), performance.now()];
  await sleep(SLICE_MS);
  const [after, tookMs] = [await renewed(), performance.now() - startedAt];
  await database.write('UPDATE renewals SET next_at = UTC_TIMESTAMP(3) + INTERVAL 1 DAY WHERE next_at < UTC_TIMESTAMP(3) + INTERVAL 1 MINUTE');
  let last = -1;
  for (let now = await renewed(); now !== last; now = await renewed()) {
    last = now; // what was claimed is still saved; the other side begins when nothing moves
    await sleep(DRAIN_MS);
  }
  return ((after - before) / tookMs) * 1000;
}

/** Renewals a second of one process: claimed, armed, sent, saved durably; the refresh token is replaced at each use. */
export async function benchRenewals(databaseUrl: string, seeded = 20_000): Promise<Measured[]> {
  const provider = await startChild('bare-token-endpoint.ts');
  const idle = { RUSTY_KETTLE_CONCURRENCY: String(CONCURRENCY), RUSTY_KETTLE_ORIGIN_CONCURRENCY: '64', RUSTY_KETTLE_CLIENT_CONCURRENCY: '64' };
  const rig = await startRig(databaseUrl, provider.port, idle);
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  try {
    const now = Date.now();
    await seeder.add(
      CLIENT,
      Array.from({ length: seeded }, (_one, n) => ({
        name: `r${n}`,
        access: `a.${n}`,
        refresh: `r.${n}`,
        issuedAt: now,
        expiresAt: now + HOUR_MS,
        nextAt: now + 24 * HOUR_MS,
      })),
    );
    await seeder.settled(); // work of once, which would be measured with the first slices
    const bare = await bareLoop(databaseUrl, provider.port);
    const compared = await alternate({ what: 'renewals', ours: () => renewedInSlice(seeder), theirs: () => bare.slice(), slices: SLICES, warmUp: 2 });
    await bare.close();
    return [
      {
        key: 'renewals',
        what: 'renewals per second, rotating provider, saved durably',
        ours: `${Math.round(compared.ours)}/s`,
        against: `bare loop ${Math.round(compared.theirs)}/s`,
        ratio: compared,
        target: '\u2265 0.5',
        holds: compared.ratio >= 0.5,
      },
    ];
  } finally {
    await seeder.close();
    await rig.service.stop();
    provider.stop();
  }
}

const CLAIM = 64;
const CLAIMS = 40;

/** A database with so many connections, some of them due, and what one claim of 64 takes there, in ms. */
async function claimsOver(databaseUrl: string, connections: number): Promise<{ claim(): Promise<number>; close(): Promise<void> }> {
  const database = openDatabase(databaseUrl, 4);
  await migrate(database, newId());
  const store = renewalStore(database);
  for (let at = 0; at < connections; at += 10_000) {
    const sequence = `seq_${at + 1}_to_${Math.min(at + 10_000, connections)}`;
    const id = "UNHEX(CONCAT('018f', LPAD(HEX(seq), 28, '0')))";
    await database.run(
      `INSERT INTO renewals (grant_id, client_id, next_at, epoch, generation, failures, issued_at, expires_at) SELECT ${id}, UNHEX(REPEAT('11', 16)), UTC_TIMESTAMP(3) - INTERVAL 30 MINUTE + INTERVAL (seq % 3600) SECOND, 0, 1, 0, UTC_TIMESTAMP(3), UTC_TIMESTAMP(3) + INTERVAL 1 HOUR FROM ${sequence}`,
    );
    await database.run(`INSERT INTO tokens (grant_id, access_sealed, refresh_sealed) SELECT ${id}, REPEAT('a', 300), REPEAT('r', 120) FROM ${sequence}`);
  }
  return {
    claim: () =>
      timed(async () => {
        const ids = (await store.dueIds(CLAIM * 4)).slice(0, CLAIM);
        const claimId = newId();
        const taken = await store.update(ids, claim(newId(), claimId, DEFAULT_LIMITS));
        if (taken !== CLAIM || ((await store.claimed(ids, claimId)) ?? []).length !== CLAIM) throw new Error('a claim came back short');
      }),
    close: () => database.close(),
  };
}

/** One claim of 64 due rows, with ten thousand and with a million connections behind them, in turns. */
export async function benchClaims(databaseUrl: string, another: () => Promise<string>, many = 1_000_000): Promise<Measured[]> {
  const [few, lots] = [await claimsOver(await another(), 10_000), await claimsOver(databaseUrl, many)];
  try {
    const compared = await alternate({ what: 'claims', ours: () => lots.claim(), theirs: () => few.claim(), slices: CLAIMS, warmUp: 20 });
    return [
      {
        key: 'claims',
        what: `claim of ${CLAIM} rows with ${many.toLocaleString('en')} connections`,
        ours: `${compared.ours.toFixed(1)} ms`,
        against: `with 10,000: ${compared.theirs.toFixed(1)} ms`,
        ratio: compared,
        target: '\u2264 1.3 \u00d7',
        holds: compared.ratio <= 1.3,
      },
    ];
  } finally {
    await few.close();
    await lots.close();
  }
}

import { setTimeout as sleep } from 'node:timers/promises';
import { createPool } from 'mariadb';
import { Pool } from 'undici';
import { DEFAULT_LIMITS } from '../src/core/renewal/limits.ts';
import { claim } from '../src/core/renewal/transitions.ts';
import { newRecordId } from '../src/core/identifiers.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { migrate } from '../src/service/store/migrate.ts';
import { renewalStore } from '../src/service/store/renewals.ts';
import { openSeeder } from '../testing/seed.ts';
import { randomBytes } from 'node:crypto';
import { startChild } from './child.ts';
import { CLIENT, type Measured, median, middleRound, say, startRig, timed } from './rig.ts';

const CONCURRENCY = 64;
const SECONDS = 8;
const HOUR_MS = 3_600_000;
const newId = (): string => newRecordId(Date.now(), randomBytes(16));

/** The least that any renewer must do: the same POST, then one durable UPDATE by the driver. */
async function bareLoop(databaseUrl: string, tokenPort: number): Promise<number> {
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
  let done = 0;
  const endsAt = performance.now() + SECONDS * 1000;
  const worker = async (n: number) => {
    for (let id = n; performance.now() < endsAt; id = (id + CONCURRENCY) % 1_000) {
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
  await http.close();
  await pool.end();
  return done / SECONDS;
}

/** Renewals a second of one process: claimed, armed, sent, saved durably; the refresh token is replaced at each use. */
export async function benchRenewals(databaseUrl: string, seeded = 30_000): Promise<Measured[]> {
  const provider = await startChild('bare-token-endpoint.ts');
  const idle = { RUSTY_KETTLE_CONCURRENCY: String(CONCURRENCY), RUSTY_KETTLE_ORIGIN_CONCURRENCY: '64', RUSTY_KETTLE_CLIENT_CONCURRENCY: '64' };
  const rig = await startRig(databaseUrl, provider.port, idle);
  const seeder = await openSeeder(databaseUrl, rig.masterKey);
  try {
    const now = Date.now();
    const dueAt = now + 24 * HOUR_MS;
    await seeder.add(
      CLIENT,
      Array.from({ length: seeded }, (_one, n) => ({
        name: `r${n}`,
        access: `a.${n}`,
        refresh: `r.${n}`,
        issuedAt: now,
        expiresAt: now + HOUR_MS,
        nextAt: dueAt,
      })),
    );
    await seeder.settled(); // work of once, which would be measured with the first rounds
    const rounds: { ours: number; theirs: number }[] = [];
    for (let round = 0; round < 3; round += 1) {
      const theirs = await bareLoop(databaseUrl, provider.port);
      await seeder.database.write('UPDATE renewals SET next_at = UTC_TIMESTAMP(3), generation = 1');
      const renewed = async () =>
        Number((await seeder.database.select<{ n: number | bigint }>('SELECT COUNT(*) AS n FROM renewals WHERE generation > 1'))[0]?.n ?? 0);
      await sleep(1_000);
      const [before, startedAt] = [await renewed(), performance.now()];
      await sleep(SECONDS * 1000);
      const [after, tookMs] = [await renewed(), performance.now() - startedAt];
      const ours = ((after - before) / tookMs) * 1000;
      await seeder.database.write('UPDATE renewals SET next_at = UTC_TIMESTAMP(3) + INTERVAL 1 DAY');
      await sleep(1_500);
      rounds.push({ ours, theirs });
      say(`renewals: ${Math.round(ours)}/s (${after} of ${seeded}), bare loop ${Math.round(theirs)}/s`);
    }
    const middle = middleRound(rounds);
    return [
      {
        what: 'renewals a second, rotating provider, saved durably',
        ours: `${Math.round(middle.ours)}/s`,
        against: `bare loop ${Math.round(middle.theirs)}/s`,
        ratio: middle.ours / middle.theirs,
        target: '\u2265 0.35, aim 0.5',
        holds: middle.ours / middle.theirs >= 0.35,
      },
    ];
  } finally {
    await seeder.close();
    await rig.service.stop();
    provider.stop();
  }
}

const CLAIM = 64;
const ROUNDS = 25;

/** One claim of 64 due rows, with ten thousand and with a million connections behind them. */
export async function benchClaims(databaseUrl: string, many = 1_000_000): Promise<Measured[]> {
  const database = openDatabase(databaseUrl, 4);
  await migrate(database, newId());
  const store = renewalStore(database);
  const fill = async (from: number, to: number): Promise<void> => {
    for (let at = from; at < to; at += 10_000) {
      const sequence = `seq_${at + 1}_to_${Math.min(at + 10_000, to)}`;
      const id = "UNHEX(CONCAT('018f', LPAD(HEX(seq), 28, '0')))";
      await database.run(
        `INSERT INTO renewals (grant_id, client_id, next_at, epoch, generation, failures, issued_at, expires_at) SELECT ${id}, UNHEX(REPEAT('11', 16)), UTC_TIMESTAMP(3) - INTERVAL 30 MINUTE + INTERVAL (seq % 3600) SECOND, 0, 1, 0, UTC_TIMESTAMP(3), UTC_TIMESTAMP(3) + INTERVAL 1 HOUR FROM ${sequence}`,
      );
      await database.run(`INSERT INTO tokens (grant_id, access_sealed, refresh_sealed) SELECT ${id}, REPEAT('a', 300), REPEAT('r', 120) FROM ${sequence}`);
    }
  };
  const measure = async (): Promise<number> => {
    const took: number[] = [];
    for (let round = 0; round < ROUNDS; round += 1)
      took.push(
        await timed(async () => {
          const ids = (await store.dueIds(CLAIM * 4)).slice(0, CLAIM);
          const claimId = newId();
          const taken = await store.update(ids, claim(newId(), claimId, DEFAULT_LIMITS));
          if (taken !== CLAIM || (await store.claimed(ids, claimId)).length !== CLAIM) throw new Error('a claim came back short');
        }),
      );
    return median(took);
  };
  try {
    await fill(0, 10_000);
    await measure();
    const few = await measure();
    await fill(10_000, many);
    await measure();
    const lots = await measure();
    say(`claim of ${CLAIM}: ${few.toFixed(1)} ms with 10,000, ${lots.toFixed(1)} ms with ${many}`);
    return [
      {
        what: `claim of ${CLAIM} rows with ${many.toLocaleString('en')} connections`,
        ours: `${lots.toFixed(1)} ms`,
        against: `with 10,000: ${few.toFixed(1)} ms`,
        ratio: lots / few,
        target: '\u2264 1.5 \u00d7',
        holds: lots / few <= 1.5,
      },
    ];
  } finally {
    await database.close();
  }
}

import { performance } from 'node:perf_hooks';
import type { Database } from '../store/database.ts';

const ROUNDS = 5;
const EVERY_MS = 30_000;

/** The database's clock as this process sees it: our own plus an offset, the best of five round trips, taken every 30 s. */
export interface DatabaseClock {
  now(): number;
  offsetMs(): number;
  stop(): void;
}

export async function databaseClock(database: Database, onError: (cause: unknown) => void): Promise<DatabaseClock> {
  let offset = 0;
  const measure = async (): Promise<void> => {
    let best = Number.POSITIVE_INFINITY;
    for (let round = 0; round < ROUNDS; round += 1) {
      const startedAt = performance.now();
      const before = Date.now();
      const [row] = await database.select<{ at: Date }>('SELECT UTC_TIMESTAMP(3) AS at');
      const tookMs = performance.now() - startedAt;
      if (row && tookMs < best) {
        best = tookMs;
        offset = Math.round(row.at.getTime() - (before + tookMs / 2));
      }
    }
  };
  await measure();
  const timer = setInterval(() => void measure().catch(onError), EVERY_MS).unref();
  return { now: () => Date.now() + offset, offsetMs: () => offset, stop: () => clearInterval(timer) };
}

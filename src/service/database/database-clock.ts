import type { Database } from '../store/database.ts';

const ROUNDS = 5;
const EVERY_MS = 30_000;
/** Two clocks that are kept right differ by less in half a minute. */
const JUMP_MS = 2_000;

/** The database's clock as this process sees it: read now and then, the best of five round trips, and carried on by a clock that is never set. */
export interface DatabaseClock {
  now(): number;
  /** By how many ms this machine's own clock is behind it; shown, and used for nothing else. */
  offsetMs(): number;
  /** Reads it again; how far it had moved from where it should be, in ms. */
  measure(): Promise<number>;
  stop(): void;
}

/** A clock that someone else moves. */
export const standingClock = (now: () => number): DatabaseClock => ({ now, offsetMs: () => 0, measure: async () => 0, stop: () => undefined });

/**
 * @param onJump told when the database's clock was set: by how many ms; negative: back
 * @param monotonic ms of a clock that is never set: this machine's own may be set at any moment, and must not matter
 */
export async function databaseClock(
  database: Pick<Database, 'now'>,
  { onError, onJump }: { onError(cause: unknown): void; onJump(byMs: number): void },
  monotonic: () => number = () => performance.now(),
): Promise<DatabaseClock> {
  /** What is added to the monotonic clock. */
  let offset: number | null = null;
  const measure = async (): Promise<number> => {
    let [best, found] = [Number.POSITIVE_INFINITY, 0];
    for (let round = 0; round < ROUNDS; round += 1) {
      const startedAt = monotonic();
      const at = await database.now();
      const tookMs = monotonic() - startedAt;
      if (tookMs < best) [best, found] = [tookMs, at - (startedAt + tookMs / 2)];
    }
    const movedMs = offset === null ? 0 : Math.round(found - offset);
    offset = found;
    if (Math.abs(movedMs) > JUMP_MS + best) onJump(movedMs);
    return movedMs;
  };
  await measure();
  const timer = setInterval(() => void measure().catch(onError), EVERY_MS).unref();
  const now = () => Math.round(monotonic() + (offset ?? 0));
  return { now, offsetMs: () => now() - Date.now(), measure, stop: () => clearInterval(timer) };
}

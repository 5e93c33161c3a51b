import { setMaxListeners } from 'node:events';
import { setTimeout as timeout } from 'node:timers/promises';
import type { Ports } from '../service/ports.ts';

/** Simulated time: days pass in minutes. */
export interface RehearsedClock {
  now(): number;
  sleep: Ports['sleep'];
  /** Counts work that is under way. */
  during<T>(work: Promise<T>): Promise<T>;
  /** Moves to an instant, never back, and wakes whoever slept until then. */
  moveTo(at: number): void;
  /** When the next of those who sleep wakes. */
  nextWake(): number | null;
  /** Resolves when nothing has been under way for a moment of real time. */
  quiet(): Promise<void>;
}

interface Sleeper {
  wakesAt: number;
  wake(): void;
}

const QUIET_MS = 4;
/** Work that takes longer than this, such as a request that hangs, is not waited for. */
const QUIET_WITHIN_MS = 20_000;

export function rehearsedClock(startAt: number): RehearsedClock {
  let now = startAt;
  let underWay = 0;
  let touchedAt = performance.now();
  const sleepers = new Set<Sleeper>();
  return {
    now: () => Math.round(now),
    sleep: (ms, stop) =>
      new Promise((resolve) => {
        if (stop?.aborted) return resolve();
        if (stop) setMaxListeners(0, stop); // every loop of the service waits for the same signal
        const wake = (): void => {
          sleepers.delete(sleeper);
          stop?.removeEventListener('abort', wake);
          resolve();
        };
        const sleeper: Sleeper = { wakesAt: now + Math.max(0, ms), wake };
        sleepers.add(sleeper);
        stop?.addEventListener('abort', wake, { once: true });
      }),
    async during(work) {
      underWay += 1;
      try {
        return await work;
      } finally {
        underWay -= 1;
        touchedAt = performance.now();
      }
    },
    moveTo(at) {
      now = Math.max(now, at);
      touchedAt = performance.now();
      for (const sleeper of [...sleepers]) if (sleeper.wakesAt <= now) sleeper.wake();
    },
    nextWake: () => (sleepers.size === 0 ? null : Math.min(...[...sleepers].map((one) => one.wakesAt))),
    async quiet() {
      for (const endsAt = performance.now() + QUIET_WITHIN_MS; performance.now() < endsAt; ) {
        await timeout(1);
        if (underWay === 0 && performance.now() - touchedAt >= QUIET_MS) return;
      }
    },
  };
}

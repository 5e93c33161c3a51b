import { Fault } from '../core/fault.ts';
import type { Ports } from './ports.ts';

/**
 * A worker's loop: one round after the other, with a pause where a round found no more to do. A round that fails is logged and made again;
 * a database that is away is known to everybody. Ends when stopped.
 * @param round returns whether there may be more at once
 */
export async function runPeriodically(
  { ports, everyMs, failed, stop }: { ports: Pick<Ports, 'log' | 'sleep'>; everyMs: number; failed: string; stop: AbortSignal },
  round: () => Promise<boolean>,
): Promise<void> {
  while (!stop.aborted) {
    let isMore = false;
    try {
      isMore = await round();
    } catch (cause) {
      const level = cause instanceof Fault && cause.code === 'DATABASE_UNAVAILABLE' ? 'debug' : 'error';
      ports.log[level]({ event: 'worker.round_failed', cause: cause instanceof Error ? cause.message : 'unknown' }, failed);
    }
    if (!isMore) await ports.sleep(everyMs, stop);
  }
}

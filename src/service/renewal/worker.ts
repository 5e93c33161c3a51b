import { setTimeout as sleep } from 'node:timers/promises';
import type { Ports } from '../ports.ts';
import type { RenewalEngine } from './engine.ts';

/** The renewal loop: claim, act, sleep, until told to stop. It holds no decisions. `pollMs`: how often it looks when idle. */
export async function keepRenewing(
  deps: { engine: RenewalEngine; concurrency: number; pollMs: number; ports: Pick<Ports, 'log' | 'random'> },
  stop: AbortSignal,
): Promise<void> {
  const { engine, concurrency, pollMs, ports } = deps;
  while (!stop.aborted) {
    let claimed = 0;
    try {
      claimed = await engine.renewDue(concurrency);
    } catch (cause) {
      ports.log.warn({ cause: String(cause) }, 'renewal round failed');
    }
    const idleMs = claimed > 0 ? pollMs / 10 : pollMs * (0.75 + ports.random.unit() / 2);
    await sleep(idleMs, undefined, { signal: stop }).catch(() => undefined); // aborted: the loop's condition ends it
  }
}

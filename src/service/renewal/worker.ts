import type { Ports } from '../ports.ts';
import type { RenewalEngine } from './engine.ts';
import type { Spares } from './spares.ts';

const LOOK_AFTER_MS = 2_000;
const SWEEP_MS = 60_000;
/** While there is work: how long until the next look for free slots. */
const BUSY_MS = 5;

/** Beside the loop: rows of silent owners, and spares of no use. */
async function lookAfter(deps: { engine: RenewalEngine; spares: Spares }, last: { lookedAt: number; sweptAt: number }): Promise<void> {
  const now = performance.now();
  if (now - last.lookedAt < LOOK_AFTER_MS) return;
  last.lookedAt = now;
  await deps.engine.takeOverSilent();
  if (now - last.sweptAt < SWEEP_MS) return;
  last.sweptAt = now;
  await deps.spares.sweep();
}

/** The renewal loop: claim, act, sleep, until told to stop. It holds no decisions. `pollMs`: how often it looks when idle. */
export async function keepRenewing(
  deps: { engine: RenewalEngine; spares: Spares; concurrency: number; pollMs: number; ports: Pick<Ports, 'log' | 'random' | 'sleep'> },
  stop: AbortSignal,
): Promise<void> {
  const { engine, concurrency, pollMs, ports } = deps;
  const last = { lookedAt: Number.NEGATIVE_INFINITY, sweptAt: Number.NEGATIVE_INFINITY };
  while (!stop.aborted) {
    let claimed: number | null = 0;
    try {
      claimed = await engine.renewDue(concurrency);
      await lookAfter(deps, last);
    } catch (cause) {
      ports.log.warn({ event: 'renewals.round_failed', cause: String(cause) }, 'renewal round failed');
    }
    const idleMs = claimed === 0 ? pollMs * (0.75 + ports.random.unit() / 2) : BUSY_MS;
    await ports.sleep(idleMs, stop);
  }
}

import type { RenewalLimits } from '../../core/renewal/limits.ts';
import type { History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { RenewalStore } from '../store/renewals.ts';

interface Needs {
  renewals: Pick<RenewalStore, 'fixInstants'>;
  history: Pick<History, 'add'>;
  limits: Pick<RenewalLimits, 'leaseMs' | 'holderWaitMs'>;
  ports: Pick<Ports, 'log'>;
}

/**
 * After the database clock was changed: reports it, and fixes the instants that would block renewals for the length of the jump. A token
 * issued in the future is due now. `byMs` 0: at startup, where a jump would not have been noticed.
 */
export async function afterJump(s: Needs, byMs: number): Promise<void> {
  try {
    const fixed = await s.renewals.fixInstants(s.limits);
    if (byMs === 0 && fixed === 0) return;
    const by = byMs === 0 ? '' : ` by ${Math.round(Math.abs(byMs) / 1000)} s ${byMs < 0 ? 'back' : 'forward'}`;
    s.ports.log.warn({ event: 'database.clock_changed', byMs, fixed }, 'the database clock was changed');
    s.history.add({
      actor: 'service',
      kind: 'clock_set',
      subject: 'installation',
      says: `The database clock was changed${by}. ${fixed === 0 ? 'No renewal was affected.' : `${fixed} ${fixed === 1 ? 'renewal was' : 'renewals were'} rescheduled to now.`} Check its time synchronization.`,
      data: { by_ms: byMs, fixed },
    });
  } catch (cause) {
    s.ports.log.error(
      { event: 'database.clock_not_fixed', cause: cause instanceof Error ? cause.message : 'unknown', byMs },
      'instants could not be fixed after a clock change',
    );
  }
}

import type { RenewalLimits } from '../../core/renewal/limits.ts';
import type { History } from '../history.ts';
import type { Ports } from '../ports.ts';
import type { RenewalStore } from '../store/renewals.ts';

interface Needs {
  renewals: Pick<RenewalStore, 'mendInstants'>;
  history: Pick<History, 'add'>;
  limits: Pick<RenewalLimits, 'leaseMs' | 'holderWaitMs'>;
  ports: Pick<Ports, 'log'>;
}

/**
 * After the database's clock was set: says so, and mends what a clock that was set back would hold up for as long as the jump. A token that
 * was issued in the future is due now. `byMs` 0: at the start, when a jump would not have been seen.
 */
export async function afterJump(s: Needs, byMs: number): Promise<void> {
  try {
    const mended = await s.renewals.mendInstants(s.limits);
    if (byMs === 0 && mended === 0) return;
    const by = byMs === 0 ? '' : ` by ${Math.round(Math.abs(byMs) / 1000)} s ${byMs < 0 ? 'back' : 'forward'}`;
    s.ports.log.warn({ byMs, mended }, 'the database\u2019s clock was set');
    s.history.add({
      actor: 'service',
      kind: 'clock_set',
      subject: 'installation',
      says: `The database\u2019s clock was set${by}. ${mended === 0 ? 'Nothing had to be renewed because of it.' : `${mended} ${mended === 1 ? 'renewal was' : 'renewals were'} brought forward.`} Let a time service keep it.`,
      data: { by_ms: byMs, mended },
    });
  } catch (cause) {
    s.ports.log.error({ cause: cause instanceof Error ? cause.message : 'unknown', byMs }, 'instants could not be mended after the clock was set');
  }
}

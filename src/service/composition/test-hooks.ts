import type { Send } from '../../core/oauth/wire.ts';
import type { Ports } from '../ports.ts';
import type { Spill } from '../renewal/index.ts';
import type { RenewalStore } from '../store/renewals.ts';
import type { RunStore } from '../store/runs.ts';

/** Places at which another may put a wrapper of its own around a port: fault tests stop the process there. */
export interface TestHooks {
  send?(send: Send): Send;
  store?(store: RenewalStore): RenewalStore;
  spill?(spill: Spill): Spill;
  runs?(store: RunStore): RunStore;
  /** Another time than the world's: a rehearsal runs days in minutes. */
  time?: { now(): number; sleep: Ports['sleep']; during<T>(work: Promise<T>): Promise<T> };
}

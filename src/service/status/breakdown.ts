import type { Breakdown } from '../../api/statistics.ts';
import { iso } from '../iso.ts';
import { HOUR_MS } from './hour-figures.ts';
import type { StatusParts } from './parts.ts';

const CALLERS_SHOWN = 8;
const QUOTAS_SHOWN = 8;
const JOBS_SHOWN = 8;
const RUNS_SHOWN = 14;
const HOURS = 24;

/** Who used most, which quotas are most used up, and how the last runs of jobs went: what the Overview draws. */
export async function showBreakdown(s: Pick<StatusParts, 'store' | 'ports' | 'hourFigures' | 'quotas'>): Promise<Breakdown> {
  const now = s.ports.clock.now();
  const since = Math.floor(now / HOUR_MS) * HOUR_MS - (HOURS - 1) * HOUR_MS;
  const [counts, quotas, runs] = await Promise.all([
    s.hourFigures.callersSince(since, now),
    s.store.statistics.quotas(QUOTAS_SHOWN),
    s.store.statistics.jobRuns(JOBS_SHOWN, RUNS_SHOWN),
  ]);
  const callers = new Map<string, Breakdown['callers'][number]>();
  for (const { caller, figure, count } of counts) {
    const one = callers.get(caller) ?? { caller, tokens: 0, relayed: 0, rejected: 0 };
    one[figure] += count;
    callers.set(caller, one);
  }
  const weight = (one: Breakdown['callers'][number]): number => one.tokens + one.relayed + one.rejected;
  return {
    callers: [...callers.values()].sort((a, b) => weight(b) - weight(a) || (a.caller < b.caller ? -1 : 1)).slice(0, CALLERS_SHOWN),
    callers_total: callers.size,
    quotas: quotas.map(({ scope, ...one }) => {
      // What is leased ahead is not used yet.
      const used = Math.max(0, one.used - s.quotas.unspent(scope));
      return { ...one, used, percent: Math.round((100 * used) / one.most) };
    }),
    jobs: runs.map(({ job, runs: last }) => ({ job, runs: last.map(({ startedAt, ...run }) => ({ ...run, at: iso(startedAt) })) })),
  };
}

import { LRUCache } from 'lru-cache';
import type { HourCount, StatisticsStore } from '../store/statistics.ts';

export const HOUR_MS = 3_600_000;
const HOURS_KEPT = 200;
/** Counts of an hour may still come this long after it: uses are written every few seconds. */
const SETTLED_MS = 60_000;

export interface HourFigures {
  /** All that was counted from `since` on, of the whole installation; hours that are over are counted once. */
  since(since: number, now: number): Promise<HourCount[]>;
}

/** An hour that is over does not change any more, and may hold a hundred thousand renewals. */
export function hourFigures(store: StatisticsStore): HourFigures {
  const over = new LRUCache<number, HourCount[]>({ max: HOURS_KEPT });
  const countHour = async (startsAt: number): Promise<HourCount[]> => {
    const range = { since: startsAt, until: startsAt + HOUR_MS };
    return (await Promise.all([store.renewals(range), store.uses(range)])).flat();
  };
  return {
    async since(since, now) {
      const counts: HourCount[] = [];
      for (let startsAt = since; startsAt <= now; startsAt += HOUR_MS) {
        const hour = over.get(startsAt) ?? (await countHour(startsAt));
        if (startsAt + HOUR_MS + SETTLED_MS < now) over.set(startsAt, hour);
        counts.push(...hour);
      }
      return counts;
    },
  };
}

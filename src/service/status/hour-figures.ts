import { LRUCache } from 'lru-cache';
import type { CallerCount, HourCount, StatisticsStore } from '../store/statistics.ts';

export const HOUR_MS = 3_600_000;
const HOURS_KEPT = 200;
/** Counts of an hour may still come this long after it: uses are written every few seconds. */
const SETTLED_MS = 60_000;
/** An hour that is under way is counted at most this often, however many pages ask. */
const PRESENT_KEPT_MS = 5_000;

export interface HourFigures {
  /** All that was counted from `since` on, of the whole installation; hours that are over are counted once. */
  since(since: number, now: number): Promise<HourCount[]>;
  /** The same of the uses, by caller. */
  callersSince(since: number, now: number): Promise<CallerCount[]>;
}

/** An hour that is over does not change any more, and may hold a hundred thousand renewals. */
export function hourFigures(store: StatisticsStore): HourFigures {
  const rangeOf = (startsAt: number) => ({ since: startsAt, until: startsAt + HOUR_MS });
  return {
    since: keptHours(async (startsAt) => (await Promise.all([store.renewals(rangeOf(startsAt)), store.uses(rangeOf(startsAt))])).flat()),
    callersSince: keptHours((startsAt) => store.callers(rangeOf(startsAt)), PRESENT_KEPT_MS),
  };
}

function keptHours<T>(countHour: (startsAt: number) => Promise<T[]>, presentKeptMs = 0): (since: number, now: number) => Promise<T[]> {
  const kept = new LRUCache<number, { countedAt: number; counts: T[] }>({ max: HOURS_KEPT });
  return async (since, now) => {
    const all: T[] = [];
    for (let startsAt = since; startsAt <= now; startsAt += HOUR_MS) {
      const known = kept.get(startsAt);
      const isOver = known !== undefined && known.countedAt > startsAt + HOUR_MS + SETTLED_MS;
      const isFresh = known !== undefined && now - known.countedAt < presentKeptMs && now >= known.countedAt;
      const hour = known && (isOver || isFresh) ? known : { countedAt: now, counts: await countHour(startsAt) };
      kept.set(startsAt, hour);
      all.push(...hour.counts);
    }
    return all;
  };
}

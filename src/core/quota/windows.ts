import { DateTime } from 'luxon';
import { type Api, fitsOperation, type Quota } from '../provider/api.ts';

/** Where a window of a quota begins and ends, epoch ms. Hours and days begin by the clock of the provider's zone. */
export function windowAt(quota: Pick<Quota, 'window' | 'zone'>, now: number): { startAt: number; endAt: number } {
  if (quota.window === 'minute') {
    const startAt = Math.floor(now / 60_000) * 60_000;
    return { startAt, endAt: startAt + 60_000 };
  }
  const start = DateTime.fromMillis(now, { zone: quota.zone }).startOf(quota.window);
  return { startAt: start.toMillis(), endAt: start.plus({ [quota.window]: 1 }).toMillis() };
}

/** What a call costs: 1 where calls are counted, the weight of its operation where points are. `path` is without its query. */
export function weightOf(api: Pick<Api, 'operations'>, unit: Quota['unit'], method: string, path: string): number {
  if (unit === 'calls') return 1;
  return api.operations.find((one) => one.method === method && fitsOperation(one.path, path))?.weight ?? 1;
}

/**
 * How much a replica takes at once from what is left of a window: a twentieth of the whole, so that a few replicas hold little idle, and
 * there is no write for each call. Near the end less, so that the last calls are not held by whoever does not use them.
 */
export function chunkOf(most: number, left: number, wanted: number): number {
  return Math.min(left, Math.max(wanted, Math.min(Math.ceil(most / 20), Math.ceil(left / 4))));
}

/** "45 calls a minute". `most`: where a share of it is meant. */
export const quotaInWords = (quota: Pick<Quota, 'unit' | 'window' | 'most'>, most = quota.most): string =>
  `${most} ${quota.unit} ${quota.window === 'hour' ? 'an' : 'a'} ${quota.window}`;

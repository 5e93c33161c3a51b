import { type Database, instantText } from './database.ts';

/** One window of a quota. `startAt`: epoch ms. */
interface QuotaWindow {
  scope: string;
  startAt: number;
}

/** Counts of quota windows, shared by all replicas. Instants are epoch ms. */
export interface QuotaStore {
  read(window: QuotaWindow): Promise<{ used: number; heldUntil: number | null } | null>;
  /** Starts a window, unless someone has. */
  start(window: QuotaWindow, most: number): Promise<void>;
  /** Takes so many, if so many were used; false: someone else took some. */
  take(window: QuotaWindow, count: number, used: number): Promise<boolean>;
  /** Takes back what was taken and not used. */
  giveBack(window: QuotaWindow, count: number): Promise<void>;
  /** Raises what was used to what the provider reports. */
  raise(window: QuotaWindow, used: number): Promise<void>;
  hold(window: QuotaWindow, untilAt: number): Promise<void>;
  deleteOld(): Promise<void>;
}

export function quotaStore(database: Database): QuotaStore {
  return {
    async read({ scope, startAt }) {
      const [row] = await database.select<{ used: number; held_until: Date | null }>(
        'SELECT used, held_until FROM quota_windows WHERE scope = $1 AND starts_at = $2',
        [scope, instantText(startAt)],
      );
      return row ? { used: row.used, heldUntil: row.held_until?.getTime() ?? null } : null;
    },
    giveBack: async ({ scope, startAt }, count) =>
      void (await database.write('UPDATE quota_windows SET used = IF(used > $1, used - $2, 0) WHERE scope = $3 AND starts_at = $4', [
        count,
        count,
        scope,
        instantText(startAt),
      ])),
    start: async ({ scope, startAt }, most) =>
      void (await database.write('INSERT IGNORE INTO quota_windows (scope, starts_at, most, used) VALUES ($1, $2, $3, 0)', [
        scope,
        instantText(startAt),
        most,
      ])),
    take: async ({ scope, startAt }, count, used) =>
      (await database.write('UPDATE quota_windows SET used = used + $1 WHERE scope = $2 AND starts_at = $3 AND used = $4', [
        count,
        scope,
        instantText(startAt),
        used,
      ])) === 1,
    raise: async ({ scope, startAt }, used) =>
      void (await database.write('UPDATE quota_windows SET used = GREATEST(used, $1) WHERE scope = $2 AND starts_at = $3', [
        used,
        scope,
        instantText(startAt),
      ])),
    hold: async ({ scope, startAt }, untilAt) =>
      void (await database.write('UPDATE quota_windows SET held_until = $1 WHERE scope = $2 AND starts_at = $3', [
        instantText(untilAt),
        scope,
        instantText(startAt),
      ])),
    deleteOld: async () => void (await database.write('DELETE FROM quota_windows WHERE starts_at < UTC_TIMESTAMP(3) - INTERVAL 3 DAY LIMIT 500')),
  };
}

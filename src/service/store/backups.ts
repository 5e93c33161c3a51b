import { z } from 'zod';
import { PracticeFacts } from '../../core/backup/practice.ts';
import { flag, id, instant, json, number, oneOf, orElse, orNull, readColumn, text } from './column.ts';
import { type Database, idBytes } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const BACKUP_STATES = ['running', 'done', 'failed'] as const;
const COLUMNS = {
  id,
  state: oneOf(BACKUP_STATES),
  kind: oneOf(['manual', 'scheduled']),
  /** How it is locked. */
  lockKind: oneOf(['passphrase', 'recipient']),
  results: flag,
  move: flag,
  requestedBy: text,
  startedAt: instant,
  endedAt: orNull(instant),
  rowCount: number,
  bytes: number,
  file: text,
  /** The replica in whose folder the file lies. */
  instance: id,
  says: text,
  /** Whoever writes it renews this; past it, it was broken off. */
  busyUntil: orNull(instant),
};
export type BackupRow = RowOf<typeof COLUMNS>;

const Plan = z.object({ everyHours: z.number(), keep: z.number(), recipient: z.string(), results: z.boolean() });
type BackupPlanRow = z.output<typeof Plan>;
const Practiced = z.object({
  ...{ at: z.number(), by: z.string(), good: z.boolean(), faults: z.array(z.string()), file: z.string() },
  facts: PracticeFacts.nullable(),
});
type PracticedRow = z.output<typeof Practiced>;
const PRACTICED = orElse(orNull(json(Practiced)), null);
const PLAN = orElse(orNull(json(Plan)), null);

/** Backups and their schedule. Instants are epoch ms. */
export interface BackupStore {
  list(): Promise<BackupRow[]>;
  byId(backupId: string): Promise<BackupRow | null>;
  /** Adds one, unless another is being written; false: one is. */
  begin(row: BackupRow): Promise<boolean>;
  change(backupId: string, set: Partial<BackupRow>): Promise<void>;
  remove(backupId: string): Promise<void>;
  plan(): Promise<BackupPlanRow | null>;
  setPlan(plan: BackupPlanRow | null): Promise<void>;
  /** The last practice restore; null: there was none. */
  practiced(): Promise<PracticedRow | null>;
  setPracticed(row: PracticedRow): Promise<void>;
}

export function backupStore(database: Database): BackupStore {
  const table = defineTable(database, 'backups', COLUMNS, { primaryKey: ['id'] });
  return {
    list: async () => (await table.list({}, { orderBy: 'startedAt' })).reverse(),
    byId: (backupId) => table.find({ id: backupId }),
    begin: (row) =>
      database.attempt(async (transaction) => {
        // The installation's row is the one that all who begin write first.
        await database.write('UPDATE installations SET backup_begun_at = UTC_TIMESTAMP(3) WHERE id = 1', [], transaction);
        const busy = await database.select(`SELECT 1 AS yes FROM backups WHERE state = 'running' AND busy_until > UTC_TIMESTAMP(3)`, [], transaction);
        if (busy.length > 0) return false;
        await table.insert(row, transaction);
        return true;
      }),
    change: async (backupId, set) => void (await table.change({ id: backupId }, set)),
    remove: async (backupId) => void (await database.write('DELETE FROM backups WHERE id = $1', [idBytes(backupId)])),
    async plan() {
      const [row] = await database.select<{ plan: string | null }>('SELECT backup_plan AS plan FROM installations WHERE id = 1');
      return row?.plan == null ? null : readColumn(PLAN, row.plan, { table: 'installations', column: 'backup_plan', row: '1' });
    },
    async practiced() {
      const [row] = await database.select<{ practiced: string | null }>('SELECT practiced FROM installations WHERE id = 1');
      return row?.practiced == null ? null : readColumn(PRACTICED, row.practiced, { table: 'installations', column: 'practiced', row: '1' });
    },
    setPracticed: async (row) => void (await database.write('UPDATE installations SET practiced = $1 WHERE id = 1', [JSON.stringify(row)])),
    setPlan: async (plan) =>
      void (await database.write('UPDATE installations SET backup_plan = $1 WHERE id = 1', [plan === null ? null : JSON.stringify(plan)])),
  };
}

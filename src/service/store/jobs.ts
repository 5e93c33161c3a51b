import { JobSettings } from '../../api/jobs.ts';
import { bytes, flag, id, instant, json, number, orNull, rowReader, text } from './column.ts';
import { type Database, idBytes, idText, instantText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  name: text,
  connectionId: id,
  settings: json(JobSettings),
  /** The settings whole, where they hold secrets (sealed-documents.ts). */
  settingsSealed: orNull(bytes),
  hashKeySealed: bytes,
  signingSecretSealed: orNull(bytes),
  enabled: flag,
  revision: number,
  nextRunAt: orNull(instant),
  runsMade: number,
  latestRunId: orNull(id),
  createdBy: text,
  createdAt: instant,
};
export type JobRow = RowOf<typeof COLUMNS>;
const readTargets = rowReader('jobs', { id, name: text, deliver: json(JobSettings.shape.deliver) }, 'name');

/** Jobs: what is collected, when, and which result is served. */
export interface JobStore {
  /** By name. */
  list(): Promise<JobRow[]>;
  /** Settings that an earlier version wrote: not checked for secrets yet. */
  unsealed(most: number): Promise<JobRow[]>;
  /** Seals them in place: nothing else changes. */
  reseal(row: Pick<JobRow, 'id' | 'revision'>, set: Partial<JobRow>): Promise<void>;
  byName(name: string): Promise<JobRow | null>;
  byId(jobId: string): Promise<JobRow | null>;
  ofConnections(connectionIds: readonly string[]): Promise<JobRow[]>;
  add(row: JobRow): Promise<void>;
  /** False: someone changed it since that revision. */
  change(jobId: string, revision: number, set: Partial<JobRow>): Promise<boolean>;
  /** With runs, pages, files and deliveries. */
  remove(jobId: string): Promise<void>;
  /** What each job delivers to files, the job that was added first first. */
  fileTargets(): Promise<{ id: string; name: string; patterns: string[] }[]>;
  /** Enabled jobs whose run is due. */
  due(most: number): Promise<JobRow[]>;
  /** Moves the next run, where it is still due at the same instant: one replica alone begins it. */
  takeDue(jobId: string, dueAt: number, nextAt: number | null): Promise<boolean>;
  /** The number of the next run, taken by whoever asks. */
  nextNumber(jobId: string): Promise<number>;
}

export function jobStore(database: Database): JobStore {
  const table = defineTable(database, 'jobs', COLUMNS, { primaryKey: ['id'] });
  return {
    list: () => table.list({}, { orderBy: 'name' }),
    unsealed: (most) => table.list({ settingsSealed: null }, { limit: most }),
    reseal: async ({ id: jobId, revision }, set) => void (await table.change({ id: jobId, revision }, set)),
    byName: (name) => table.find({ name }),
    byId: (jobId) => table.find({ id: jobId }),
    ofConnections: async (connectionIds) => (connectionIds.length === 0 ? [] : table.list({ connectionId: connectionIds }, { orderBy: 'name' })),
    add: (row) => table.insert(row),
    change: async (jobId, revision, set) => (await table.change({ id: jobId, revision }, { ...set, revision: revision + 1 })) > 0,
    async remove(jobId) {
      const bind = [idBytes(jobId)];
      // Pieces first: a run that is being collected fails its next save, because its row is gone last.
      for (const name of ['run_files', 'run_pages']) await database.write(`DELETE FROM ${name} WHERE run_id IN (SELECT id FROM runs WHERE job_id = $1)`, bind);
      await database.transaction(async (transaction) => {
        for (const name of ['run_files', 'run_pages'])
          await database.write(`DELETE FROM ${name} WHERE run_id IN (SELECT id FROM runs WHERE job_id = $1)`, bind, transaction);
        await database.write('DELETE FROM runs WHERE job_id = $1', bind, transaction);
        await database.write('DELETE FROM jobs WHERE id = $1', bind, transaction);
      });
    },
    async fileTargets() {
      const rows = await database.select(
        `SELECT id, name, CAST(JSON_EXTRACT(settings, '$.deliver') AS CHAR) AS deliver FROM jobs WHERE JSON_SEARCH(settings, 'one', 'file', NULL, '$.deliver[*].kind') IS NOT NULL ORDER BY id`,
      );
      return rows.map(readTargets).map(({ id: jobId, name, deliver }) => ({
        ...{ id: jobId, name },
        patterns: deliver.flatMap((target) => (target.kind === 'file' ? [target.name] : [])),
      }));
    },
    async due(most) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM jobs WHERE enabled = 1 AND next_run_at <= UTC_TIMESTAMP(3) ORDER BY next_run_at LIMIT ${Math.floor(most)}`,
      );
      return rows.length === 0 ? [] : table.list({ id: rows.map((row) => idText(row.id)) });
    },
    takeDue: async (jobId, dueAt, nextAt) =>
      (await database.write('UPDATE jobs SET next_run_at = $1 WHERE id = $2 AND next_run_at = $3', [
        nextAt === null ? null : instantText(nextAt),
        idBytes(jobId),
        instantText(dueAt),
      ])) > 0,
    async nextNumber(jobId) {
      for (let tries = 0; tries < 20; tries += 1) {
        const job = await table.find({ id: jobId });
        if (!job) return 0;
        if ((await table.change({ id: jobId, runsMade: job.runsMade }, { runsMade: job.runsMade + 1 })) > 0) return job.runsMade + 1;
      }
      return 0;
    },
  };
}

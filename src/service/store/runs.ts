import type { z } from 'zod';
import { RUN_REASONS, RUN_STATES } from '../../api/jobs.ts';
import { bytes, id, instant, json, number, oneOf, orNull, text } from './column.ts';
import { type Bind, type Database, idBytes, idText, intervalText } from './database.ts';
import { type DeliveryRow, type RunDeliveries, runDeliveries } from './run-deliveries.ts';
import { Checkpoint, RunOutcome, RunPlan } from './run-documents.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  jobId: orNull(id),
  connectionId: id,
  number,
  reason: oneOf(RUN_REASONS),
  requestedBy: text,
  state: oneOf(RUN_STATES),
  plan: json(RunPlan),
  planSealed: orNull(bytes),
  checkpoint: json(Checkpoint),
  outcome: orNull(json(RunOutcome)),
  waits: orNull(text),
  startedAt: instant,
  endedAt: orNull(instant),
  nextAt: instant,
};
export type RunRow = RowOf<typeof COLUMNS>;
export interface RunLease {
  runId: string;
  token: string;
}
/** One page of records as it is kept: deflated lines of JSON, and 16 bytes of hash for each that has an id. */
export interface StagedPage {
  sequence: number;
  records: number;
  data: Buffer;
  ids: Buffer | null;
}
/** A part of a written file: one gzip member. `starts`, `size`: of the plain bytes. */
interface FilePart {
  sequence: number;
  starts: number;
  size: number;
  data: Buffer;
}
/** Runs of jobs. Whoever holds the lease of a run may save to it, nobody else. */
export interface RunStore extends RunDeliveries {
  byId(runId: string): Promise<RunRow | null>;
  byIds(runIds: readonly string[]): Promise<RunRow[]>;
  /** Plans that an earlier version wrote: not checked for secrets yet. */
  unsealed(most: number): Promise<RunRow[]>;
  /** Seals one in place: nothing else changes. */
  reseal(runId: string, set: Partial<RunRow>): Promise<void>;
  /** Newest first. */
  ofJob(jobId: string, most: number, before?: number): Promise<RunRow[]>;
  unfinishedOf(jobId: string): Promise<RunRow | null>;
  /** The last of a connection that were finished, by hand or of a job, newest first. */
  lastDone(connectionId: string, most: number): Promise<RunRow[]>;
  add(row: RunRow): Promise<void>;
  /** Runs that may go on now and that nobody works on. */
  claimable(most: number): Promise<string[]>;
  claim(runId: string, token: string, forMs: number): Promise<boolean>;
  /** Ends leases whose token begins so: whoever held them is known to be gone. */
  freeLeases(mark: string): Promise<void>;
  /** Extends the lease. False: someone else has it, or the run was cancelled or removed. */
  keep(lease: RunLease, forMs: number): Promise<boolean>;
  /** Saves where the run stands with the records that led there, both or none. False: as `keep`. */
  savePage(lease: RunLease, checkpoint: Checkpoint, pages: readonly StagedPage[], forMs: number): Promise<boolean>;
  /** Discards pages from a number on, with the checkpoint that knows of it. */
  discardPages(lease: RunLease, checkpoint: Checkpoint, from: number, forMs: number): Promise<boolean>;
  /** Waits until then; the lease is given back. */
  wait(lease: RunLease, set: { checkpoint: Checkpoint; waits: string; untilMs: number; state: 'running' | 'waiting' }): Promise<boolean>;
  /** Ends a run. `served`: the job whose result it is from now on, with the deliveries that follow: all of it, or nothing. */
  finish(
    lease: RunLease,
    set: {
      state: 'done' | 'failed';
      checkpoint: Checkpoint;
      outcome: z.output<typeof RunOutcome>;
      served?: { jobId: string; deliveries: readonly DeliveryRow[] } | null;
    },
  ): Promise<boolean>;
  /** Ends a run whatever holds it. False: it has ended. */
  cancel(runId: string): Promise<boolean>;
  /** Lets a run that waits, or that failed, go on now. False: it is neither. */
  resume(runId: string): Promise<boolean>;
  pages(runId: string, after: number, most: number): Promise<StagedPage[]>;
  ids(runId: string, after: number, most: number): Promise<{ sequence: number; ids: Buffer }[]>;
  discardFiles(runId: string): Promise<void>;
  saveFile(lease: RunLease, format: string, part: FilePart, forMs: number): Promise<boolean>;
  /** The size of a written file in plain bytes; null: it was not written. */
  fileSize(runId: string, format: string): Promise<number | null>;
  fileParts(runId: string, format: string, from: number, most: number): Promise<FilePart[]>;
  /** Removes what is past its retention: pages and files of runs, then the runs. */
  deleteOld(jobId: string, keep: { runs: number; days: number; needed: readonly string[] }): Promise<number>;
  /** Collections by hand that ended so long ago. */
  deleteCollections(olderThanMs: number): Promise<number>;
}

const LIVE = "state IN ('running', 'waiting')";

export function runStore(database: Database): RunStore {
  const table = defineTable(database, 'runs', COLUMNS, { primaryKey: ['id'], withEachChange: { stamp: 'stamp + 1' } });
  const saved = (forMs: number): string =>
    `UPDATE runs SET checkpoint = $1, state = 'running', waits = NULL, stamp = stamp + 1, lease_until = UTC_TIMESTAMP(3) + ${intervalText(forMs)} WHERE id = $2 AND lease_token = $3 AND ${LIVE}`;
  const { add: addDelivery, ...deliveries } = runDeliveries(database);
  const ended = (runId: string): Bind[] => [idBytes(runId)];
  const removePieces = async (runIds: readonly string[]): Promise<void> => {
    for (const runId of runIds) {
      for (const name of ['run_files', 'run_pages']) await database.write(`DELETE FROM ${name} WHERE run_id = $1`, [idBytes(runId)]);
      await database.write('DELETE FROM runs WHERE id = $1', [idBytes(runId)]);
    }
  };
  return {
    ...deliveries,
    byId: (runId) => table.find({ id: runId }),
    unsealed: (most) => table.list({ planSealed: null }, { limit: most }),
    reseal: async (runId, set) => void (await table.change({ id: runId }, set)),
    byIds: async (runIds) => (runIds.length === 0 ? [] : table.list({ id: runIds })),
    async ofJob(jobId, most, before) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM runs WHERE job_id = $1${before === undefined ? '' : ' AND number < $2'} ORDER BY number DESC LIMIT ${Math.floor(most)}`,
        [idBytes(jobId), ...(before === undefined ? [] : [before])],
      );
      const found = rows.length === 0 ? [] : await table.list({ id: rows.map((row) => idText(row.id)) });
      return found.sort((a, b) => b.number - a.number);
    },
    async unfinishedOf(jobId) {
      const [row] = await database.select<{ id: Buffer }>(`SELECT id FROM runs WHERE job_id = $1 AND ${LIVE} LIMIT 1`, [idBytes(jobId)]);
      return row ? table.find({ id: idText(row.id) }) : null;
    },
    async lastDone(connectionId, most) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM runs WHERE connection_id = $1 AND state = 'done' ORDER BY id DESC LIMIT ${Math.floor(most)}`,
        [idBytes(connectionId)],
      );
      const found = rows.length === 0 ? [] : await table.list({ id: rows.map((row) => idText(row.id)) });
      return found.sort((x, y) => (x.id < y.id ? 1 : -1));
    },
    add: (row) => table.insert(row),
    async claimable(most) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM runs WHERE ${LIVE} AND next_at <= UTC_TIMESTAMP(3) AND (lease_until IS NULL OR lease_until < UTC_TIMESTAMP(3)) ORDER BY next_at LIMIT ${Math.floor(most)}`,
      );
      return rows.map((row) => idText(row.id));
    },
    freeLeases: async (mark) =>
      void (await database.write(
        `UPDATE runs SET lease_until = NULL WHERE ${LIVE} AND lease_until IS NOT NULL AND LEFT(lease_token, ${mark.length}) = BINARY $1`,
        [mark],
      )),
    claim: async (runId, token, forMs) =>
      (await database.write(
        `UPDATE runs SET lease_token = $1, lease_until = UTC_TIMESTAMP(3) + ${intervalText(forMs)}
         WHERE id = $2 AND ${LIVE} AND next_at <= UTC_TIMESTAMP(3) AND (lease_until IS NULL OR lease_until < UTC_TIMESTAMP(3))`,
        [token, idBytes(runId)],
      )) > 0,
    keep: async ({ runId, token }, forMs) =>
      (await database.write(
        `UPDATE runs SET stamp = stamp + 1, lease_until = UTC_TIMESTAMP(3) + ${intervalText(forMs)} WHERE id = $1 AND lease_token = $2 AND ${LIVE}`,
        [idBytes(runId), token],
      )) > 0,
    savePage: async (lease, checkpoint, pages, forMs) => {
      const ours: Bind[] = [JSON.stringify(checkpoint), idBytes(lease.runId), lease.token];
      const [page] = pages;
      if (!page) return (await database.write(saved(forMs), ours)) > 0;
      if (pages.length === 1)
        return database.chained(saved(forMs), 'INSERT INTO run_pages (run_id, sequence, records, data, ids) VALUES ($2, $4, $5, $6, $7)', [
          ...ours,
          page.sequence,
          page.records,
          page.data,
          page.ids,
        ]);
      return database.attempt(async (transaction) => {
        if ((await database.write(saved(forMs), ours, transaction)) === 0) return false;
        for (const page of pages)
          await database.write(
            'INSERT INTO run_pages (run_id, sequence, records, data, ids) VALUES ($1, $2, $3, $4, $5)',
            [idBytes(lease.runId), page.sequence, page.records, page.data, page.ids],
            transaction,
          );
        return true;
      });
    },
    discardPages: (lease, checkpoint, from, forMs) =>
      database.attempt(async (transaction) => {
        const isOurs = (await database.write(saved(forMs), [JSON.stringify(checkpoint), idBytes(lease.runId), lease.token], transaction)) > 0;
        if (isOurs) await database.write('DELETE FROM run_pages WHERE run_id = $1 AND sequence >= $2', [idBytes(lease.runId), from], transaction);
        return isOurs;
      }),
    wait: async ({ runId, token }, { checkpoint, waits, untilMs, state }) =>
      (await database.write(
        `UPDATE runs SET checkpoint = $1, waits = $2, state = $3, stamp = stamp + 1, lease_token = NULL, lease_until = NULL, next_at = UTC_TIMESTAMP(3) + ${intervalText(untilMs)}
         WHERE id = $4 AND lease_token = $5 AND ${LIVE}`,
        [JSON.stringify(checkpoint), waits.slice(0, 600), state, idBytes(runId), token],
      )) > 0,
    finish: ({ runId, token }, { state, checkpoint, outcome, served = null }) =>
      database.attempt(async (transaction) => {
        const isOurs =
          (await database.write(
            `UPDATE runs SET checkpoint = $1, outcome = $2, state = $3, waits = NULL, stamp = stamp + 1, ended_at = UTC_TIMESTAMP(3), lease_token = NULL, lease_until = NULL
             WHERE id = $4 AND lease_token = $5 AND ${LIVE}`,
            [JSON.stringify(checkpoint), JSON.stringify(outcome), state, idBytes(runId), token],
            transaction,
          )) > 0;
        if (!isOurs || served === null) return isOurs;
        // An earlier run that was resumed does not replace the result of a later one.
        const isLatest = await database.write(
          'UPDATE jobs SET latest_run_id = $1 WHERE id = $2 AND (latest_run_id IS NULL OR latest_run_id < $3)',
          [idBytes(runId), idBytes(served.jobId), idBytes(runId)],
          transaction,
        );
        if (isLatest > 0) for (const row of served.deliveries) await addDelivery(row, transaction);
        return true;
      }),
    cancel: async (runId) => {
      const isEnded =
        (await database.write(
          `UPDATE runs SET state = 'cancelled', waits = NULL, stamp = stamp + 1, ended_at = UTC_TIMESTAMP(3), lease_token = NULL, lease_until = NULL WHERE id = $1 AND ${LIVE}`,
          ended(runId),
        )) > 0;
      if (isEnded) for (const name of ['run_files', 'run_pages']) await database.write(`DELETE FROM ${name} WHERE run_id = $1`, ended(runId));
      return isEnded;
    },
    resume: async (runId) =>
      (await database.write(
        `UPDATE runs SET state = 'running', waits = NULL, outcome = NULL, stamp = stamp + 1, ended_at = NULL, next_at = UTC_TIMESTAMP(3)
         WHERE id = $1 AND (state = 'waiting' OR state = 'failed' OR (state = 'running' AND lease_token IS NULL))`,
        ended(runId),
      )) > 0,
    async pages(runId, after, most) {
      const rows = await database.select<{ sequence: number; records: number; data: Buffer }>(
        `SELECT sequence, records, data FROM run_pages WHERE run_id = $1 AND sequence > $2 ORDER BY sequence LIMIT ${Math.floor(most)}`,
        [idBytes(runId), after],
      );
      return rows.map((row) => ({ ...row, ids: null }));
    },
    ids: (runId, after, most) =>
      database.select(
        `SELECT sequence, ids FROM run_pages WHERE run_id = $1 AND sequence > $2 AND ids IS NOT NULL ORDER BY sequence LIMIT ${Math.floor(most)}`,
        [idBytes(runId), after],
      ),
    discardFiles: async (runId) => void (await database.write('DELETE FROM run_files WHERE run_id = $1', [idBytes(runId)])),
    saveFile: (lease, format, part, forMs) =>
      database.chained(
        `UPDATE runs SET stamp = stamp + 1, lease_until = UTC_TIMESTAMP(3) + ${intervalText(forMs)} WHERE id = $1 AND lease_token = $2 AND ${LIVE}`,
        'INSERT INTO run_files (run_id, format, sequence, starts, size, data) VALUES ($1, $3, $4, $5, $6, $7)',
        [idBytes(lease.runId), lease.token, format, part.sequence, part.starts, part.size, part.data],
      ),
    async fileSize(runId, format) {
      const [row] = await database.select<{ size: string | number | null }>('SELECT SUM(size) AS size FROM run_files WHERE run_id = $1 AND format = $2', [
        idBytes(runId),
        format,
      ]);
      return row?.size === null || row === undefined ? null : Number(row.size);
    },
    async fileParts(runId, format, from, most) {
      const rows = await database.select<{ sequence: number; starts: string | number; size: number; data: Buffer }>(
        `SELECT sequence, starts, size, data FROM run_files WHERE run_id = $1 AND format = $2 AND starts + size > $3 ORDER BY sequence LIMIT ${Math.floor(most)}`,
        [idBytes(runId), format, from],
      );
      return rows.map((row) => ({ ...row, starts: Number(row.starts) }));
    },
    async deleteOld(jobId, { runs, days, needed }) {
      const rows = await database.select<{ id: Buffer; number: number; old: number }>(
        `SELECT id, number, ended_at < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(days)} DAY AS old FROM runs WHERE job_id = $1 AND NOT ${LIVE} ORDER BY number DESC LIMIT 20000`,
        [idBytes(jobId)],
      );
      const gone = rows.filter((row, at) => (at >= runs || Number(row.old) === 1) && !needed.includes(idText(row.id))).map((row) => idText(row.id));
      await removePieces(gone.slice(0, 200));
      return gone.length;
    },
    async deleteCollections(olderThanMs) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT id FROM runs WHERE job_id IS NULL AND ended_at < UTC_TIMESTAMP(3) - ${intervalText(olderThanMs)} LIMIT 100`,
      );
      await removePieces(rows.map((row) => idText(row.id)));
      return rows.length;
    },
  };
}

import { z } from 'zod';
import { RUN_RESULTS, type RunResult } from '../../core/jobs/run-results.ts';
import { document, instant, number, orNull, rowReader, text } from './column.ts';
import { type Bind, type Database, idBytes, instantText } from './database.ts';

const HOUR_MS = 3_600_000;
const RENEWAL_KINDS = { renewed: 'renewed', renewal_failed: 'failed', action_needed: 'failed' } as const;
const USAGE_OUTCOMES = { token: 'tokens', relayed: 'relayed', refused: 'rejected', limited: 'rejected' } as const;

type Figure = 'renewed' | 'failed' | 'tokens' | 'relayed' | 'rejected';
/** What was counted in one hour; `startsAt` in epoch ms. */
export interface HourCount {
  startsAt: number;
  figure: Figure;
  count: number;
}
/** From `since` until before `until`, epoch ms. */
interface Range {
  since: number;
  until: number;
}

/** What one caller did in an hour. */
export interface CallerCount {
  caller: string;
  figure: 'tokens' | 'relayed' | 'rejected';
  count: number;
}
/** A quota's window that is open now. */
interface OpenWindow {
  scope: string;
  name: string;
  of: 'client' | 'connection';
  api: string;
  window: 'minute' | 'hour' | 'day';
  unit: string;
  used: number;
  most: number;
}
interface JobRuns {
  job: string;
  runs: { number: number; startedAt: number; result: RunResult; records: number }[];
}

/** Counts by the hour, from the history and the uses. */
export interface StatisticsStore {
  /** @param subject as in the history, `connection:NAME`; left out: of all connections */
  renewals(range: Range, subject?: string): Promise<HourCount[]>;
  /** Of one connection or one caller, by record id; left out: of all. */
  uses(range: Range, of?: { connectionId?: string; callerId?: string }): Promise<HourCount[]>;
  callers(range: Range): Promise<CallerCount[]>;
  /** Open windows of clients and connections, the most used first; callers' shares are not among them. */
  quotas(most: number): Promise<OpenWindow[]>;
  /** The last runs of the jobs that ran last, the oldest run first. */
  jobRuns(jobs: number, runs: number): Promise<JobRuns[]>;
}

type Counted = { hour: number | bigint | string; word: string; n: number | bigint | string };

const hourCounts = <W extends string>(rows: readonly Counted[], figures: Readonly<Record<W, Figure>>): HourCount[] =>
  rows.map((row) => ({ startsAt: Number(row.hour) * HOUR_MS, figure: figures[row.word as W], count: Number(row.n) }));

// Instants are kept in UTC, and the session's zone is UTC: the difference to 1970 is exact.
const HOUR_OF = (column: string) => `TIMESTAMPDIFF(HOUR, '1970-01-01', ${column})`;

const MAX_WINDOWS = 5_000;
const Outcome = z.object({ completeness: z.object({ verdict: z.enum(['complete', 'incomplete', 'cannot_tell']) }).nullable() });
function resultOf({ state, outcome }: { state: string; outcome: string | null }): RunResult {
  if (state !== 'done') return RUN_RESULTS.find((result) => result === state) ?? 'failed';
  const read = Outcome.safeParse(JSON.parse(outcome ?? 'null'));
  return read.success ? (read.data.completeness?.verdict ?? 'cannot_tell') : 'cannot_tell';
}
const readRun = rowReader('runs', { job: text, number, startedAt: instant, state: text, outcome: orNull(text), checkpoint: document }, 'job');

/** A window with the name of whose it is; null: that is gone. */
async function withName(database: Database, { scope, used, most }: { scope: string; used: number; most: number }): Promise<OpenWindow | null> {
  const [of, owner = '', api = '', window, unit = ''] = scope.split(':') as ['client' | 'connection', string, string, OpenWindow['window'], string];
  const [row] = await database.select<{ name: string }>(
    of === 'client'
      ? "SELECT CONCAT(p.name, '/', c.name) AS name FROM clients c JOIN providers p ON p.id = c.provider_id WHERE c.id = $1"
      : 'SELECT name FROM connections WHERE id = $1',
    [idBytes(owner)],
  );
  return row ? { scope, name: row.name, of, api, window, unit, used, most } : null;
}

export function statisticsStore(database: Database): StatisticsStore {
  return {
    async renewals({ since, until }, subject) {
      const bind: Bind[] = [instantText(since), instantText(until)];
      const kinds = Object.keys(RENEWAL_KINDS).map((kind) => `$${bind.push(kind)}`);
      const ofOne = subject === undefined ? '' : `AND subject = $${bind.push(subject)}`;
      const rows = await database.select<Counted>(
        `SELECT ${HOUR_OF('at')} AS hour, kind AS word, COUNT(*) AS n FROM history
         WHERE at >= $1 AND at < $2 AND kind IN (${kinds.join(', ')}) ${ofOne} GROUP BY hour, word`,
        bind,
      );
      return hourCounts(rows, RENEWAL_KINDS);
    },
    async uses({ since, until }, { connectionId, callerId } = {}) {
      const bind: Bind[] = [instantText(since), instantText(until)];
      const ofCaller = callerId === undefined ? '' : `AND caller_id = $${bind.push(idBytes(callerId))}`;
      const ofConnection = connectionId === undefined ? '' : `AND connection_id = $${bind.push(idBytes(connectionId))}`;
      const rows = await database.select<Counted>(
        `SELECT ${HOUR_OF('minute')} AS hour, outcome AS word, SUM(count) AS n FROM usage_minutes
         WHERE minute >= $1 AND minute < $2 ${ofCaller} ${ofConnection} GROUP BY hour, word`,
        bind,
      );
      return hourCounts(rows, USAGE_OUTCOMES);
    },
    async callers({ since, until }) {
      const rows = await database.select<{ caller: string; word: keyof typeof USAGE_OUTCOMES; n: number | bigint | string }>(
        `SELECT c.name AS caller, u.outcome AS word, SUM(u.count) AS n FROM usage_minutes u JOIN callers c ON c.id = u.caller_id
         WHERE u.minute >= $1 AND u.minute < $2 GROUP BY c.name, u.outcome`,
        [instantText(since), instantText(until)],
      );
      return rows.map(({ caller, word, n }) => ({ caller, figure: USAGE_OUTCOMES[word], count: Number(n) }));
    },
    async quotas(most) {
      // A scope is OF:ID:API:WINDOW:UNIT; one more part names a caller's share.
      const rows = await database.select<{ scope: string; used: number; most: number }>(
        `SELECT scope, used, most FROM quota_windows
         WHERE starts_at > UTC_TIMESTAMP(3) - INTERVAL 25 HOUR AND scope REGEXP '^(client|connection)(:[^:]+){4}$'
           AND starts_at > UTC_TIMESTAMP(3) - INTERVAL CASE WHEN scope LIKE '%:minute:%' THEN 1 WHEN scope LIKE '%:hour:%' THEN 60 ELSE 1500 END MINUTE
         ORDER BY starts_at DESC, used / most DESC LIMIT ${MAX_WINDOWS}`,
      );
      const newest = new Map(rows.toReversed().map((row) => [row.scope, row]));
      const open = [...newest.values()].sort((a, b) => b.used / b.most - a.used / a.most).slice(0, most);
      const named = await Promise.all(open.map((row) => withName(database, row)));
      return named.filter((one) => one !== null);
    },
    async jobRuns(jobs, runs) {
      const rows = await database.select(
        `SELECT x.job, x.number, x.started_at AS startedAt, x.state, x.outcome, x.checkpoint FROM (
           SELECT j.name AS job, r.number, r.started_at, r.state, r.outcome, r.checkpoint,
             ROW_NUMBER() OVER (PARTITION BY r.job_id ORDER BY r.number DESC) AS place
           FROM runs r JOIN (SELECT id, name FROM jobs WHERE latest_run_id IS NOT NULL OR runs_made > 0 ORDER BY COALESCE(latest_run_id, id) DESC LIMIT ${Math.floor(jobs)}) j ON j.id = r.job_id
         ) x WHERE x.place <= ${Math.floor(runs)} ORDER BY x.job, x.number`,
      );
      const found = new Map<string, JobRuns>();
      for (const row of rows.map(readRun)) {
        const one = found.get(row.job) ?? { job: row.job, runs: [] };
        found.set(row.job, one);
        one.runs.push({ number: row.number, startedAt: row.startedAt, result: resultOf(row), records: Number(row.checkpoint.records ?? 0) });
      }
      return [...found.values()];
    },
  };
}

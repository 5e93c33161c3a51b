import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { resetRetries } from '../../core/jobs/own-time.ts';
import { nextRuns } from '../../core/jobs/schedule.ts';
import { judge } from '../../core/paging/verdict.ts';
import { hashOf } from '../hash.ts';
import type { JobRow } from '../store/jobs.ts';
import type { Checkpoint } from '../store/run-documents.ts';
import type { RunLease, RunRow } from '../store/runs.ts';
import { collect } from './collector.ts';
import { deliverDue } from './deliveries.ts';
import { jitterOf } from './jitter.ts';
import type { JobParts } from './parts.ts';
import { writeFiles } from './results.ts';
import { recordUnstarted, startRun } from './starting.ts';
import { type WritingAhead, writeAhead } from './writing-ahead.ts';

const AT_ONCE = 4;
const DUE_AT_ONCE = 50;
const LOOK_MS = 1_000;
const TIDY_EVERY_MS = 300_000;
const BROKEN_WAIT_MS = 10_000;
/** A run that was due longer ago was missed: nothing ran then. */
const MISSED_MS = 90_000;
const COLLECTION_KEPT_MS = 86_400_000;

/** Begins due runs, works on runs that nobody works on, and delivers results; on every replica. Ends when told to stop. */
export async function runJobs(s: JobParts, stop: AbortSignal): Promise<void> {
  const working = new Map<string, Promise<void>>();
  let tidiedAt = 0;
  let delivering: Promise<void> | null = null;
  let hasFreed = false;
  const round = async (): Promise<void> => {
    // What a former life of this process worked on goes on at once: it is dead, and its leases hold nothing.
    if (!hasFreed) await s.store.runs.freeLeases(leaseMark(s.instanceId));
    hasFreed = true;
    for (const job of await s.store.jobs.due(DUE_AT_ONCE)) await beginDue(s, job);
    if (working.size < AT_ONCE)
      for (const runId of await s.store.runs.claimable(AT_ONCE * 2)) {
        if (working.size >= AT_ONCE || stop.aborted) break;
        if (working.has(runId)) continue;
        const lease: RunLease = { runId, token: `${leaseMark(s.instanceId)}${base64url(s.ports.random.bytes(LEASE_RANDOM_BYTES))}` };
        if (!(await s.store.runs.claim(runId, lease.token, s.settings.limits.leaseMs))) continue;
        working.set(
          runId,
          s.ports.traces
            .span('job.run', { run: runId }, (note) => workOn(s, { lease, note }, stop))
            .catch((cause: unknown) => logFailure(s, cause, 'work on a run failed; it continues from its last page'))
            .finally(() => {
              working.delete(runId);
              s.jobBell.ring(); // deliveries may be due, and another run may wait for its turn
            }),
        );
      }
    // An application that hangs must not hold up what is due here.
    delivering ??= deliverDue(s, stop)
      .catch((cause: unknown) => logFailure(s, cause, 'delivering results failed'))
      .finally(() => {
        delivering = null;
      });
    if (s.ports.clock.now() - tidiedAt > TIDY_EVERY_MS) {
      tidiedAt = s.ports.clock.now();
      await tidy(s);
    }
  };
  while (!stop.aborted) {
    try {
      await round();
    } catch (cause) {
      logFailure(s, cause, 'looking for due runs failed');
    }
    await s.jobBell.wait(LOOK_MS, stop);
  }
  await Promise.all([...working.values(), delivering]);
}

/** With which the leases of this data folder begin; with the random part they fill their column. */
const LEASE_MARK_CHARACTERS = 8;
const LEASE_RANDOM_BYTES = 10;
const leaseMark = (instanceId: string): string => base64url(hashOf(instanceId)).slice(0, LEASE_MARK_CHARACTERS);

/** A database that is away is known to everybody; all else is a fault of ours. */
function logFailure(s: Pick<JobParts, 'ports'>, cause: unknown, message: string): void {
  const level = cause instanceof Fault && cause.code === 'DATABASE_UNAVAILABLE' ? 'debug' : 'error';
  s.ports.log[level]({ event: 'jobs.round_failed', cause: cause instanceof Error ? cause.message : 'unknown' }, message);
}

/** One replica moves the date and begins the run; what cannot begin is recorded, so that people see it. */
async function beginDue(s: JobParts, job: JobRow): Promise<void> {
  const now = s.ports.clock.now();
  const dueAt = job.nextRunAt;
  if (dueAt === null) return;
  const [next] = nextRuns(job.settings.schedule, now, 1, jitterOf(job));
  if (!(await s.store.jobs.takeDue(job.id, dueAt, next ?? null))) return;
  if (now - dueAt > MISSED_MS && job.settings.missed === 'skip') return;
  try {
    const run = await startRun(s, job, { reason: 'schedule', requestedBy: 'service' });
    if (!run && !(await isSkipping(s, job)))
      await recordUnstarted(s, job, {
        state: 'skipped',
        problem: { code: 'RUN_OVERLAPS', says: 'The run before it is not finished.', remedy: 'Run the job less often, or let each run collect less.' },
      });
  } catch (error) {
    if (!(error instanceof Fault) || error.code === 'DATABASE_UNAVAILABLE') throw error;
    const run = await recordUnstarted(s, job, { state: 'failed', problem: { code: error.code, says: error.message, remedy: error.remedy } });
    report(s, job, run, { kind: 'run_failed', says: error.message });
  }
}

/** One entry is enough for all that are skipped in a row: they would push good runs out of the list. */
async function isSkipping(s: JobParts, job: JobRow): Promise<boolean> {
  const [last] = await s.store.runs.ofJob(job.id, 1);
  return last?.state === 'skipped';
}

const report = (s: JobParts, job: Pick<JobRow, 'name'>, run: Pick<RunRow, 'number' | 'id'>, { kind, says }: { kind: string; says: string }): void =>
  s.history.add({ actor: 'service', kind, subject: `job:${job.name}`, says: `Run ${run.number}: ${says}`, data: { run: run.id } });

async function workOn(
  s: JobParts,
  { lease, note }: { lease: RunLease; note(more: { job: string; connection: string; number: number }): void },
  stop: AbortSignal,
): Promise<void> {
  const row = await s.store.runs.byId(lease.runId);
  const connection = row && (await s.store.connections.byId(row.connectionId));
  const job = row?.jobId ? await s.store.jobs.byId(row.jobId) : null;
  if (!row) return;
  if (!connection)
    return void (await fail(s, { row, job, lease }, row.checkpoint, {
      code: 'NOT_FOUND',
      says: 'The connection was removed.',
      remedy: 'Give the job another connection.',
      diagnosis: null,
    }));
  note({ job: job?.name ?? '', connection: connection.name, number: row.number });
  const { leaseMs } = s.settings.limits;
  // A slow page must not cost the lease; a frozen process loses it, and its save is refused.
  const beating = setInterval(() => void s.store.runs.keep(lease, leaseMs).catch(() => undefined), Math.max(250, leaseMs / 3)); // refused at the save
  try {
    const hashKey = job
      ? Buffer.from((await s.sealer.open({ table: 'jobs', row: job.id, column: 'hash_key_sealed' }, job.hashKeySealed)).reveal(), 'base64url')
      : s.ports.random.bytes(32);
    const files = row.checkpoint.phase === 'writing' ? null : await writeAhead(s, { row, lease, leaseMs });
    const worked =
      row.checkpoint.phase === 'writing'
        ? ({ is: 'collected', checkpoint: row.checkpoint } as const)
        : await collect(s, { row, connection: connection.name, lease, leaseMs, hashKey, stop, files });
    if (worked.is === 'failed') await fail(s, { row, job, lease }, worked.checkpoint, worked.problem);
    else if (worked.is === 'collected') await write(s, { row: { ...row, checkpoint: { ...worked.checkpoint, phase: 'writing' } }, job, lease, leaseMs, files });
  } catch (error) {
    // Without the database nothing can be written: the lease runs out, and the run continues from its last page.
    if (error instanceof Fault && error.code === 'DATABASE_UNAVAILABLE') throw error;
    s.ports.log.error({ event: 'jobs.run_broke', cause: error instanceof Error ? error.message : 'unknown' }, 'a run broke');
    const checkpoint = (await s.store.runs.byId(row.id))?.checkpoint ?? row.checkpoint;
    if (checkpoint.tries >= 3)
      return void (await fail(s, { row, job, lease }, checkpoint, {
        code: 'INTERNAL',
        says: 'Something went wrong inside the service.',
        remedy: 'Look for the run in the log.',
        diagnosis: null,
      }));
    await s.store.runs.wait(lease, {
      checkpoint: { ...checkpoint, tries: checkpoint.tries + 1 },
      waits: 'It broke on our side, and is retried.',
      untilMs: BROKEN_WAIT_MS,
      state: 'waiting',
    });
  } finally {
    clearInterval(beating);
  }
}

interface Working {
  row: RunRow;
  job: JobRow | null;
  lease: RunLease;
}

async function fail(
  s: JobParts,
  { row, job, lease }: Working,
  checkpoint: Checkpoint,
  problem: NonNullable<NonNullable<RunRow['outcome']>['problem']>,
): Promise<void> {
  const isOurs = await s.store.runs.finish(lease, {
    state: 'failed',
    checkpoint: resetRetries(checkpoint, s.ports.clock.now()),
    outcome: { completeness: null, problem },
  });
  if (!isOurs) return;
  await s.store.runs.discardFiles(row.id); // what was written of it so far
  if (job) report(s, job, row, { kind: 'run_failed', says: problem.says });
}

/** The verdict, then the files; the new result is served and delivered only when it is whole. */
async function write(s: JobParts, { row, job, lease, leaseMs, files }: Working & { leaseMs: number; files: WritingAhead | null }): Promise<void> {
  const { checkpoint, plan } = row;
  if (!(await s.store.runs.savePage(lease, checkpoint, [], leaseMs))) return;
  const completeness = judge({
    ended: checkpoint.ended ?? 'no_next',
    records: checkpoint.records,
    doubles: checkpoint.doubles,
    withoutId: checkpoint.withoutId,
    idKnown: plan.paging.id !== undefined,
    totals: checkpoint.totals,
    pages: checkpoint.pages,
    slices: checkpoint.slicesDone,
    cappedSlices: checkpoint.cappedSlices,
    lastRecords: plan.lastRecords,
    expectedLeast: plan.expectedLeast,
    deviationMost: plan.deviationMost,
  });
  const isGood = completeness.verdict !== 'incomplete';
  const ahead = await files?.finish();
  if (!isGood && files) await s.store.runs.discardFiles(row.id);
  const written = isGood ? (ahead ?? (await writeFiles(s.store.runs, row, lease, leaseMs))) : checkpoint.kept;
  if (written === null) return;
  const now = s.ports.clock.now();
  const served = isGood &&
    job && {
      jobId: job.id,
      deliveries: plan.deliver.map((settings, target) => ({
        runId: row.id,
        target,
        settings,
        state: 'waiting' as const,
        tries: 0,
        says: 'It is due.',
        nextAt: now,
      })),
    };
  if (!(await s.store.runs.finish(lease, { state: 'done', checkpoint, outcome: { completeness, problem: null, written }, served: served || null })) || !job)
    return;
  const against = completeness.evidence.find((one) => one.side === 'against')?.says ?? '';
  if (!isGood) report(s, job, row, { kind: 'run_incomplete', says: against });
  if (checkpoint.records === 0 && plan.full) report(s, job, row, { kind: 'run_empty', says: 'It found no records.' });
  if (completeness.deviates)
    report(s, job, row, { kind: 'run_deviates', says: `${checkpoint.records} records; the last complete run had ${plan.lastRecords}.` });
}

async function tidy(s: JobParts): Promise<void> {
  await s.store.runs.deleteCollections(COLLECTION_KEPT_MS);
  for (const job of await s.store.jobs.list()) {
    const latest = job.latestRunId === null ? null : await s.store.runs.byId(job.latestRunId);
    const needed = latest ? [latest.id, ...latest.plan.base] : [];
    await s.store.runs.deleteOld(job.id, { runs: job.settings.keep_runs, days: job.settings.keep_days, needed });
  }
}

import type { Collect, JobSettings } from '../../api/jobs.ts';
import { Fault } from '../../core/fault.ts';
import { type Mark, sinceValue } from '../../core/jobs/since.ts';
import { startWalk } from '../../core/paging/walk.ts';
import { keepPaging } from '../connections/index.ts';
import { recordId } from '../ports.ts';
import type { JobRow } from '../store/jobs.ts';
import type { Checkpoint, RunPlan } from '../store/run-documents.ts';
import type { RunRow } from '../store/runs.ts';
import type { JobParts } from './parts.ts';
import { pagingOf, rangeOf, resolveCall } from './resolve.ts';

const newCheckpoint = (plan: Pick<RunPlan, 'paging' | 'range'>, now: number): Checkpoint => ({
  phase: 'collecting',
  walk: startWalk(plan.paging),
  slice: plan.range && { range: plan.range, firstSequence: 1, before: { records: 0, kept: 0, doubles: 0, withoutId: 0 } },
  slicesLeft: [],
  slicesDone: 0,
  cappedSlices: 0,
  ended: null,
  sequence: 0,
  records: 0,
  kept: 0,
  doubles: 0,
  withoutId: 0,
  pages: 0,
  calls: 0,
  bytes: 0,
  totals: null,
  columns: [],
  highest: null,
  beganAt: now,
  tries: 0,
  waitedMs: 0,
  waitingSince: null,
});

type Reason = RunRow['reason'];

/** Begins a collection by hand. @throws {Fault} as what it names is wrong */
export async function startCollection(s: JobParts, connection: string, settings: Collect, requestedBy: string): Promise<RunRow> {
  const now = s.ports.clock.now();
  const resolved = await resolveCall(s, connection, settings);
  if (settings.personal.some((one) => one.rule === 'hash'))
    throw new Fault('INPUT_INVALID', { places: [{ path: 'personal', why: 'A keyed hash needs a job, which keeps the key. Mask or drop the field.' }] });
  const paging = pagingOf(settings, resolved);
  const plan: RunPlan = {
    call: resolved.call,
    paging,
    range: rangeOf(settings, paging, now),
    layout: settings.layout,
    formats: [],
    personal: settings.personal,
    limits: settings.limits,
    since: null,
    full: true,
    base: [],
    expectedLeast: settings.expected_least,
    lastRecords: null,
    deviationMost: null,
    deliver: [],
  };
  const row = newRun(s, { jobId: null, connectionId: resolved.connectionId, number: 1, reason: 'test_call', requestedBy, plan });
  await s.store.runs.add(row);
  if (settings.saved !== undefined && settings.paging)
    await keepPaging(s, { connectionId: resolved.connectionId, connection, called: settings.saved, requestedBy }, settings.paging);
  return row;
}

const newRun = (s: JobParts, of: Pick<RunRow, 'jobId' | 'connectionId' | 'number' | 'reason' | 'requestedBy' | 'plan'>): RunRow => {
  const now = s.ports.clock.now();
  return {
    ...of,
    id: recordId(s.ports),
    planSealed: null,
    state: 'running',
    checkpoint: newCheckpoint(of.plan, now),
    outcome: null,
    waits: null,
    startedAt: now,
    endedAt: null,
    nextAt: now,
  };
};

/** Begins a run of a job. Null: one is not finished yet. @throws {Fault} as what the job names is wrong by now */
export async function startRun(s: JobParts, job: JobRow, { reason, requestedBy }: { reason: Reason; requestedBy: string }): Promise<RunRow | null> {
  if (await s.store.runs.unfinishedOf(job.id)) return null;
  const connection = await s.store.connections.byId(job.connectionId);
  const plan = await runPlan(s, job, connection?.name ?? '');
  const number = await s.store.jobs.nextNumber(job.id);
  const row = newRun(s, { jobId: job.id, connectionId: job.connectionId, number, reason, requestedBy, plan });
  // Without new records the highest value stays what it was.
  const latest = plan.full || job.latestRunId === null ? null : await s.store.runs.byId(job.latestRunId);
  const started = { ...row, checkpoint: { ...row.checkpoint, highest: latest?.checkpoint.highest ?? null } };
  await s.store.runs.add(started);
  return started;
}

/** A run that could not begin, so that people see why. */
export async function recordUnstarted(
  s: JobParts,
  job: JobRow,
  { state, problem }: { state: 'failed' | 'skipped'; problem: { code: string; says: string; remedy: string } },
): Promise<RunRow> {
  const number = await s.store.jobs.nextNumber(job.id);
  const [last] = await s.store.runs.ofJob(job.id, 1);
  const plan: RunPlan = last?.plan ?? emptyPlan(job.settings);
  const row = newRun(s, { jobId: job.id, connectionId: job.connectionId, number, reason: 'schedule', requestedBy: 'service', plan });
  const ended: RunRow = { ...row, state, endedAt: row.startedAt, outcome: { completeness: null, problem: { ...problem, diagnosis: null } } };
  await s.store.runs.add(ended);
  return ended;
}

const emptyPlan = (settings: JobSettings): RunPlan => ({
  call: settings.call ?? { method: 'GET', path: '/', query: [], headers: [], body: null },
  paging: { style: 'none' },
  range: null,
  layout: settings.layout,
  formats: settings.formats,
  personal: settings.personal,
  limits: settings.limits,
  since: null,
  full: true,
  base: [],
  expectedLeast: null,
  lastRecords: null,
  deviationMost: null,
  deliver: [],
});

const MAX_CHAIN = 5_000;

async function runPlan(s: JobParts, job: JobRow, connection: string): Promise<RunPlan> {
  const { settings } = job;
  const now = s.ports.clock.now();
  const resolved = await resolveCall(s, connection, settings);
  const paging = pagingOf(settings, resolved);
  const latest = job.latestRunId === null ? null : await s.store.runs.byId(job.latestRunId);
  const { since } = settings;
  const isFull = since === null || latest === null || (settings.full_every !== null && job.runsMade % settings.full_every === 0);
  const mark: Mark | null = isFull || latest === null ? null : { startedAt: latest.checkpoint.beganAt, highest: latest.checkpoint.highest };
  const value = since === null ? null : sinceValue(since, mark);
  const call = value === null ? resolved.call : withQuery(resolved.call, value.parameter, value.value);
  const adds = settings.result === 'append' && !isFull && latest !== null;
  const base = adds ? [...latest.plan.base, latest.id].slice(-MAX_CHAIN) : [];
  const lastFull = latest?.plan.full ? latest : null;
  return {
    call,
    paging,
    range: rangeOf(settings, paging, now),
    layout: settings.layout,
    formats: settings.formats,
    personal: settings.personal,
    limits: settings.limits,
    since,
    full: isFull,
    base,
    expectedLeast: isFull ? settings.expected_least : null,
    lastRecords: isFull && lastFull ? lastFull.checkpoint.records : null,
    deviationMost: settings.deviates_percent,
    deliver: settings.deliver,
  };
}

const withQuery = (call: RunPlan['call'], name: string, value: string): RunPlan['call'] => ({
  ...call,
  query: [...call.query.filter((one) => one.name !== name), { name, value }],
});

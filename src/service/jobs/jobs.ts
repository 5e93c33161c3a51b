import type { Job, JobSettings, OwnJob, Preview, Run } from '../../api/jobs.ts';
import { changesOf } from '../../core/activity/changes.ts';
import { mayFetch, relayPermission } from '../../core/callers/permissions.ts';
import { maskedSettings } from '../../core/calls/secret-values.ts';
import { MASK, unmasked, withStoredValues } from '../../core/calls/stored-values.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { nextRuns, scheduleInWords, scheduleProblem } from '../../core/jobs/schedule.ts';
import { type Column, rowOf } from '../../core/output/format.ts';
import { Secret } from '../../core/secret.ts';
import { findKnown, namedCall } from '../connections/index.ts';
import { type Asked, type Command, limitsOf } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { JobRow } from '../store/jobs.ts';
import type { RunRow } from '../store/runs.ts';
import type { KnownCaller } from '../tokens/index.ts';
import { fileTaken } from './file-owners.ts';
import { jitterOf } from './jitter.ts';
import type { JobParts } from './parts.ts';
import { pagingOf, rangeOf, resolveCall } from './resolve.ts';
import { columnsOf, recordsOf } from './results.ts';
import { startCollection, startRun } from './starting.ts';
import { dataUrl, jobViews, latestOf, runViews } from './views.ts';

const MAX_JOBS = 2_000;
const HASH_KEY_BYTES = 32;

/** @throws {Fault} NOT_FOUND */
async function jobNamed(s: Pick<JobParts, 'store'>, name: string): Promise<JobRow> {
  const row = await s.store.jobs.byName(name);
  if (!row) throw new Fault('NOT_FOUND', { detail: `Job "${name.slice(0, 63)}" not found.` });
  return row;
}

/** @throws {Fault} INPUT_INVALID, with each place that is wrong */
async function checked(s: JobParts, job: Pick<JobRow, 'id' | 'name'>, connection: string, settings: JobSettings): Promise<{ connectionId: string }> {
  const now = s.ports.clock.now();
  const problem = scheduleProblem(settings.schedule, now);
  if (problem !== null) throw new Fault('INPUT_INVALID', { places: [{ path: 'schedule.expression', why: problem }] });
  const resolved = await resolveCall(s, connection, settings);
  const paging = pagingOf(settings, resolved);
  rangeOf(settings, paging, now);
  const places: { path: string; why: string }[] = [];
  const needsId = settings.since?.kind === 'ids' || (settings.since !== null && settings.result === 'append');
  if (needsId && paging.id === undefined) places.push({ path: 'paging.id', why: 'New records are recognized by their ID: name the field.' });
  if (settings.since?.kind === 'ids' && settings.result !== 'append')
    places.push({ path: 'result', why: 'With ids already seen, a run adds to the result: choose append.' });
  if (settings.since === null && settings.result === 'append')
    places.push({ path: 'since', why: 'A result that is appended to needs a way to ask for what is new.' });
  if (settings.deliver.some((one) => one.kind === 'file') && s.settings.outputFolder === null)
    places.push({ path: 'deliver', why: 'Files need an output folder: set RUSTY_KETTLE_OUTPUT_FOLDER.' });
  if (await fileTaken(s, job, settings.deliver, 'other'))
    places.push({ path: 'deliver', why: 'Another job delivers to a file of this name. Choose another name.' });
  if (places.length > 0) throw new Fault('INPUT_INVALID', { places });
  return { connectionId: resolved.connectionId };
}

const settingsOf = <T extends JobSettings & { signing_secret?: string | undefined }>(body: T, ...left: (keyof T)[]): JobSettings => {
  const { signing_secret: _, ...rest } = body;
  return Object.fromEntries(Object.entries(rest).filter(([name]) => !left.includes(name as keyof T))) as JobSettings;
};

const seal = (s: JobParts, jobId: string, column: string, value: string): Buffer => s.sealer.seal({ table: 'jobs', row: jobId, column }, new Secret(value));
const nextOf = (s: JobParts, name: string, settings: JobSettings): number | null =>
  nextRuns(settings.schedule, s.ports.clock.now(), 1, jitterOf({ name, settings }))[0] ?? null;

export async function listJobs(s: JobParts, { actor }: Asked<'listJobs'>): Promise<{ items: Job[] }> {
  const items = await jobViews(s, await s.store.jobs.list());
  const limits = limitsOf(actor.operator);
  if (limits === undefined) return { items };
  const within = await s.store.limits.connectionsWithin([...new Set(items.map((one) => one.connection))], limits);
  return { items: items.filter((one) => within.has(one.connection)) };
}

export async function showJob(s: JobParts, name: string): Promise<Job> {
  const [view] = await jobViews(s, [await jobNamed(s, name)]);
  if (!view) throw new Fault('NOT_FOUND');
  return view;
}

/** Settings as they are stored: each `(secret)` is what the job, or the saved call that its call came from, has there. */
async function wholeSettings(s: JobParts, connectionId: string, sent: JobSettings, present: JobSettings | null): Promise<JobSettings> {
  const known = present && { stored: present, masked: maskedSettings(present, MASK) };
  const settings = known ? (withStoredValues(sent, known.stored, known.masked) as JobSettings) : sent;
  const { call, values } = settings.call || settings.saved !== undefined ? await namedCall(s, connectionId, settings) : settings;
  return unmasked({ ...settings, values, ...(settings.call && call ? { call } : {}) }, null);
}

/** Shows values that may be secrets. Activity records who looked. @throws {Fault} NOT_FOUND */
export async function showJobValues(s: JobParts, { params, actor }: Command<'showJobValues'>): Promise<JobSettings> {
  const { name, settings } = await jobNamed(s, params.job);
  s.history.add({ actor: actor.operator.name, kind: 'values_shown', subject: `job:${name}`, says: 'Looked at the secret values of the settings.' });
  return settings;
}

export async function addJob(s: JobParts, { body, actor }: Command<'addJob'>): Promise<void> {
  const settings = await wholeSettings(s, (await findKnown(s, body.connection)).id, settingsOf(body, 'name', 'connection'), null);
  const id = recordId(s.ports);
  const { connectionId } = await checked(s, { id, name: body.name }, body.connection, settings);
  if ((await s.store.jobs.list()).length >= MAX_JOBS)
    throw new Fault('INPUT_INVALID', { detail: `At most ${MAX_JOBS} jobs are kept.`, remedy: 'Remove jobs that nobody needs.' });
  await s.store.jobs.add({
    id,
    name: body.name,
    connectionId,
    settings,
    settingsSealed: null,
    hashKeySealed: seal(s, id, 'hash_key_sealed', base64url(s.ports.random.bytes(HASH_KEY_BYTES))),
    signingSecretSealed: body.signing_secret === undefined ? null : seal(s, id, 'signing_secret_sealed', body.signing_secret),
    enabled: settings.enabled,
    revision: 1,
    nextRunAt: nextOf(s, body.name, settings),
    runsMade: 0,
    latestRunId: null,
    createdBy: actor.operator.name,
    createdAt: s.ports.clock.now(),
  });
  s.history.add({ actor: actor.operator.name, kind: 'job_added', subject: `job:${body.name}`, says: `Added the job: ${scheduleInWords(settings.schedule)}.` });
}

/** In the activity log an address is its host: the rest of it may be a secret of the receiver. */
const logged = (settings: JobSettings) => ({
  ...settings,
  deliver: settings.deliver.map((target) => (target.kind === 'post' ? { ...target, url: new URL(target.url).host } : target)),
});

/** @throws {Fault} REVISION_CONFLICT where two operators save the same job */
export async function changeJob(s: JobParts, { params, body, actor }: Command<'changeJob'>): Promise<void> {
  const row = await jobNamed(s, params.job);
  const settings = await wholeSettings(s, row.connectionId, settingsOf(body, 'revision'), row.settings);
  const connection = await s.store.connections.byId(row.connectionId);
  await checked(s, row, connection?.name ?? '', settings);
  const isChanged = await s.store.jobs.change(row.id, body.revision, {
    settings,
    enabled: settings.enabled,
    nextRunAt: nextOf(s, row.name, settings),
    ...(body.signing_secret === undefined ? {} : { signingSecretSealed: seal(s, row.id, 'signing_secret_sealed', body.signing_secret) }),
  });
  if (!isChanged) throw new Fault('REVISION_CONFLICT');
  s.history.add({
    actor: actor.operator.name,
    kind: 'job_changed',
    subject: `job:${row.name}`,
    says: `Changed the job: ${scheduleInWords(settings.schedule)}.`,
    data: { changes: changesOf(logged(row.settings), logged(settings)) },
  });
}

export async function removeJob(s: JobParts, { params, actor }: Command<'removeJob'>): Promise<{ done: true }> {
  const row = await jobNamed(s, params.job);
  await s.store.jobs.remove(row.id);
  s.history.add({ actor: actor.operator.name, kind: 'job_removed', subject: `job:${row.name}`, says: 'Removed the job with its runs and results.' });
  return { done: true };
}

async function viewOf(s: JobParts, row: RunRow, job: JobRow | null): Promise<Run> {
  const [view] = await runViews(s, [row], job);
  if (!view) throw new Fault('NOT_FOUND');
  return view;
}

/** @throws {Fault} RUN_OVERLAPS where a run is not finished */
export async function runJob(s: JobParts, { params, actor }: Command<'runJob'>): Promise<Run> {
  const job = await jobNamed(s, params.job);
  const run = await startRun(s, job, { reason: 'operator', requestedBy: actor.operator.name });
  if (!run) throw new Fault('RUN_OVERLAPS');
  s.jobBell.ring();
  return viewOf(s, run, job);
}

export async function collectNow(s: JobParts, { params, body, actor }: Command<'collect'>): Promise<Run> {
  const run = await startCollection(s, params.connection, body, actor.operator.name);
  s.jobBell.ring();
  s.history.add({
    actor: actor.operator.name,
    kind: 'called',
    subject: `connection:${params.connection}`,
    says: `Collects all pages of ${run.plan.call.method} ${run.plan.call.path.split('?')[0]}.`,
  });
  return viewOf(s, run, null);
}

export async function listRuns(s: JobParts, { params, query }: Asked<'listRuns'>): Promise<{ items: Run[] }> {
  const job = await jobNamed(s, params.job);
  return { items: await runViews(s, await s.store.runs.ofJob(job.id, query.limit, query.before), job) };
}

/** @throws {Fault} NOT_FOUND */
async function found(s: JobParts, runId: string): Promise<{ row: RunRow; job: JobRow | null }> {
  const row = /^[0-9a-f-]{36}$/.test(runId) ? await s.store.runs.byId(runId) : null;
  if (!row) throw new Fault('NOT_FOUND', { detail: 'No run has this ID. Runs are kept as long as their job states; collections by hand for a day.' });
  return { row, job: row.jobId === null ? null : await s.store.jobs.byId(row.jobId) };
}

export async function showRun(s: JobParts, runId: string): Promise<Run> {
  const { row, job } = await found(s, runId);
  return viewOf(s, row, job);
}

export async function cancelRun(s: JobParts, { params, actor }: Command<'cancelRun'>): Promise<Run> {
  const { row, job } = await found(s, params.run);
  if (!(await s.store.runs.cancel(row.id))) throw new Fault('RUN_ENDED');
  if (job) s.history.add({ actor: actor.operator.name, kind: 'run_cancelled', subject: `job:${job.name}`, says: `Cancelled run ${row.number}.` });
  return showRun(s, row.id);
}

/** A failed run goes on from its last page: what it collected was kept. @throws {Fault} RUN_ENDED, RUN_OVERLAPS */
export async function resumeRun(s: JobParts, { params, actor }: Command<'resumeRun'>): Promise<Run> {
  const { row, job } = await found(s, params.run);
  const other = job && (await s.store.runs.unfinishedOf(job.id));
  if (other && other.id !== row.id) throw new Fault('RUN_OVERLAPS');
  if (!(await s.store.runs.resume(row.id))) throw new Fault('RUN_ENDED');
  s.jobBell.ring();
  if (job) s.history.add({ actor: actor.operator.name, kind: 'run_resumed', subject: `job:${job.name}`, says: `Resumed run ${row.number}.` });
  return showRun(s, row.id);
}

/** The first records, as a table in the run's layout. */
export async function previewRun(s: JobParts, { params, query }: Asked<'previewRun'>): Promise<Preview> {
  const { row } = await found(s, params.run);
  const { layout } = row.plan;
  const columns = layout.columns.length > 0 ? layout.columns : (await columnsOf(s.store.runs, row)).map((field) => ({ field }));
  const rows: string[][] = [];
  for await (const records of recordsOf(s.store.runs, row)) {
    for (const record of records.slice(0, query.limit - rows.length)) rows.push(rowOf(record, columns, false).map((cell) => cell.slice(0, 500)));
    if (rows.length >= query.limit) break;
  }
  return { columns: columns.map((one: Column) => one.title ?? one.field), rows, records: row.checkpoint.kept };
}

/** Whether a caller may have what a run collected: it may fetch the token, or relay the same call. */
function mayHave(caller: KnownCaller, connection: string | undefined, run: RunRow | null): boolean {
  const own = connection === undefined ? undefined : caller.connections.get(connection);
  if (!own) return false;
  if (run === null || mayFetch(own.permissions)) return true;
  const { method, path } = run.plan.call;
  const below = URL.canParse(path) ? new URL(path).pathname : (path.split('?', 1)[0] ?? '');
  return relayPermission(own.permissions, method, below) !== null;
}

/** Jobs on the connections of a caller, for the caller itself. */
export async function listOwnJobs(s: JobParts, caller: KnownCaller): Promise<{ items: OwnJob[] }> {
  const mine = new Map([...caller.connections.values()].map((one) => [one.id, one.name]));
  const items: OwnJob[] = [];
  for (const row of await s.store.jobs.list()) {
    const connection = mine.get(row.connectionId);
    if (connection === undefined) continue;
    const served = row.latestRunId === null ? null : await s.store.runs.byId(row.latestRunId);
    if (!mayHave(caller, connection, served)) continue;
    items.push({
      name: row.name,
      title: row.settings.title,
      connection,
      schedule_says: scheduleInWords(row.settings.schedule),
      latest: served && latestOf(served),
      urls: { csv: dataUrl(s, row.name, 'csv'), ndjson: dataUrl(s, row.name, 'ndjson'), json: dataUrl(s, row.name, 'json') },
    });
  }
  return { items };
}

/** The result that is served: of a job on a connection that the caller may use. @throws {Fault} NOT_PERMITTED, NO_RESULT */
export async function servedResult(s: JobParts, caller: KnownCaller | null, name: string): Promise<{ row: RunRow; job: JobRow }> {
  const job = await s.store.jobs.byName(name);
  const connection = job && (await s.store.connections.byId(job.connectionId));
  // To a caller, a job of others and an unknown one look alike.
  if (caller && (!connection || caller.connections.get(connection.name)?.id !== connection.id))
    throw new Fault('NOT_PERMITTED', { detail: `${caller.name} has no job called ${name.slice(0, 63)}.` });
  if (!job) throw new Fault('NOT_FOUND', { detail: `Job "${name.slice(0, 63)}" not found.` });
  const row = job.latestRunId === null ? null : await s.store.runs.byId(job.latestRunId);
  if (!row) throw new Fault('NO_RESULT', { detail: `No run of ${name} is complete yet.` });
  if (caller && !mayHave(caller, connection?.name, row)) throw new Fault('NOT_PERMITTED', { detail: `${caller.name} may not make the call of ${name}.` });
  return { row, job };
}

/** A run's result, for an operator. @throws {Fault} NOT_FOUND, NO_RESULT */
export async function runResult(s: JobParts, runId: string): Promise<{ row: RunRow; job: JobRow | null }> {
  const { row, job } = await found(s, runId);
  if (row.state !== 'done') throw new Fault('NO_RESULT', { detail: `The run is ${row.state}.` });
  return { row, job };
}

import type { Diagnosis } from '../../api/diagnosis.ts';
import type { RunProblem } from '../../api/jobs.ts';
import { Fault } from '../../core/fault.ts';
import { afterFailure, type PageFailure } from '../../core/jobs/failure.ts';
import { ownMinutes, resumeClock } from '../../core/jobs/own-time.ts';
import { maxFieldValue } from '../../core/jobs/since.ts';
import { columnsIn } from '../../core/output/format.ts';
import { withoutPersonal } from '../../core/output/record.ts';
import { type Page, readPage } from '../../core/paging/page.ts';
import { rawItems } from '../../core/paging/raw-items.ts';
import { callForPage } from '../../core/paging/request.ts';
import { halve } from '../../core/paging/slices.ts';
import { type Ended, isGuard, linkResolver, startWalk, takePage } from '../../core/paging/walk.ts';
import { addressOf, callableNow } from '../connections/index.ts';
import { type ApiAddress, type Callable, type Fetched, fetchPage } from '../grants/index.ts';
import type { Checkpoint } from '../store/run-documents.ts';
import type { RunLease, RunRow, StagedPage } from '../store/runs.ts';
import { idsKept, idsOf, type Sorting, sort } from './dedupe.ts';
import { errorStatus, isActionNeeded, problem, problemOf } from './page-failures.ts';
import type { JobParts } from './parts.ts';
import { stage } from './staging.ts';
import type { WritingAhead } from './writing-ahead.ts';

const PAGE_DEADLINE_MS = 120_000;
const PAGE_BYTES = 32_000_000;
/** Shorter waits are waited here; for longer ones the lease is given back. */
const WAIT_HERE_MS = 2_000;
const CALLABLE_MS = 1_000;
const MAX_COLUMNS = 1_000;
/** Records of fewer characters are kept as one row. */
const ONE_ROW = 2_000_000;

/** What the work on a run came to. `left`: someone else goes on, or it waits, or it was cancelled. */
export type Worked = { is: 'collected'; checkpoint: Checkpoint } | { is: 'left' } | { is: 'failed'; checkpoint: Checkpoint; problem: RunProblem };

interface Collector extends Sorting {
  s: JobParts;
  connection: string;
  /** The connection as it was a moment ago: a pause or a revocation is heard of within a second. */
  callable: { at: number; x: Callable } | null;
  /** The page that is on its way while the one before it is saved. */
  ahead: { key: string; coming: Promise<Coming> } | null;
  row: RunRow;
  lease: RunLease;
  leaseMs: number;
  hashKey: Uint8Array;
  stop: AbortSignal;
  /** Files that are written while pages come; null: they are written afterwards. */
  files: WritingAhead | null;
  /** The last page on its way into the database, while the next one is read; false: the run is someone else's. */
  saving: Promise<boolean>;
}

/** Collects page after page from where the checkpoint stands, and saves after each, until the list ends or something stops it. */
export async function collect(s: JobParts, work: Pick<Collector, 'row' | 'connection' | 'lease' | 'leaseMs' | 'hashKey' | 'stop' | 'files'>): Promise<Worked> {
  const { row } = work;
  const c: Collector = { ...work, s, callable: null, ahead: null, saving: Promise.resolve(true), ...(await idsOf(s, row)) };
  const worked = await collectPages(c);
  return (await c.saving) ? worked : { is: 'left' };
}

async function collectPages(c: Collector): Promise<Worked> {
  const { s, row, lease, stop } = c;
  let point = resumeClock(row.checkpoint, s.ports.clock.now());
  while (point.ended === null) {
    if (stop.aborted) {
      if (!(await c.saving)) return { is: 'left' };
      await s.store.runs.wait(lease, { checkpoint: point, waits: '', untilMs: 0, state: 'running' });
      return { is: 'left' };
    }
    if (ownMinutes(point, s.ports.clock.now()) > row.plan.limits.minutes)
      return failed(
        point,
        'RUN_TIME_LIMIT',
        `The run took longer than ${row.plan.limits.minutes} minutes.`,
        'Raise the limit of minutes, or collect less at a time.',
      );
    const turned = await onePage(c, point);
    if ('left' in turned) return { is: 'left' };
    if ('problem' in turned) return { is: 'failed', checkpoint: turned.checkpoint, problem: turned.problem };
    point = turned.checkpoint;
  }
  return { is: 'collected', checkpoint: point };
}

type Turned = { checkpoint: Checkpoint } | { left: true } | { checkpoint: Checkpoint; problem: RunProblem };

/** A page that came, with the way it was asked for; or what kept it from coming. */
type Coming = { callable: Callable; address: ApiAddress; fetched: Fetched } | { error: unknown };

const keyOf = (point: Pick<Checkpoint, 'walk' | 'slice'>): string => JSON.stringify([point.walk.position, point.slice?.range ?? null]);

async function come(c: Collector, point: Pick<Checkpoint, 'walk' | 'slice'>): Promise<Coming> {
  const { s, row } = c;
  try {
    const now = s.ports.clock.now();
    if (c.callable === null || now - c.callable.at > CALLABLE_MS || now < c.callable.at) c.callable = { at: now, x: await callableNow(s, c.connection) };
    const callable = c.callable.x;
    const call = callForPage(row.plan.paging, row.plan.call, point.walk.position, point.slice?.range ?? null);
    const address = addressOf(callable, call);
    const what = { method: call.method, headers: call.headers, ...(call.body === null ? {} : { body: call.body }) };
    const fetched = await fetchPage(
      s,
      { grant: callable.grant, address, what, about: callable.about },
      { deadlineMs: PAGE_DEADLINE_MS, limitBytes: PAGE_BYTES },
    );
    return { callable, address, fetched };
  } catch (error) {
    c.callable = null;
    return { error };
  }
}

/** Asks for the page after this one: only reads are made ahead, and never while something waits. */
function ask(c: Collector, next: Pick<Checkpoint, 'walk' | 'slice'>): void {
  if (c.row.plan.call.method !== 'GET' || c.stop.aborted) return;
  c.ahead = { key: keyOf(next), coming: come(c, next) };
}

async function onePage(c: Collector, point: Checkpoint): Promise<Turned> {
  const { row, ahead } = c;
  c.ahead = null;
  const came = await (ahead?.key === keyOf(point) ? ahead.coming : come(c, point));
  if ('error' in came) return afterFault(c, point, came.error);
  const { callable, address, fetched } = came;
  const counted: Checkpoint = { ...point, calls: point.calls + (fetched.kind === 'quota' ? 0 : 1) };
  if (fetched.kind === 'quota') return wait(c, counted, { kind: 'quota', waitMs: fetched.waitMs }, null);
  if (fetched.kind === 'none') return wait(c, counted, { kind: 'no_answer', reason: fetched.reason }, fetched.diagnosis);
  if (!fetched.isGood) return wait(c, counted, { kind: 'status', status: errorStatus(fetched), retryAfterMs: fetched.retryAfterMs }, fetched.diagnosis);
  if (fetched.cut)
    return {
      checkpoint: counted,
      problem: problem('PAGE_TOO_LARGE', `A page is larger than ${PAGE_BYTES / 1_000_000} MB.`, 'Ask for smaller pages: set the page size.'),
    };
  let document: unknown;
  try {
    document = JSON.parse(fetched.body);
  } catch {
    return wait(c, counted, { kind: 'unreadable' }, null);
  }
  const { headers } = fetched;
  const page = readPage(row.plan.paging, document, (name) => headers[name]);
  if (typeof page === 'string')
    return { checkpoint: counted, problem: problem('NO_LIST', page, 'Check where the records stand: recognize the paging again, or set it by hand.') };
  const raw = rawItems(fetched.body, document, row.plan.paging.items ?? '');
  return take(c, { point: counted, page, raw, bytes: Buffer.byteLength(fetched.body), resolve: resolver(callable, address, fetched.url) });
}

/** Next links: below the API's addresses, and below the one at which its session is open. */
function resolver({ definition }: Callable, address: ApiAddress, sent: string): (link: string) => string | null {
  const bases = definition.apis.map((api) => api.base_url.replace(/\/$/, ''));
  const base = address.api.base_url.replace(/\/$/, '');
  const rest = address.url.slice(base.length);
  const opened = sent.endsWith(rest) ? sent.slice(0, sent.length - rest.length) : base;
  const resolve = linkResolver([...bases, opened], sent);
  return (link) => {
    const url = resolve(link);
    return url !== null && opened !== base && url.startsWith(opened) ? `${base}${url.slice(opened.length)}` : url;
  };
}

/** Takes a page into the run, and saves both together. */
async function take(
  c: Collector,
  { point, page, raw, bytes, resolve }: { point: Checkpoint; page: Page; raw: string | null; bytes: number; resolve: (link: string) => string | null },
): Promise<Turned> {
  const { plan } = c.row;
  const content = raw ?? JSON.stringify(page.records);
  const left = {
    pages: plan.limits.pages - (point.pages - point.walk.pages),
    records: plan.limits.records - (point.records - point.walk.records),
    bytes: plan.limits.megabytes * 1_000_000 - (point.bytes - point.walk.bytes),
  };
  const step = takePage(plan.paging, point.walk, { page, content, bytes, resolve }, left);
  if (step.ended === null) ask(c, { walk: step.walk, slice: point.slice });
  const sorted = step.ended === 'repeated_page' ? { fresh: [], keys: null, doubles: 0, withoutId: 0, known: 0 } : sort(c, page.records);
  const isWhole = sorted.fresh.length === page.records.length && plan.personal.length === 0;
  const kept = isWhole ? page.records : sorted.fresh.map((record) => withoutPersonal(record, plan.personal, c.hashKey));
  const staging = stage(kept, { ids: sorted.keys, firstSequence: point.sequence + 1, content: isWhole ? content : null });
  staging.catch(() => undefined); // thrown where it is awaited
  // Only a page of many megabytes becomes several rows: how many has to be known before the next page.
  const staged = isWhole && content.length < ONE_ROW ? staging : await staging;
  const since = plan.since;
  const after: Checkpoint = {
    ...point,
    walk: step.walk,
    sequence: point.sequence + (Array.isArray(staged) ? staged.length : Math.min(1, kept.length)),
    records: point.records + sorted.fresh.length + sorted.known,
    kept: point.kept + kept.length,
    doubles: point.doubles + sorted.doubles,
    withoutId: point.withoutId + sorted.withoutId,
    pages: point.pages + 1,
    bytes: point.bytes + bytes,
    totals: page.total === null ? point.totals : totalsWith(point.totals, page.total),
    columns: plan.layout.columns.length > 0 ? [] : columnsIn(kept, point.columns).slice(0, MAX_COLUMNS),
    highest:
      since?.kind === 'field'
        ? page.records.reduce<string | null>((highest, record) => maxFieldValue(highest, record, since.field), point.highest)
        : point.highest,
    tries: 0,
  };
  const turned = step.ended === null ? await save(c, after, staged) : await endOfSlice(c, after, staged, step.ended);
  if (c.files && 'checkpoint' in turned) await c.files.page(isWhole ? content : JSON.stringify(kept), kept.length);
  return turned;
}

const totalsWith = (totals: Checkpoint['totals'], total: number): NonNullable<Checkpoint['totals']> => ({
  first: totals?.first ?? total,
  last: total,
  least: Math.min(totals?.least ?? total, total),
  most: Math.max(totals?.most ?? total, total),
});

/** Saves a page with its checkpoint, behind the next one: at most one page is on its way, and pages are saved in their order. */
async function save(c: Collector, checkpoint: Checkpoint, staged: StagedPage[] | Promise<StagedPage[]>): Promise<Turned> {
  if (!(await c.saving)) return { left: true };
  c.saving = Promise.resolve(staged).then((pages) => c.s.store.runs.savePage(c.lease, checkpoint, pages, c.leaseMs));
  c.saving.catch(() => undefined); // thrown where it is awaited
  return { checkpoint };
}

/** The list, or a slice of it, is over: the next slice follows, or the halves of one that met the cap. */
async function endOfSlice(c: Collector, after: Checkpoint, staged: StagedPage[] | Promise<StagedPage[]>, ended: Ended): Promise<Turned> {
  const { slice } = after;
  const { paging } = c.row.plan;
  if (slice === null || paging.slice === undefined) return save(c, { ...after, ended }, staged);
  const metCap = ended === 'cap_reached' || (!isGuard(ended) && paging.cap !== undefined && after.walk.records >= paging.cap);
  if (metCap) {
    const halves = halve(paging.slice, slice.range);
    if (halves) return cutSlice(c, after, halves);
  } else if (isGuard(ended)) return save(c, { ...after, ended }, staged);
  const done = { ...after, slicesDone: after.slicesDone + 1, cappedSlices: after.cappedSlices + (metCap ? 1 : 0) };
  const [next, ...rest] = after.slicesLeft;
  if (!next) return save(c, { ...done, slice: null, ended: isGuard(ended) ? 'no_next' : ended }, staged);
  const { records, kept, doubles, withoutId } = after;
  const begun = { range: next, firstSequence: after.sequence + 1, before: { records, kept, doubles, withoutId } };
  return save(c, { ...done, walk: startWalk(paging), slice: begun, slicesLeft: rest }, staged);
}

/** What a slice brought before it met the cap is discarded: its halves bring it again, whole. */
async function cutSlice(
  c: Collector,
  after: Checkpoint,
  [first, second]: readonly [{ from: number; to: number }, { from: number; to: number }],
): Promise<Turned> {
  const { slice } = after;
  if (slice === null) return { left: true };
  const checkpoint: Checkpoint = {
    ...after,
    ...slice.before,
    walk: startWalk(c.row.plan.paging),
    sequence: slice.firstSequence - 1,
    slice: { ...slice, range: first },
    slicesLeft: [second, ...after.slicesLeft],
  };
  c.files?.abandon();
  if (!(await c.saving)) return { left: true };
  if (!(await c.s.store.runs.discardPages(c.lease, checkpoint, slice.firstSequence, c.leaseMs))) return { left: true };
  if (c.ids) c.ids = await idsKept(c.s, [c.row.id]);
  return { checkpoint };
}

const failed = (checkpoint: Checkpoint, code: string, says: string, remedy: string): Worked => ({
  is: 'failed',
  checkpoint,
  problem: problem(code, says, remedy),
});

async function wait(c: Collector, point: Checkpoint, failure: PageFailure, diagnosis: Diagnosis | null): Promise<Turned> {
  if (!(await c.saving)) return { left: true };
  const turn = afterFailure(failure, point.tries);
  if ('fail' in turn) return { checkpoint: point, problem: problemOf(failure, diagnosis) };
  const after: Checkpoint = {
    ...point,
    tries: turn.isAction ? point.tries : point.tries + 1,
    waitingSince: turn.isAction || turn.wait > WAIT_HERE_MS ? c.s.ports.clock.now() : null,
  };
  if (turn.wait <= WAIT_HERE_MS && !turn.isAction) {
    await c.s.ports.sleep(turn.wait, c.stop); // stopping: the loop gives the run back
    return { checkpoint: after };
  }
  const spread = turn.wait + Math.floor(c.s.ports.random.unit() * Math.min(1_000, turn.wait / 10));
  await c.s.store.runs.wait(c.lease, { checkpoint: after, waits: turn.says, untilMs: spread, state: 'waiting' });
  return { left: true };
}

async function afterFault(c: Collector, point: Checkpoint, error: unknown): Promise<Turned> {
  if (!(error instanceof Fault) || error.code === 'DATABASE_UNAVAILABLE' || error.code === 'INTERNAL') throw error; // the loop knows
  if (isActionNeeded(error)) return wait(c, point, { kind: 'action' }, null);
  if (error.code === 'HOST_NOT_LISTED' || error.code === 'INPUT_INVALID' || error.code === 'NOT_FOUND')
    return { checkpoint: point, problem: problem(error.code, error.message, error.remedy) };
  return wait(c, point, { kind: 'busy', retryAfterMs: error.retryAfterMs ?? null }, null);
}

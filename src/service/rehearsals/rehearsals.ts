import { type Rehearsal, type RehearsalPlan, type RehearsalShown, SCENARIO_WORDS } from '../../api/rehearsals.ts';
import { Fault } from '../../core/fault.ts';
import { reportDocument, summaryOf } from '../../core/rehearsals/report.ts';
import { beyondRequest } from '../context.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Asked, Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { RehearsalRow } from '../store/rehearsals.ts';
import type { RehearsalParts } from './parts.ts';
import { planOf } from './plan.ts';
import { playApart } from './player.ts';

const MAX_LISTED = 50;
const MAX_KEPT = 50;
/** Whoever plays says so at least this often; after twice as long it is taken to be gone. */
const TELL_EVERY_MS = 1_000;
const BUSY_MS = 60_000;
const ABANDONED = 'The replica that played it stopped. Start it again.';

/** Those that this process plays: after a freeze of the machine they go on, however long nobody said so. */
const playedHere = new Set<string>();

const view = (row: RehearsalRow): Rehearsal => ({
  id: row.id,
  scenario: row.scenario,
  title: SCENARIO_WORDS[row.scenario].title,
  providers: row.providers,
  act: row.act,
  state: row.state,
  started_by: row.startedBy,
  started_at: iso(row.startedAt),
  ended_at: isoOrNull(row.endedAt),
  percent: row.percent,
  doing: row.doing,
  summary: row.report ? summaryOf(row.report) : [],
});

/** Starts a rehearsal in a process of its own, one at a time for the installation. @throws {Fault} REHEARSAL_RUNNING, INPUT_INVALID */
export async function startRehearsal(s: RehearsalParts, { body, actor }: Command<'startRehearsal'>): Promise<Rehearsal> {
  await s.store.rehearsals.endAbandoned(ABANDONED, [...playedHere]);
  const plan = await planOf(s, body);
  const now = s.ports.clock.now();
  const row: RehearsalRow = {
    ...{ id: recordId(s.ports), scenario: body.scenario, act: body.act, state: 'running', startedBy: actor.operator.name, startedAt: now },
    ...{ providers: plan.providers.map((one) => one.name), endedAt: null, percent: 0, doing: 'Starting', busyUntil: now + BUSY_MS, report: null },
  };
  if (!(await s.store.rehearsals.begin(row))) throw new Fault('REHEARSAL_RUNNING');
  await s.store.rehearsals.keep(MAX_KEPT);
  const { title } = SCENARIO_WORDS[body.scenario];
  s.history.add({ actor: actor.operator.name, kind: 'rehearsal_started', subject: 'installation', says: `Started the rehearsal \u201c${title}\u201d.` });
  void beyondRequest(() => playOn(s, row, plan));
  return view(row);
}

async function playOn(s: RehearsalParts, { id }: RehearsalRow, plan: RehearsalPlan): Promise<void> {
  const canceled = new AbortController();
  playedHere.add(id);
  let [at, last] = [0, { percent: 0, doing: 'Starting' }];
  const goOn = async (): Promise<void> => {
    at = performance.now();
    if (!(await s.store.rehearsals.goOn(id, { percent: last.percent, doing: last.doing.slice(0, 600) }, BUSY_MS))) canceled.abort();
  };
  const quietly = (): void => void goOn().catch(() => undefined); // the database is away: the next one tells
  const beating = setInterval(quietly, BUSY_MS / 4);
  try {
    const played = await playApart(plan, {
      stop: AbortSignal.any([s.stopping, canceled.signal]),
      tell: (percent, doing) => {
        last = { percent, doing };
        if (performance.now() - at >= TELL_EVERY_MS) quietly();
      },
    });
    const isDone = 'report' in played;
    const [state, doing, report] = isDone ? (['done', '', played.report] as const) : (['failed', played.failed.slice(0, 600), null] as const);
    await s.store.rehearsals.end(id, { state, doing, report, endedAt: s.ports.clock.now() });
  } catch (cause) {
    s.ports.log.warn({ event: 'rehearsal.not_saved', cause: cause instanceof Error ? cause.message : 'unknown' }, 'the outcome of a rehearsal was not saved');
  } finally {
    clearInterval(beating);
    playedHere.delete(id);
  }
}

export async function listRehearsals(s: RehearsalParts): Promise<{ items: Rehearsal[] }> {
  await s.store.rehearsals.endAbandoned(ABANDONED, [...playedHere]);
  return { items: (await s.store.rehearsals.list(MAX_LISTED)).map(view) };
}

export async function showRehearsal(s: RehearsalParts, { params }: Pick<Asked<'showRehearsal'>, 'params'>): Promise<RehearsalShown> {
  await s.store.rehearsals.endAbandoned(ABANDONED, [...playedHere]);
  const row = await s.store.rehearsals.byId(params.rehearsal);
  if (!row) throw new Fault('NOT_FOUND', { detail: 'Rehearsal not found.' });
  return { ...view(row), report: row.report, document: row.report && reportDocument(row.report) };
}

/** Ends a rehearsal that runs, on whichever replica. */
export async function cancelRehearsal(s: RehearsalParts, { params, actor }: Command<'cancelRehearsal'>): Promise<RehearsalShown> {
  const says = `Canceled by ${actor.operator.name}.`;
  await s.store.rehearsals.end(params.rehearsal, { state: 'canceled', doing: says, report: null, endedAt: s.ports.clock.now() });
  return showRehearsal(s, { params });
}

import type { RehearsalPlan } from '../api/rehearsals.ts';
import type { UpcomingItem } from '../api/upcoming.ts';
import { readDefinition } from '../core/provider/read-definition.ts';
import type { RehearsalReport, Span } from '../core/rehearsals/report.ts';
import { ASSUMED_SECRET_MS, type Timeline, timelineOf } from '../core/rehearsals/scenarios.ts';
import { actOn, goWrong, hitBy, STOPPING } from './acts.ts';
import { buildScene, type Scene } from './scene.ts';
import type { Stage } from './stage.ts';
import { ISSUED, jobsOf, noticesOf, OK, type Watch, watch } from './watch.ts';

/** How much of a rehearsal is over when the scene stands, in percent. */
const BUILT_PERCENT = 30;
const DAY_MS = 86_400_000;

/** Rebuilds the installation on a stage, plays the scenario, and writes down what callers, jobs and people saw. */
export async function play(stage: Stage, plan: RehearsalPlan, tell: (percent: number, doing: string) => void): Promise<RehearsalReport> {
  const startedAt = performance.now();
  const scene = await buildScene(stage, plan, (done, what) => tell(Math.floor(done * BUILT_PERCENT), what));
  await stage.moveTo(stage.clock.now() + 60_000);
  const hits = plan.scenario === 'secret_expires' ? secretToExpire(stage, scene, plan.hits) : plan.scenario === 'ninety_days' ? '' : plan.hits;
  const from = stage.clock.now();
  const timeline = timelineOf(plan.scenario, from, { secretEndsAt: secretEnd(scene, hits) ?? from, idleMs: shortestIdle(plan) });
  const seen = watch(stage, scene);
  const isLong = plan.scenario === 'ninety_days';
  const forecast = isLong ? (await stage.call('listUpcoming', { query: { days: 90 } })).items.filter((one) => STOPPING.includes(one.kind)) : [];
  await run(stage, { plan, scene, timeline, seen, hits }, tell);
  const callers = seen.callers.map(({ caller, connection, spans, calls }) => ({
    ...{ caller, connection, asked: sum(spans), good: sum(spans.filter((one) => one.says === ISSUED)) },
    failures: spans.filter((one) => one.says !== ISSUED),
    calls: calls && { made: sum(calls), good: sum(calls.filter((one) => one.says === OK)), failures: calls.filter((one) => one.says !== OK) },
  }));
  // Who was refused comes first.
  const failures = (one: (typeof callers)[number]): number => one.asked - one.good + (one.calls ? one.calls.made - one.calls.good : 0);
  callers.sort((a, b) => failures(b) - failures(a));
  return {
    ...{ scenario: plan.scenario, hits, from, to: stage.clock.now(), tookMs: Math.round(performance.now() - startedAt), acted: plan.act },
    played: {
      providers: plan.providers.map((one) => one.name),
      clients: scene.clients.length,
      connections: new Set(scene.connections.map((one) => one.name)).size,
      people: scene.connections.filter((one) => one.person !== null).length,
    },
    leftOut: scene.leftOut,
    events: seen.events,
    callers,
    connections: seen.connections.map(({ connection, person, spans }) => ({ connection, person, states: spans })),
    jobs: await jobsOf(stage, scene),
    notices: await noticesOf(stage),
    forecast: forecast.map((item) => ({ key: item.key, what: item.what, at: Date.parse(item.at), ...outcomeOf(scene, seen, item, plan.act) })),
    unforeseen: isLong ? unforeseen(scene, seen, forecast) : [],
  };
}

const sum = (spans: readonly Span[]): number => spans.reduce((all, one) => all + one.count, 0);

async function run(
  stage: Stage,
  { plan, scene, timeline, seen, hits }: { plan: RehearsalPlan; scene: Scene; timeline: Timeline; seen: Watch; hits: string },
  tell: (percent: number, doing: string) => void,
): Promise<void> {
  const { wrong, looks } = timeline;
  const acted = new Set<string>();
  let phase: 'before' | 'wrong' | 'over' = 'before';
  for (const [at, instant] of looks.entries()) {
    const day = Math.floor((instant - (looks[0] ?? instant)) / DAY_MS) + 1;
    tell(BUILT_PERCENT + Math.floor((at / looks.length) * (99 - BUILT_PERCENT)), `Day ${day}, ${new Date(instant).toISOString().slice(11, 16)} UTC`);
    if (wrong && phase === 'before' && instant >= wrong.from) {
      seen.note(await goWrong(stage, scene, { scenario: plan.scenario, hits, isOver: false }), instant);
      // A schedule may have no run just now: what a run would meet is of interest.
      for (const job of scene.jobs) await stage.call('runJob', { params: { job } }).catch(() => undefined); // one is running
      phase = 'wrong';
    }
    if (wrong && phase === 'wrong' && instant >= wrong.to) {
      seen.note(await goWrong(stage, scene, { scenario: plan.scenario, hits, isOver: true }), instant);
      phase = 'over';
    }
    await stage.moveTo(instant);
    if (plan.act) await actInTime(stage, { scene, seen, acted, until: looks[at + 1] ?? instant });
    await seen.look();
  }
}

/** Acts on everything whose latest moment to begin comes before the next look. */
async function actInTime(stage: Stage, { scene, seen, acted, until }: { scene: Scene; seen: Watch; acted: Set<string>; until: number }): Promise<void> {
  const { items } = await stage.call('listUpcoming', { query: { days: 90 } });
  for (const item of items.filter((one) => Date.parse(one.act_by) <= until && !acted.has(one.key))) {
    acted.add(item.key);
    if (await actOn(stage, scene, item)) seen.note(`Acted on: ${item.what} (${item.at.slice(0, 10)}).`);
  }
  await stage.moveTo(stage.clock.now());
}

/** Whether a connection, or a caller's key, stopped working at or after an instant. */
function stopped(seen: Watch, { connections, caller }: { connections: string[]; caller: string | null }, since: number): boolean {
  const mine = seen.connections.filter((one) => connections.includes(one.connection.split('/')[0] ?? ''));
  const refused = seen.callers.filter((one) => one.caller === caller).flatMap((one) => one.spans.filter((span) => span.says.startsWith('401')));
  return [...mine.flatMap((one) => one.spans.filter(isStopped)), ...refused].some((span) => span.from >= since);
}
const isStopped = ({ says }: Span): boolean => !/^(working|degraded)/.test(says);

function outcomeOf(scene: Scene, seen: Watch, item: UpcomingItem, acted: boolean): Pick<RehearsalReport['forecast'][number], 'hit' | 'outcome'> {
  const hit = hitBy(scene, item);
  const outcome = stopped(seen, hit, Date.parse(item.at)) ? 'happened' : acted ? 'prevented' : 'not_seen';
  return { hit: hit.caller === null ? hit.connections : [hit.caller], outcome };
}

function unforeseen(scene: Scene, seen: Watch, forecast: readonly UpcomingItem[]): string[] {
  const hits = forecast.map((item) => hitBy(scene, item));
  const known = (name: string): boolean => hits.some((one) => one.connections.includes(name) || one.caller === name);
  const connections = [...new Set(scene.connections.map((one) => one.name))].filter(
    (name) => !known(name) && stopped(seen, { connections: [name], caller: null }, 0),
  );
  const callers = scene.callers.map((one) => one.name).filter((name) => !known(name) && stopped(seen, { connections: [], caller: name }, 0));
  return [...connections, ...callers];
}

const nameOf = ({ plan }: Scene['clients'][number]): string => `${plan.provider}/${plan.name}`;

/** When the last secret of a client expires, epoch ms; null: none has a date. */
function secretEnd(scene: Scene, hits: string): number | null {
  const secrets = scene.clients.filter((one) => nameOf(one) === hits).flatMap(({ registered }) => registered.secrets);
  const ends = secrets.flatMap((one) => (one.endsAt === null ? [] : [one.endsAt]));
  return ends.length === 0 ? null : Math.max(...ends);
}

/** The client whose secret expires first, at the provider that is hit if it has one; where none has a date, one is assumed. */
function secretToExpire(stage: Stage, scene: Scene, provider: string): string {
  const withSecret = scene.clients.filter(
    ({ plan, registered }) => registered.secrets.length > 0 && plan.secrets.some((one) => one.kind === 'secret' || one.kind === 'password'),
  );
  const mine = withSecret.filter(({ plan }) => plan.provider === provider);
  const dated = (mine.length > 0 ? mine : withSecret).map((one) => ({ one, endsAt: secretEnd(scene, nameOf(one)) ?? Number.POSITIVE_INFINITY }));
  const first = dated.sort((a, b) => a.endsAt - b.endsAt)[0];
  if (!first) throw new Error('No rehearsed client has a secret that could expire.');
  for (const secret of first.one.registered.secrets) secret.endsAt ??= stage.clock.now() + ASSUMED_SECRET_MS;
  return nameOf(first.one);
}

/** The shortest idle lifetime of refresh tokens among the rehearsed providers, in ms; null: none is stated. */
function shortestIdle(plan: RehearsalPlan): number | null {
  const idle = plan.providers.flatMap(({ document }) => {
    const seconds = readDefinition(document).dialect.idle_life_seconds;
    return seconds === undefined ? [] : [seconds * 1000];
  });
  return idle.length === 0 ? null : Math.min(...idle);
}

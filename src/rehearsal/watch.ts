import { addLook, type RehearsalReport, type Span } from '../core/rehearsals/report.ts';
import type { Scene, SceneConnection } from './scene.ts';
import type { Stage } from './stage.ts';

const DEADLINE_MS = 60_000;
const MAX_RUNS = 500;
/** Looks as callers and operators would, and writes down what they see. */
export interface Watch {
  /** Requests a token for every caller and connection, and reads every state. */
  look(): Promise<void>;
  note(says: string, at?: number): void;
  callers: { caller: string; connection: string; spans: Span[]; calls: Span[] | null }[];
  connections: { connection: string; person: boolean; spans: Span[] }[];
  events: RehearsalReport['events'];
}

/** The name under which a connection, or one person of it, is shown. */
const shownName = ({ name, person }: Pick<SceneConnection, 'name' | 'person'>): string => (person === null ? name : `${name}/people/${person}`);

export function watch(stage: Stage, scene: Scene): Watch {
  const { call, clock } = stage;
  const pairs = scene.callers.flatMap((caller) =>
    scene.connections
      .filter((one) => caller.uses.includes(one.name))
      .map((one) => ({
        ...{ caller, one, connection: shownName(one), spans: [] as Span[] },
        calls: one.reads === null ? null : ([] as Span[]),
      })),
  );
  const connections = scene.connections.map((one) => ({ one, connection: shownName(one), person: one.person !== null, spans: [] as Span[] }));
  const events: RehearsalReport['events'] = [];
  return {
    events,
    connections,
    callers: pairs.map(({ caller, connection, spans, calls }) => ({ caller: caller.name, connection, spans, calls })),
    note: (says, at = clock.now()) => void events.push({ at, says }),
    async look() {
      const at = clock.now();
      for (const { caller, one, connection, spans, calls } of pairs) {
        addLook(spans, at, await tokenFor(stage, caller, connection));
        if (calls && one.reads !== null) addLook(calls, at, await callOf(stage, caller, `${connection}${one.reads}`));
      }
      const states = new Map<string, string>();
      for (const one of (await call('listConnections', { query: { limit: 200 } })).items) states.set(one.name, inWords(one));
      for (const name of new Set(scene.connections.filter((one) => one.person !== null).map((one) => one.name)))
        for (const one of (await call('listPeople', { params: { connection: name } })).items) states.set(shownName({ name, person: one.person }), inWords(one));
      for (const one of connections) addLook(one.spans, at, states.get(one.connection) ?? 'gone');
    },
  };
}

const inWords = ({ state, cause }: { state: string; cause: string | null }): string => `${state.replaceAll('_', ' ')}${cause ? `: ${cause}` : ''}`;

/** `issued`, or how the token endpoint refused. */
async function tokenFor({ url, clock }: Stage, caller: Scene['callers'][number], connection: string): Promise<string> {
  const body = new URLSearchParams({
    ...{ grant_type: 'client_credentials', client_id: caller.id, client_secret: caller.key },
    resource: `${url}/connections/${connection}`,
  });
  const response = await clock.during(fetch(`${url}/oauth/token`, { method: 'POST', body, signal: AbortSignal.timeout(DEADLINE_MS) }));
  const answer = (await response.json()) as { error?: string };
  return response.ok ? ISSUED : `${response.status} ${answer.error ?? ''}`;
}
export const ISSUED = 'issued';

/** `ok`, or the status of a relayed call and where it comes from. */
async function callOf({ url, clock }: Stage, caller: Scene['callers'][number], path: string): Promise<string> {
  const authorization = `Basic ${Buffer.from(`${caller.id}:${caller.key}`).toString('base64')}`;
  const response = await clock.during(fetch(`${url}/relay/${path}`, { headers: { authorization }, signal: AbortSignal.timeout(DEADLINE_MS) }));
  await response.arrayBuffer();
  const problem = response.headers.get('content-type')?.startsWith('application/problem') ? ' here' : ' from the provider';
  return response.ok ? OK : `${response.status}${problem}`;
}
export const OK = 'ok';

export async function jobsOf({ call }: Stage, scene: Scene): Promise<RehearsalReport['jobs']> {
  return Promise.all(
    scene.jobs.map(async (job) => {
      const { items } = await call('listRuns', { params: { job }, query: { limit: MAX_RUNS } });
      const problems = items.flatMap((run) => {
        const says =
          run.state === 'failed' || run.state === 'skipped'
            ? (run.problem?.says ?? 'It failed.')
            : run.waits
              ? `It waits. ${run.waits.says}`
              : run.completeness?.verdict === 'incomplete'
                ? 'Its result is not complete.'
                : null;
        return says === null ? [] : [{ at: Date.parse(run.started_at), says }];
      });
      const complete = items.filter((run) => run.completeness?.verdict === 'complete').length;
      return { job, runs: items.length, complete, problems: problems.sort((a, b) => a.at - b.at) };
    }),
  );
}

export async function noticesOf({ call, sent }: Stage): Promise<RehearsalReport['notices']> {
  const lists = await Promise.all((['open', 'closed'] as const).map((state) => call('listNotices', { query: { state, limit: 500 } })));
  return lists
    .flatMap((one) => one.items)
    .map((one) => ({
      severity: one.severity,
      title: one.title,
      remedy: one.remedy,
      openedAt: Date.parse(one.opened_at),
      closedAt: one.closed_at === null ? null : Date.parse(one.closed_at),
      sent: sent.filter((message) => message.notice === one.id).map(({ channel, at, event }) => ({ channel, at, event })),
    }))
    .sort((a, b) => a.openedAt - b.openedAt);
}

import type { DiskLevels, ScheduledQuota } from '../../core/forecast/running-out.ts';
import { nextRuns } from '../../core/jobs/schedule.ts';
import { weightOf, windowAt } from '../../core/quota/windows.ts';
import { addressOf } from '../connections/index.ts';
import { connectionDefinition } from '../grants/index.ts';
import type { ScheduledJob } from '../store/forecast.ts';
import type { ForecastParts } from './parts.ts';

/** Facts about what jobs use up; worked out now and then, because nothing of it changes faster. */
const KEPT_MS = 20_000;
const MAX_JOBS = 500;
const MAX_RUNS = 3_000;
const kept = new WeakMap<object, { at: number; quotas: Promise<ScheduledQuota[]> }>();

export function scheduledQuotas(s: ForecastParts): Promise<ScheduledQuota[]> {
  const now = s.ports.clock.now();
  const known = kept.get(s.store);
  if (known && now - known.at < KEPT_MS && now >= known.at) return known.quotas;
  const quotas = work(s, now);
  kept.set(s.store, { at: now, quotas });
  quotas.catch(() => kept.delete(s.store)); // whoever waits is told
  return quotas;
}

async function work(s: ForecastParts, now: number): Promise<ScheduledQuota[]> {
  const found = new Map<string, ScheduledQuota & { runs: ScheduledQuota['runs'] }>();
  for (const job of await s.store.forecast.scheduledJobs(MAX_JOBS)) for (const quota of await quotasOf(s, job, now)) add(found, quota);
  return [...found.values()];
}

function add(found: Map<string, ScheduledQuota>, quota: ScheduledQuota): void {
  const present = found.get(quota.scope);
  // Several jobs of one client count together, under the name of the first connection.
  if (present) found.set(quota.scope, { ...present, runs: [...present.runs, ...quota.runs] });
  else found.set(quota.scope, quota);
}

/** The daily quotas that a job uses, with its runs to come; short windows refill before anyone could act. */
async function quotasOf(s: ForecastParts, job: ScheduledJob, now: number): Promise<ScheduledQuota[]> {
  const { definition } = await connectionDefinition(s, { provider: job.provider, client: job.client, placeholders: job.placeholders, apiBaseUrl: null });
  if (!definition.apis.some((api) => api.quota.some((quota) => quota.window === 'day'))) return [];
  const { api } = addressOf({ definition }, job.call);
  const path = job.call.path.split('?')[0] ?? '';
  const of = { api, clientRecordId: job.clientRecordId, connectionId: job.connectionId, callerId: null, share: null, method: job.call.method, path };
  const uses = s.quotas.usesOf(of).filter((use) => use.quota.window === 'day');
  const levels = await s.quotas.left(uses);
  const { connection, labels } = job;
  return uses.map((use, at) => {
    const { startAt, endAt } = windowAt(use.quota, now);
    const windowMs = endAt - startAt;
    const cost = job.calls * weightOf(api, use.quota.unit, job.call.method, path);
    const runs = nextRuns(job.schedule, now, MAX_RUNS)
      .filter((runAt) => runAt < endAt + windowMs)
      .map((runAt) => ({ job: job.name, connection, labels, at: runAt, cost }));
    return {
      ...{ scope: use.scope, connection, title: api.title, most: use.most },
      ...{ left: levels[at]?.left ?? use.most, resetsAt: endAt, windowMs, runs, labels },
    };
  });
}

const WATCHED_MS = 30 * 86_400_000;
export async function diskLevels(s: ForecastParts): Promise<DiskLevels[]> {
  const found = new Map<string, DiskLevels & { levels: { at: number; freeMb: number; totalMb: number }[] }>();
  for (const { instance, folder, ...level } of await s.store.forecast.diskLevels(s.ports.clock.now() - WATCHED_MS)) {
    const key = `${instance} ${folder}`;
    const one = found.get(key) ?? { instance, folder, levels: [] };
    one.levels.push(level);
    found.set(key, one);
  }
  return [...found.values()];
}

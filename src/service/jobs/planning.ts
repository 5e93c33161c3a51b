import type { z } from 'zod';
import type { JobPlan, JobSettings } from '../../api/jobs.ts';
import { MASK } from '../../core/calls/stored-values.ts';
import { Fault } from '../../core/fault.ts';
import { nextRuns, runsADay, scheduleInWords, scheduleProblem } from '../../core/jobs/schedule.ts';
import { quotaInWords, weightOf, windowAt } from '../../core/quota/windows.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { jitterOf } from './jitter.ts';
import type { JobParts } from './parts.ts';
import { resolveCall } from './resolve.ts';

const DAYS: Record<'minute' | 'hour' | 'day', number> = { minute: 1 / 1440, hour: 1 / 24, day: 1 };

/**
 * What a job will do, before it is saved. The calls of a run follow from the count of records, if it is known, and the page size.
 * @throws {Fault} INPUT_INVALID for a schedule that cannot be used
 */
export async function planJob(s: JobParts, { body }: Pick<Command<'planJob'>, 'body'>): Promise<z.output<typeof JobPlan>> {
  const now = s.ports.clock.now();
  const problem = scheduleProblem(body.schedule, now);
  if (problem !== null) throw new Fault('INPUT_INVALID', { places: [{ path: 'schedule.expression', why: problem }] });
  const resolved = await resolveCall(s, body.connection, asShown(body));
  const plan = body.paging ?? resolved.declared;
  const known = await knownCollection(s, resolved.connectionId, resolved.path);
  const calls = known?.calls ?? (body.records !== undefined && plan?.size_most !== undefined ? Math.max(1, Math.ceil(body.records / plan.size_most)) : null);
  const { api } = resolved.address;
  const runs = runsADay(body.schedule, now);
  const quota = api.quota.map((each) => {
    const cost = weightOf(api, each.unit, resolved.call.method, resolved.path) * (calls ?? 1);
    const { startAt, endAt } = windowAt(each, now);
    const perWindow = Math.max(1, runs * DAYS[each.window] * ((endAt - startAt) / (86_400_000 * DAYS[each.window])));
    return { api: api.title, says: quotaInWords(each), cost, percent: Math.round((1000 * cost * perWindow) / each.most) / 10, a_day: each.window === 'day' };
  });
  const share = quota.map((one) => `${one.percent < 0.1 ? 'less than 0.1' : one.percent} % of ${withThousands(one.says)}`).join(', ');
  const perRun = calls === null ? 'The calls of a run are known after the first one' : `${calls} ${calls === 1 ? 'call' : 'calls'} a run`;
  return {
    next_runs: nextRuns(body.schedule, now, 5, jitterOf({ name: '', settings: body })).map(iso),
    schedule_says: scheduleInWords(body.schedule),
    calls,
    runs_a_day: runs,
    quota,
    says: `${perRun}${runs > 0 ? `, ${runs} ${runs === 1 ? 'run' : 'runs'} a day` : ''}${share === '' ? '. The definition states no quota.' : calls === null ? '.' : `: ${share}.`}`,
  };
}

/** Nothing is sent by a plan: what is masked in a job that is being changed may stay so. */
const asShown = <T extends Pick<JobSettings, 'call' | 'values'>>(settings: T): T => JSON.parse(JSON.stringify(settings).replaceAll(MASK, 'masked'));

const withThousands = (text: string): string => text.replace(/\d+/, (count) => Number(count).toLocaleString('en-US'));

const LOOKED_AT = 20;
/** The last finished collection of the same call, by hand or by a job: its pages are the best estimate. */
async function knownCollection(s: JobParts, connectionId: string, path: string): Promise<{ calls: number } | null> {
  const rows = await s.store.runs.lastDone(connectionId, LOOKED_AT);
  const same = rows.find((row) => row.plan.full && row.plan.call.path.split('?')[0] === path);
  return same ? { calls: same.checkpoint.pages } : null;
}

import { Cron } from 'croner';
import { z } from 'zod';
import { isZone } from '../quota/zones.ts';

/**
 * When a job runs. Cron expressions are read in an IANA time zone. Daylight saving: a time that the change skips runs at the first moment
 * after the gap; a time that comes twice runs once, the first time. Fixed intervals do not know of it.
 */
export const Schedule = z.discriminatedUnion('kind', [
  z.strictObject({ kind: z.literal('manual') }),
  z.strictObject({ kind: z.literal('every'), minutes: z.number().int().min(1).max(10_080).describe('Counted from midnight UTC, at most a week') }),
  z.strictObject({
    kind: z.literal('cron'),
    expression: z.string().min(1).max(120).describe('Five fields: minute, hour, day of month, month, day of week; or @daily and its like'),
    zone: z.string().max(60).default('UTC').refine(isZone, { error: 'No time zone of that name, such as Europe/Oslo.' }),
  }),
]);
export type Schedule = z.output<typeof Schedule>;

const MINUTE = 60_000;

/** Why a schedule cannot be used, in words; null: it can. */
export function scheduleProblem(schedule: Schedule, now: number): string | null {
  if (schedule.kind !== 'cron') return null;
  const fields = schedule.expression.trim().split(/\s+/).length;
  if (!schedule.expression.trim().startsWith('@') && fields !== 5) return `A cron expression has five fields, such as 0 6 * * 1-5; this has ${fields}.`;
  try {
    return cronOf(schedule).nextRun(new Date(now)) === null ? 'It never fires: no date fits it.' : null;
  } catch (cause) {
    return `It cannot be read: ${(cause instanceof Error ? cause.message : 'unknown form').replace(/^CronPattern:\s*/, '').slice(0, 160)}.`;
  }
}

const cronOf = (schedule: Extract<Schedule, { kind: 'cron' }>): Cron => new Cron(schedule.expression, { timezone: schedule.zone, paused: true });

/**
 * The next runs after `from`, epoch ms, in their order; none for a manual job.
 * @param jitterMs added to each, so that jobs of one minute do not all begin in one second
 */
export function nextRuns(schedule: Schedule, from: number, count = 1, jitterMs = 0): number[] {
  if (schedule.kind === 'manual') return [];
  const base = from - jitterMs;
  if (schedule.kind === 'every') {
    const step = schedule.minutes * MINUTE;
    const first = (Math.floor(base / step) + 1) * step;
    return Array.from({ length: count }, (_none, at) => first + at * step + jitterMs);
  }
  return cronOf(schedule)
    .nextRuns(count, new Date(base))
    .map((date) => date.getTime() + jitterMs);
}

/** How often it runs in the 24 hours that begin with its next run: a day on which it runs at all. */
export function runsADay(schedule: Schedule, from: number): number {
  if (schedule.kind === 'manual') return 0;
  if (schedule.kind === 'every') return Math.max(1, Math.floor(1440 / schedule.minutes));
  const [first] = nextRuns(schedule, from);
  return first === undefined ? 0 : nextRuns(schedule, first - 1, 1441).filter((at) => at < first + 86_400_000).length;
}

const EVERY_WORDS: Record<number, string> = { 1: 'every minute', 60: 'every hour', 1440: 'every day', 10080: 'every week' };
export const scheduleInWords = (schedule: Schedule): string =>
  schedule.kind === 'manual'
    ? 'by hand'
    : schedule.kind === 'every'
      ? (EVERY_WORDS[schedule.minutes] ?? `every ${schedule.minutes} minutes`)
      : `${schedule.expression} (${schedule.zone})`;

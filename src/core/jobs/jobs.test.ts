import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { afterFailure } from './failure.ts';
import { ownMinutes, resetRetries, resumeClock } from './own-time.ts';
import { nextRuns, runsADay, type Schedule, scheduleProblem } from './schedule.ts';
import { maxFieldValue, sinceValue } from './since.ts';

const at = (text: string): number => Date.parse(text);
const cron = (expression: string, zone = 'Europe/Oslo'): Schedule => ({ kind: 'cron', expression, zone });
const shown = (schedule: Schedule, from: string, count = 3): string[] =>
  nextRuns(schedule, at(from), count).map((one) => new Date(one).toISOString().slice(0, 16));

describe('schedules', () => {
  test.each([
    ['every weekday at six, by the clock of Oslo', cron('0 6 * * 1-5'), '2026-11-27T00:00:00Z', ['2026-11-27T05:00', '2026-11-30T05:00', '2026-12-01T05:00']],
    ['every two minutes', { kind: 'every' as const, minutes: 2 }, '2026-11-27T00:00:30Z', ['2026-11-27T00:02', '2026-11-27T00:04', '2026-11-27T00:06']],
    [
      'spring forward: half past two does not exist, and runs after the gap',
      cron('30 2 * * *'),
      '2026-03-28T12:00:00Z',
      ['2026-03-29T01:00', '2026-03-30T00:30', '2026-03-31T00:30'],
    ],
    [
      'fall back: half past two comes twice, and runs once',
      cron('30 2 * * *'),
      '2026-10-24T12:00:00Z',
      ['2026-10-25T00:30', '2026-10-26T01:30', '2026-10-27T01:30'],
    ],
    ['the last day of February', cron('0 0 29 2 *', 'UTC'), '2026-11-27T00:00:00Z', ['2028-02-29T00:00', '2032-02-29T00:00', '2036-02-29T00:00']],
    ['by hand', { kind: 'manual' as const }, '2026-11-27T00:00:00Z', []],
  ])('%s', (_name, schedule, from, want) => expect(shown(schedule, from)).toEqual(want));

  test.each([
    ['0 6 * * 1-5', null],
    ['@daily', null],
    ['0 6 30 2 *', 'never fires'],
    ['nonsense', 'five fields'],
    ['0 0 6 * * 1', 'five fields'],
    ['61 * * * *', 'cannot be read'],
  ])('%s: %s', (expression, want) => {
    const problem = scheduleProblem(cron(expression), at('2026-11-27T00:00:00Z'));
    if (want === null) expect(problem).toBeNull();
    else expect(problem).toContain(want);
  });

  test('runs come after now, in order, and later by the jitter', () =>
    fc.assert(
      fc.property(
        fc.integer({ min: 0, max: 2 ** 40 }),
        fc.integer({ min: 1, max: 10_080 }),
        fc.integer({ min: 0, max: 3_600_000 }),
        (from, minutes, jitter) => {
          const runs = nextRuns({ kind: 'every', minutes }, from, 5, jitter);
          expect(runs[0]).toBeGreaterThan(from);
          for (let n = 1; n < runs.length; n += 1) expect((runs[n] ?? 0) - (runs[n - 1] ?? 0)).toBe(minutes * 60_000);
          for (const run of runs) expect(Math.abs((run - jitter) % (minutes * 60_000))).toBe(0);
        },
      ),
    ));

  test('how often a day', () => {
    expect([runsADay({ kind: 'every', minutes: 2 }, 0), runsADay(cron('*/15 * * * *'), at('2026-11-27T00:00:00Z')), runsADay({ kind: 'manual' }, 0)]).toEqual([
      720, 96, 0,
    ]);
  });
});

describe('only what is new', () => {
  const mark = { startedAt: at('2026-11-27T06:00:00Z'), highest: '2026-11-20' };
  test.each([
    [{ kind: 'run_start' as const, parameter: 'since', format: 'datetime' as const, overlap_minutes: 5 }, '2026-11-27T05:55:00Z'],
    [{ kind: 'run_start' as const, parameter: 'since', format: 'date' as const, overlap_minutes: 600 }, '2026-11-26'],
    [{ kind: 'run_start' as const, parameter: 'since', format: 'seconds' as const, overlap_minutes: 0 }, '1795759200'],
    [{ kind: 'field' as const, parameter: 'since', field: '/at' }, '2026-11-20'],
    [{ kind: 'ids' as const }, null],
  ])('%j', (since, want) => {
    expect(sinceValue(since, mark)?.value ?? null).toBe(want);
    expect(sinceValue(since, null)).toBeNull();
  });
  test('the highest value: numbers by value, dates as text, others not at all', () => {
    expect([{ n: 9 }, { n: 10 }, {}, { n: null }].reduce<string | null>((highest, one) => maxFieldValue(highest, one, '/n'), null)).toBe('10');
    expect([{ n: '2026-01-02' }, { n: '2025-12-31' }].reduce<string | null>((highest, one) => maxFieldValue(highest, one, '/n'), null)).toBe('2026-01-02');
  });
});

describe('the time of a run', () => {
  const began = { beganAt: 0, waitedMs: 0, waitingSince: null, tries: 7 };
  const HOUR = 3_600_000;
  test('waiting for a person does not count, however often and long', () => {
    const first = resumeClock({ ...began, waitingSince: HOUR }, 30 * HOUR);
    const second = resumeClock({ ...first, waitingSince: 31 * HOUR }, 90 * HOUR);
    expect([ownMinutes(first, 30 * HOUR), ownMinutes(second, 91 * HOUR)]).toEqual([60, 180]);
    expect(resumeClock(began, HOUR)).toBe(began);
  });
  test('what failed at night and is resumed in the morning has its whole time and all its tries', () => {
    const resumed = resumeClock(resetRetries(began, 5 * HOUR), 14 * HOUR);
    expect([resumed.tries, ownMinutes(resumed, 14 * HOUR), ownMinutes(resumed, 15 * HOUR)]).toEqual([0, 0, 60]);
  });
});

describe('after a failure', () => {
  test.each([
    ['quota', { kind: 'quota' as const, waitMs: 7_000 }, 99, 7_000],
    ['429 with Retry-After', { kind: 'status' as const, status: 429, retryAfterMs: 4_000 }, 0, 4_000],
    ['503', { kind: 'status' as const, status: 503, retryAfterMs: null }, 2, 4_000],
    ['401, a few times', { kind: 'status' as const, status: 401, retryAfterMs: null }, 0, 4_000],
    ['401, again and again', { kind: 'status' as const, status: 401, retryAfterMs: null }, 3, null],
    ['404', { kind: 'status' as const, status: 404, retryAfterMs: null }, 0, null],
    ['no answer for hours', { kind: 'no_answer' as const, reason: 'dns' }, 40, null],
    ['a connection that needs action, for days', { kind: 'action' as const }, 9_999, 30_000],
  ])('%s', (_name, failure, tries, want) => {
    const turn = afterFailure(failure, tries);
    expect('fail' in turn ? null : turn.wait).toBe(want);
  });
});

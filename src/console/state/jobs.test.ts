import { expect, test } from 'vitest';
import type { Job, Run } from '../../api/jobs.ts';
import { JobSettings } from '../../api/jobs.ts';
import { progressInWords } from './collecting.svelte.ts';
import { JobDraft } from './job-draft.svelte.ts';
import { barsOf } from './run-bars.ts';

const settings = (more: object = {}): JobSettings => JobSettings.parse({ call: { method: 'GET', path: '/bookings' }, ...more });
const job = (given: JobSettings): Job => ({ name: 'berth-report', connection: 'quay', settings: given }) as Job;

test('a job goes through the form and back unchanged, what the form does not show included', () => {
  const given = settings({
    title: 'All',
    schedule: { kind: 'cron', expression: '0 6 * * 1-5', zone: 'Europe/Oslo' },
    layout: { columns: [{ field: 'id', title: 'Booking' }, { field: 'day' }], delimiter: ';', bom: true },
    personal: [{ field: 'guest.email', rule: 'mask' }],
    since: { kind: 'field', parameter: 'since', field: '/day' },
    result: 'append',
    full_every: 24,
    deliver: [
      { kind: 'file', name: '{job}.ndjson', format: 'ndjson', gzip: true },
      { kind: 'post', url: 'https://app.example/take', format: 'csv' },
    ],
    limits: { pages: 7 },
  });
  expect(JobSettings.parse(JobDraft.of(job(given), ['id', 'day', 'boat']).settings())).toEqual(given);
});

test('all columns are no choice; a heading, an order or one left out is', () => {
  const draft = JobDraft.from('quay', settings(), ['id', 'day']);
  expect(draft.chosen).toEqual([]);
  draft.move(1, -1);
  draft.move(0, -1);
  expect(draft.columns.map((one) => one.field)).toEqual(['day', 'id']);
  draft.columns[1] = { field: 'id', title: ' Booking ', on: true };
  expect(draft.chosen).toEqual([{ field: 'day' }, { field: 'id', title: 'Booking' }]);
});

test.each([
  [{ records: 600, total: 1_312, pages: 3, seconds: 2 }, '600 of 1,312 records, 3 pages, 300/s, 3 s left'],
  [{ records: 50, total: null, pages: 1, seconds: 0 }, '50 records, 1 page, 0/s'],
  [{ records: 84, total: 84, pages: 2, seconds: 1 }, '84 of 84 records, 2 pages, 84/s'],
])('%j', (run, words) => expect(progressInWords(run)).toBe(words));

test('bars: oldest first, as parts of the highest, with the verdict in color and words', () => {
  const run = (number: number, records: number): Run =>
    ({ number, state: 'done', records, seconds: 2, completeness: { verdict: 'complete', evidence: [], deviates: false } }) as unknown as Run;
  const bars = barsOf([run(2, 50), run(1, 100)]);
  expect(bars.items.map((bar) => [bar.number, bar.records, bar.tone])).toEqual([
    [1, 1, 'fill-success'],
    [2, 0.5, 'fill-success'],
  ]);
  expect([bars.recordsNote, bars.secondsNote, barsOf([]).recordsNote]).toEqual(['50 to 100', '2 s in each', 'no runs']);
});

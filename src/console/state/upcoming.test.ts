import { expect, test } from 'vitest';
import type { UpcomingItem } from '../../api/upcoming.ts';
import { lanes, urgencyOf, weeks } from './upcoming.ts';

const DAY_MS = 86_400_000;
const NOW = Date.UTC(2026, 10, 29);
const item = (days: number, lead: number, kind: UpcomingItem['kind'] = 'client_secret'): UpcomingItem =>
  ({
    key: `${kind}${days}`,
    kind,
    at: new Date(NOW + days * DAY_MS).toISOString(),
    act_by: new Date(NOW + (days - lead) * DAY_MS).toISOString(),
  }) as UpcomingItem;

test.each([
  [-1, 7, 'late'],
  [5, 7, 'now'],
  [30, 7, 'later'],
] as const)('in %i days with a lead of %i: %s', (days, lead, urgency) => expect(urgencyOf(item(days, lead), NOW)).toBe(urgency));

test('lanes by kind, marks by date, the lead time as a band that never begins before today', () => {
  const found = lanes([item(-3, 7), item(45, 9), item(90, 3, 'grant')], NOW, 90);
  expect(found.map((lane) => [lane.label, lane.marks.map(({ from, at, urgency }) => [from, at, urgency])])).toEqual([
    [
      'Client secrets',
      [
        [0, 0, 'late'],
        [40, 50, 'later'],
      ],
    ],
    ['Grants', [[expect.closeTo(96.7, 1), 100, 'later']]],
  ]);
});

test('weeks are marked from today to the end', () => {
  const marks = weeks(NOW, 90);
  expect(marks.map((one) => one.label)).toEqual(['today', 'Dec 13', 'Dec 27', 'Jan 10', 'Jan 24', 'Feb 7', 'Feb 21']);
  expect(marks.at(-1)?.at).toBeCloseTo(93.3, 1);
});

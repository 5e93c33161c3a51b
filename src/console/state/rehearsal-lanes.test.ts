import { expect, test } from 'vitest';
import type { RehearsalReport } from '../../api/rehearsals.ts';
import { rehearsalLanes, rehearsalTicks } from './rehearsal-lanes.ts';

const HOUR_MS = 3_600_000;
const span = (from: number, to: number, says: string) => ({ from: from * HOUR_MS, to: to * HOUR_MS, says, count: 1 });
const report = {
  ...{ from: 0, to: 10 * HOUR_MS, events: [] },
  connections: [
    { connection: 'calm', person: false, states: [span(0, 10, 'working')] },
    { connection: 'sailings', person: false, states: [span(0, 5, 'working'), span(5, 6, 'degraded: retried'), span(6, 10, 'action needed: refused')] },
  ],
  callers: [
    { caller: 'board', connection: 'sailings', asked: 9, good: 5, failures: [span(6, 10, '400 invalid_grant')], calls: { made: 9, good: 9, failures: [] } },
    { caller: 'ledger', connection: 'calm', asked: 9, good: 9, failures: [], calls: null },
  ],
} as unknown as RehearsalReport;

test('lanes show states and refusals over the time; what worked all the time comes last', () => {
  const lanes = rehearsalLanes(report);
  expect(lanes.map((lane) => `${lane.label}, ${lane.of}`)).toEqual(['sailings, connection', 'board → sailings, tokens', 'calm, connection']);
  expect(lanes[0]?.bars).toEqual([
    { from: 0, width: 50, tone: 'good', says: 'working' },
    { from: 50, width: 10, tone: 'warn', says: 'degraded: retried' },
    { from: 60, width: 40, tone: 'bad', says: 'action needed: refused' },
  ]);
  expect(lanes[1]?.bars).toMatchObject([{ from: 60, width: 40, tone: 'bad' }]);
});

test('where weeks pass before something happens, what lies closely around it is shown', () => {
  const long = { ...report, to: 1_000 * HOUR_MS, events: [{ at: 990 * HOUR_MS, says: 'The secret expires.' }] };
  const [lane] = rehearsalLanes({
    ...long,
    connections: [{ connection: 'sailings', person: false, states: [span(0, 990, 'working'), span(990, 1_000, 'action needed: x')] }],
  } as RehearsalReport);
  expect(lane?.bars.map((bar) => [Math.round(bar.from), Math.round(bar.width), bar.tone])).toEqual([
    [0, 33, 'good'],
    [33, 67, 'bad'],
  ]);
});

test('ticks name hours of a short time, and dates of a long one', () => {
  expect(rehearsalTicks(report).map((tick) => tick.label)[0]).toMatch(/^\d\d:\d\d$/);
  expect(rehearsalTicks({ from: 0, to: 90 * 24 * HOUR_MS, events: [] }).map((tick) => tick.at)).toEqual([0, 25, 50, 75, 100]);
  expect(rehearsalTicks({ from: 0, to: 90 * 24 * HOUR_MS, events: [] })[4]?.label).toMatch(/^[A-Z][a-z]{2} \d+$/);
});

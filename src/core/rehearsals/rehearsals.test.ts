import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { addLook, RehearsalReport, reportDocument, type Span, summaryOf } from './report.ts';
import { SCENARIO_WORDS, SCENARIOS, timelineOf } from './scenarios.ts';

const START = Date.UTC(2027, 0, 4, 6);
const HOUR_MS = 3_600_000;

describe('when a scenario looks', () => {
  test.each(SCENARIOS)('%s: in order, within its time, at the instants where it goes wrong and right, and never without end', (scenario) => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 400 }), fc.option(fc.integer({ min: 60_000, max: 400 * 24 * HOUR_MS })), (days, idleMs) => {
        const secretEndsAt = START + days * 24 * HOUR_MS;
        const { looks, until, wrong } = timelineOf(scenario, START, { secretEndsAt, idleMs });
        expect(looks[0]).toBe(START);
        expect(looks.length).toBeLessThanOrEqual(1_501);
        expect(looks.every((at, index) => index === 0 || at > (looks[index - 1] ?? 0))).toBe(true);
        expect(looks.at(-1)).toBeLessThanOrEqual(until);
        if (wrong) for (const at of [wrong.from, wrong.to]) expect(looks.some((look) => look >= at && look - at < HOUR_MS)).toBe(true);
      }),
      { numRuns: 50 },
    );
  });
});

test('what was seen look after look becomes spans: none is lost, none overlaps, and two in a row differ', () => {
  fc.assert(
    fc.property(fc.array(fc.constantFrom('working', 'degraded', 'action needed'), { minLength: 1, maxLength: 60 }), (states) => {
      const spans: Span[] = [];
      for (const [at, says] of states.entries()) addLook(spans, START + at * HOUR_MS, says);
      expect(spans.reduce((sum, one) => sum + one.count, 0)).toBe(states.length);
      for (const [at, one] of spans.entries()) {
        const next = spans[at + 1];
        if (next) expect([one.to, one.says === next.says]).toEqual([next.from, false]);
      }
    }),
  );
});

const report = RehearsalReport.parse({
  ...{ scenario: 'provider_down', hits: 'eelgrass', from: START, to: START + 7 * HOUR_MS, tookMs: 20_000, acted: false },
  played: { providers: ['eelgrass'], clients: 1, connections: 1, people: 0 },
  leftOut: [{ what: 'Client eelgrass/old', why: 'It is retired.' }],
  events: [{ at: START, says: 'eelgrass answers every request with 503.' }],
  callers: [
    {
      ...{ caller: 'board', connection: 'sailings', asked: 10, good: 8, calls: null },
      failures: [{ from: START, to: START + HOUR_MS, says: '503 temporarily_unavailable', count: 2 }],
    },
  ],
  connections: [{ connection: 'sailings', person: false, states: [{ from: START, to: START + HOUR_MS, says: 'action needed: | pipes\nand lines', count: 2 }] }],
  jobs: [{ job: 'rows', runs: 3, complete: 2, problems: [{ at: START, says: 'It failed.' }] }],
  notices: [
    {
      ...{ severity: 'warning', title: 'Eelgrass cannot be reached', remedy: 'Wait.', openedAt: START, closedAt: null },
      sent: [{ channel: 'ops', at: START, event: 'opened' }],
    },
  ],
  forecast: [],
  unforeseen: [],
});

test('the report leads with the outcome, and stays a table whatever stands in it', () => {
  expect(summaryOf(report)).toEqual([
    'Callers got 8 of 10 tokens they requested; 2 were refused.',
    '1 of 3 runs failed or was not complete.',
    '1 notice was opened; 1 message would have been sent.',
    'At the end 1 connection needed action.',
  ]);
  const document = reportDocument(report);
  for (const text of [SCENARIO_WORDS.provider_down.plays, 'Client eelgrass/old', '503 temporarily_unavailable', 'ops: opened 2027-01-04 06:00 UTC'])
    expect(document).toContain(text);
  const rows = document.split('\n').filter((line) => line.startsWith('|'));
  expect(rows.every((row) => row.endsWith('|'))).toBe(true);
  expect(document).toContain('action needed: \\| pipes and lines');
});

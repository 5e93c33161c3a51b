import fc from 'fast-check';
import { expect, test } from 'vitest';
import { type LaneLimits, lanes } from './lanes.ts';

const LIMITS: LaneLimits = { originMost: 4, clientMost: 3, breakerAfter: 3, breakerBaseMs: 100, breakerMostMs: 1_000 };
const lane = (clientId: string, origin = 'o') => ({ clientId, origin });

test('whatever comes and goes, no more run than the limits say, and a closed client is not let in', () => {
  const step = fc.record({
    enter: fc.boolean(),
    client: fc.constantFrom('a', 'b', 'c'),
    how: fc.constantFrom('answered' as const, 'lost' as const),
    afterMs: fc.nat({ max: 400 }),
    spread: fc.double({ min: 0, max: 0.99, noNaN: true }),
  });
  fc.assert(
    fc.property(fc.array(step, { maxLength: 120 }), (steps) => {
      const kept = lanes(LIMITS);
      const inside: string[] = [];
      let now = 1_000_000;
      for (const one of steps) {
        now += one.afterMs;
        const origin = one.client === 'c' ? 'p' : 'o';
        if (one.enter) {
          const closed = kept.closedClients(now).includes(one.client);
          const entry = kept.enter(lane(one.client, origin), now);
          if (entry.kind === 'go') inside.push(one.client);
          else expect(entry.untilAt).toBeGreaterThan(now);
          if (closed) expect(entry.kind).not.toBe('go');
        } else if (inside.includes(one.client)) {
          inside.splice(inside.indexOf(one.client), 1);
          kept.leave(lane(one.client, origin), one.how, now, one.spread);
        }
        for (const client of ['a', 'b', 'c']) expect(inside.filter((name) => name === client).length).toBeLessThanOrEqual(LIMITS.clientMost);
        expect(inside.filter((name) => name !== 'c').length).toBeLessThanOrEqual(LIMITS.originMost);
        expect(kept.view(now).reduce((sum, seen) => sum + seen.running, 0)).toBe(inside.length);
      }
    }),
  );
});

test('an endpoint that fails is paused by the circuit breaker, then tried once, and one answer lets all in again', () => {
  const kept = lanes(LIMITS);
  const fail = (now: number) => {
    expect(kept.enter(lane('a'), now).kind).toBe('go');
    kept.leave(lane('a'), 'lost', now, 0.99);
  };
  fail(0);
  fail(1);
  expect(kept.view(1)[0]?.openUntilAt).toBeNull();
  fail(2);
  const first = kept.enter(lane('b'), 3);
  expect(first).toMatchObject({ kind: 'open' });
  const retryAt = 'untilAt' in first ? first.untilAt : 0;
  expect(kept.closedClients(3).sort()).toEqual(['a', 'b']);
  expect(kept.enter(lane('c', 'p'), 3).kind).toBe('go'); // another endpoint is not concerned
  expect(kept.enter(lane('a'), retryAt).kind).toBe('go');
  expect(kept.enter(lane('b'), retryAt).kind).toBe('open'); // one at a time
  kept.leave(lane('a'), 'lost', retryAt, 0.99);
  const second = kept.enter(lane('a'), retryAt);
  expect('untilAt' in second && second.untilAt - retryAt).toBeGreaterThan(retryAt - 2); // longer than the first time
  const later = 'untilAt' in second ? second.untilAt : 0;
  expect(kept.enter(lane('a'), later).kind).toBe('go');
  kept.leave(lane('a'), 'answered', later, 0.5);
  expect([kept.enter(lane('a'), later).kind, kept.enter(lane('b'), later).kind]).toEqual(['go', 'go']);
});

test('a client that was told to wait waits, its neighbours at the same endpoint do not, and a token issuance may squeeze in', () => {
  const kept = lanes(LIMITS);
  kept.hold('a', 500);
  kept.hold('a', 100);
  expect(kept.enter(lane('a'), 499)).toEqual({ kind: 'held', untilAt: 500 });
  expect(kept.enter(lane('b'), 499).kind).toBe('go');
  expect(kept.enter(lane('a'), 500).kind).toBe('go');
  for (let more = 0; more < 2; more += 1) kept.enter(lane('a'), 500);
  expect([kept.enter(lane('a'), 500).kind, kept.enter(lane('a'), 500, true).kind]).toEqual(['full', 'go']);
});

import fc from 'fast-check';
import { expect, test } from 'vitest';
import { type ConnectionFacts, connectionHealth, groupInWords, type HealthCause, healthChangesAt, remedyFor } from './health.ts';
import { RENEWAL_CAUSES } from './renewal/row.ts';

const good: ConnectionFacts = {
  intent: 'active',
  hasGrant: true,
  hasRefreshToken: true,
  cause: null,
  expiresAt: 100,
  renewalPlanned: true,
  atRisk: false,
  clientStopped: false,
  proof: 'verified',
  proofSays: null,
};
test.each([
  { name: 'all well', facts: {}, state: 'working' },
  { name: 'nothing to verify', facts: { proof: 'not_defined' as const }, state: 'working' },
  { name: 'draft', facts: { intent: 'draft' as const, hasGrant: false }, state: 'draft' },
  { name: 'agreed once, grant gone', facts: { hasGrant: false }, state: 'not_yet_consented' },
  { name: 'paused comes before its health', facts: { intent: 'paused' as const, cause: 'refused' as const }, state: 'paused' },
  { name: 'revoked comes first', facts: { intent: 'revoked' as const }, state: 'revoked' },
  { name: 'client stopped', facts: { clientStopped: true }, state: 'action_needed' },
  { name: 'rejected once', facts: { cause: 'refused' as const }, state: 'degraded' },
  { name: 'rejected for good', facts: { cause: 'refused' as const, renewalPlanned: false }, state: 'action_needed' },
  { name: 'renewed on request, and nobody asked', facts: { expiresAt: 1, renewalLater: true }, state: 'idle' },
  {
    name: 'no refresh token, though its token lives on',
    facts: { hasRefreshToken: false, renewalPlanned: false, cause: 'no_refresh_token' as const },
    state: 'action_needed',
  },
  {
    name: 'no refresh token, over',
    facts: { hasRefreshToken: false, renewalPlanned: false, cause: 'no_refresh_token' as const, expiresAt: 1 },
    state: 'action_needed',
  },
  { name: 'at risk', facts: { atRisk: true, cause: 'unclear' as const }, state: 'degraded' },
  { name: 'not renewed in time', facts: { expiresAt: 1 }, state: 'degraded' },
  { name: 'not proved', facts: { proof: 'failed' as const }, state: 'degraded' },
])('$name: $state', ({ facts, state }) => {
  const health = connectionHealth({ ...good, ...facts }, 50);
  expect(health.state).toBe(state);
  if (state === 'working') return expect(health).toMatchObject({ cause_key: null, cause: null, remedy: null });
  if (state !== 'idle') expect(groupInWords(health.cause_key as HealthCause, 'Eelgrass', 'eelgrass/timetable')).toMatch(/Eelgrass|timetable/);
  return expect([health.cause, health.remedy]).toEqual([expect.stringMatching(/\.$/), expect.stringMatching(/\.$/)]);
});

test.each(RENEWAL_CAUSES)('the cause %s is explained', (cause) =>
  expect(connectionHealth({ ...good, cause }, 50)).toMatchObject({ cause: expect.any(String), remedy: expect.any(String) }),
);

test('by time alone the state of a connection that works or is idle changes no sooner than predicted', () => {
  const instant = fc.integer({ min: 0, max: 200_000_000 });
  fc.assert(
    fc.property(instant, instant, fc.integer({ min: 0, max: 90_000_000 }), fc.double({ min: 0, max: 0.999, noNaN: true }), (expiresAt, nextAt, now, part) => {
      const at = (instantOf: number) => connectionHealth({ ...good, expiresAt, renewalLater: nextAt > instantOf }, instantOf).state;
      const state = at(now);
      const changesAt = healthChangesAt(state, { expiresAt, nextAt }, now);
      expect(changesAt).toBeGreaterThan(now);
      if (state === 'working' || state === 'idle') expect(at(Math.floor(now + (changesAt - 1 - now) * part))).toBe(state);
    }),
  );
});

test('a group of connections has the same remedy as each of them', () => {
  for (const cause of RENEWAL_CAUSES) {
    const one = connectionHealth({ ...good, cause }, 50);
    expect(remedyFor(one.cause_key as HealthCause)).toBe(one.remedy);
  }
});

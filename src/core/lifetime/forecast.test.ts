import fc from 'fast-check';
import { expect, test } from 'vitest';
import { compareAnswers } from '../compare-answers.ts';
import { PLAIN_DIALECT } from '../provider/dialect.ts';
import { forecastLife, type GrantFacts } from './forecast.ts';

const DAY = 86_400_000;
const NOW = Date.parse('2026-11-23T12:00:00Z');
const FACTS: GrantFacts = {
  kind: 'authorization_code',
  hasRefreshToken: true,
  renewals: 1,
  planned: true,
  consentedAt: NOW,
  account: 'desk@gull.example',
  opened: null,
  reachLifeSeconds: null,
  reachSays: null,
  absoluteEndsAt: null,
  secretEndsAt: null,
  secretIs: 'secret',
  sawReplaced: false,
  sawKept: true,
  now: NOW,
};
const DIALECT = { ...PLAIN_DIALECT, rotation: 'never' as const };

test.each([
  { name: 'renewed, and nothing ends it', facts: {}, verdict: 'lives', first: null },
  { name: 'no refresh token', facts: { hasRefreshToken: false }, verdict: 'ends', first: null },
  { name: 'no renewal seen', facts: { renewals: 0 }, verdict: 'not_known', first: null },
  { name: 'refused', facts: { planned: false, secretEndsAt: NOW + 179 * DAY }, verdict: 'ends', first: null },
  { name: 'rejected once', facts: { refusedOnce: true, secretEndsAt: NOW + 179 * DAY }, verdict: 'not_known', first: null },
  { name: 'pushed out by newer ones', facts: { pushedOut: true, secretEndsAt: NOW + 179 * DAY }, verdict: 'ends', first: null },
  {
    name: 'the secret ends before the grant',
    facts: { secretEndsAt: NOW + 10 * DAY, absoluteEndsAt: NOW + 100 * DAY },
    verdict: 'ends',
    first: 'The client secret',
  },
  {
    name: 'listed accounts end it first',
    facts: { secretEndsAt: NOW + 10 * DAY, reachLifeSeconds: 3 * 86_400 },
    verdict: 'ends',
    first: 'The refresh token of a client for listed accounts',
  },
  {
    name: 'a certificate',
    facts: { kind: 'client_credentials', secretIs: 'certificate', secretEndsAt: NOW + DAY, reachLifeSeconds: 10 },
    verdict: 'ends',
    first: 'The certificate',
  },
  { name: 'a key', facts: { kind: 'static_key', hasRefreshToken: false, secretEndsAt: NOW + DAY }, verdict: 'not_known', first: null },
] as { name: string; facts: Partial<GrantFacts>; verdict: string; first: string | null }[])('expiration and renewal: $name', ({ facts, verdict, first }) => {
  const life = forecastLife({ ...FACTS, ...facts }, DIALECT);
  expect([life.verdict, life.ends[0]?.what ?? null]).toEqual([verdict, first]);
  // What is known to be false is never promised.
  if (life.lines[0]?.verdict === 'bad') expect(life.says).not.toMatch(/will live|lives until|nothing is known that would end/);
});

test.each([
  { rotation: 'never', sawReplaced: true, sawKept: false, verdict: 'bad' },
  { rotation: 'each_use', sawReplaced: false, sawKept: true, verdict: 'doubt' },
  { rotation: 'each_use', sawReplaced: true, sawKept: false, verdict: 'good' },
  { rotation: 'unknown', sawReplaced: true, sawKept: true, verdict: 'doubt' },
  { rotation: 'never', sawReplaced: false, sawKept: true, verdict: 'good' },
] as const)('believed $rotation, seen replaced $sawReplaced, kept $sawKept: $verdict', ({ rotation, verdict, ...seen }) => {
  const { lines } = forecastLife({ ...FACTS, ...seen }, { ...DIALECT, rotation });
  expect(lines.find((line) => line.what === 'rotation')?.verdict).toBe(verdict);
});

test('expirations are shown in their order, whatever they are, and a renewal is verified only where a lost answer costs nothing', () => {
  const at = fc.option(
    fc.integer({ min: 1, max: 400 }).map((days) => NOW + days * DAY),
    { nil: null },
  );
  fc.assert(
    fc.property(
      at,
      at,
      fc.constantFrom('never', 'each_use', 'unknown'),
      fc.constantFrom('kills_grant', 'refused', 'grace'),
      (secretEndsAt, absoluteEndsAt, rotation, reuse) => {
        const life = forecastLife({ ...FACTS, secretEndsAt, absoluteEndsAt }, { ...DIALECT, rotation, reuse } as never);
        const sorted = life.ends.every((end, n) => n === 0 || (life.ends[n - 1]?.at ?? 0) <= end.at);
        return sorted && life.mayVerifyRenewal === (rotation === 'never' || reuse !== 'kills_grant');
      },
    ),
  );
});

test('answers are the same where each member is, in whatever order, and every difference is named by its place', () => {
  const seen = (value: unknown) => ({ status: 200, content_type: 'application/json', body: JSON.stringify(value) });
  fc.assert(fc.property(fc.jsonValue(), (value) => compareAnswers(seen(value), { ...seen(value), content_type: 'application/json; charset=utf-8' }).same));
  expect(compareAnswers(seen({ a: 1, b: [1, 2] }), seen({ b: [1, 3], a: 1, c: 'x' })).differences).toEqual([
    '/b/1: 2 before, 3 after',
    '/c: nothing before, "x" after',
  ]);
  expect(compareAnswers(seen([1]), seen([1, 2])).differences).toEqual(['/: 1 before, 2 after']);
  expect(compareAnswers({ ...seen(1), status: 401 }, { status: null, content_type: null, body: '' }).differences.length).toBe(3);
});

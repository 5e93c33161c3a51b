import fc from 'fast-check';
import { expect, test } from 'vitest';
import { fitsOperation, inSession } from '../provider/api.ts';
import { readSession } from '../provider/session-step.ts';
import { endsByRenewalAt } from '../renewal/plan.ts';
import { chunkOf, weightOf, windowAt } from './windows.ts';

test.each([
  {
    name: 'a day that the clocks make 23 hours long',
    zone: 'Europe/London',
    window: 'day' as const,
    now: '2026-03-29T12:00:00Z',
    start: '2026-03-29T00:00:00Z',
    end: '2026-03-29T23:00:00Z',
  },
  {
    name: 'a day that begins the evening before in UTC',
    zone: 'Asia/Tokyo',
    window: 'day' as const,
    now: '2026-06-01T16:00:00Z',
    start: '2026-06-01T15:00:00Z',
    end: '2026-06-02T15:00:00Z',
  },
  {
    name: 'an hour in a zone of half hours',
    zone: 'Asia/Kolkata',
    window: 'hour' as const,
    now: '2026-06-01T10:10:00Z',
    start: '2026-06-01T09:30:00Z',
    end: '2026-06-01T10:30:00Z',
  },
  { name: 'a minute', zone: 'UTC', window: 'minute' as const, now: '2026-06-01T10:10:59.999Z', start: '2026-06-01T10:10:00Z', end: '2026-06-01T10:11:00Z' },
])('$name', ({ zone, window, now, start, end }) => {
  expect(windowAt({ window, zone }, Date.parse(now))).toEqual({ startAt: Date.parse(start), endAt: Date.parse(end) });
});

test('every instant lies in its window, and where one ends the next begins', () => {
  fc.assert(
    fc.property(
      fc.integer({ min: 1.6e12, max: 2e12 }),
      fc.constantFrom('minute', 'hour', 'day'),
      fc.constantFrom('UTC', 'Europe/London', 'America/St_Johns', 'Pacific/Apia'),
      (now, window, zone) => {
        const one = windowAt({ window, zone } as never, now);
        expect(now >= one.startAt && now < one.endAt).toBe(true);
        expect(windowAt({ window, zone } as never, one.endAt).startAt).toBe(one.endAt);
      },
    ),
  );
});

test('a chunk is enough for the call where there is enough, and never more than is left', () => {
  fc.assert(
    fc.property(fc.integer({ min: 1, max: 1e6 }), fc.integer({ min: 0, max: 1e6 }), fc.integer({ min: 1, max: 1000 }), (most, left, wanted) => {
      const chunk = chunkOf(most, left, wanted);
      expect(chunk).toBeLessThanOrEqual(left);
      expect(chunk).toBeGreaterThanOrEqual(Math.min(left, wanted));
      expect(chunk).toBeLessThanOrEqual(Math.max(wanted, Math.ceil(most / 20)));
    }),
  );
});

test('calls count one, points the weight of the operation that fits', () => {
  const api = { operations: [{ id: 'a', method: 'POST' as const, path: '/threads/{id}/answers', says: '', needs: [], weight: 25, parameters: [] }] };
  expect(weightOf(api, 'points', 'POST', '/threads/7/answers')).toBe(25);
  expect([
    weightOf(api, 'calls', 'POST', '/threads/7/answers'),
    weightOf(api, 'points', 'GET', '/threads/7/answers'),
    weightOf(api, 'points', 'POST', '/threads/7'),
  ]).toEqual([1, 1, 1]);
  expect(fitsOperation('/a.b/{x}', '/aXb/1')).toBe(false);
});

const STEP = {
  method: 'POST' as const,
  path: '/s',
  token_at: '/session',
  base_url_at: '/at',
  life_at: '/for',
  life_seconds: 900,
  token_header: 'x-s',
  token_word: '',
};
const answered = (body: unknown, status = 201) => ({ kind: 'answer' as const, status, headers: {}, body: JSON.stringify(body), cut: false, tookMs: 1 });
test.each([
  {
    name: 'whole',
    body: { session: 't', at: 'https://books.api.example/1/', for: 60 },
    want: { token: 't', baseUrl: 'https://books.api.example/1', lifeMs: 60_000 },
  },
  { name: 'a lifetime in text', body: { session: 't', at: 'https://books.api.example/1', for: '60' }, want: { lifeMs: 60_000 } },
  { name: 'no lifetime', body: { session: 't', at: 'https://books.api.example/1' }, want: { lifeMs: 900_000 } },
  { name: 'a lifetime that is odd', body: { session: 't', at: 'https://books.api.example/1', for: -5 }, want: { lifeMs: 900_000 } },
  { name: 'a lifetime without end', body: { session: 't', at: 'https://books.api.example/1', for: 1e12 }, want: { lifeMs: 604_800_000 } },
  { name: 'no token', body: { at: 'https://books.api.example/1' }, want: 'holds no session token' },
  { name: 'a token that would end the header', body: { session: 'a\r\nb', at: 'https://books.api.example/1' }, want: 'holds no session token' },
  { name: 'an address elsewhere', body: { session: 't', at: 'https://evil.example/1' }, want: 'does not list' },
  { name: 'an address that only looks alike', body: { session: 't', at: 'https://api.example.evil.example/' }, want: 'does not list' },
])('a session: $name', ({ body, want }) => {
  const read = readSession({ api_hosts: ['*.api.example'] }, STEP, answered(body));
  if (typeof want === 'string') expect(read).toContain(want);
  else expect(read).toMatchObject(want);
});
test('a session that was rejected, or is no JSON, is said; in a session the API is called with its token at its address', () => {
  expect(readSession({ api_hosts: [] }, STEP, answered({}, 500))).toBe('It answered 500.');
  expect(readSession({ api_hosts: [] }, STEP, { ...answered({}), body: '<html>' })).toBe('Its answer is not JSON.');
  const api = { base_url: 'https://a.example', token_header: 'authorization', token_word: 'Bearer', session: STEP } as never;
  expect(inSession(api, { baseUrl: 'https://b.example' })).toMatchObject({ base_url: 'https://b.example', token_header: 'x-s', token_word: '' });
});

test('a token that a renewal ends is good until it is due, and never while a renewal is under way or in doubt', () => {
  const row = { issuedAt: 0, expiresAt: 1_000_000, nextAt: 750_000, leaseUntil: null, sentEpoch: null, uncertainSince: null };
  expect(endsByRenewalAt(row, 1)).toBe(750_000);
  expect(endsByRenewalAt({ ...row, nextAt: null }, 1)).toBe(940_000);
  for (const busy of [{ leaseUntil: 5 }, { sentEpoch: 3 }, { uncertainSince: 0 }]) expect(endsByRenewalAt({ ...row, ...busy }, 1)).toBe(1);
  expect(endsByRenewalAt({ ...row, leaseUntil: 5 }, 6)).toBe(750_000); // that lease is over
});

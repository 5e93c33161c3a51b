import { expect, test } from 'vitest';
import { PLAIN_DIALECT } from '../provider/dialect.ts';
import { Secret } from '../secret.ts';
import { plainText, readTokenOutcome, type TokenOutcome } from './token-answer.ts';
import type { WireOutcome } from './wire.ts';
import { wireRecord } from './wire-record.ts';

const answer = (status: number, body: unknown, headers: Record<string, string> = {}): WireOutcome => ({
  kind: 'answer',
  status,
  headers,
  body: typeof body === 'string' ? body : JSON.stringify(body),
  cut: false,
  tookMs: 7,
});
test.each(['k7', 'sec ret+/=', 's3cret"quoted'])('a provider that echoes the secret %j is kept with it masked, whatever its length', (secret) => {
  const hides = [new Secret(secret)];
  for (const echoed of [secret, encodeURIComponent(secret), new URLSearchParams({ v: secret }).toString().slice(2)]) {
    const body = JSON.stringify({ error: 'invalid_client', error_description: `You sent ${echoed} as the secret.` });
    const seen = { kind: 'answer', status: 401, headers: { 'www-authenticate': `Basic realm="${echoed}"` }, body, cut: false, tookMs: 1, hides } as const;
    const { evidence } = readTokenOutcome(seen, PLAIN_DIALECT);
    const request = { method: 'POST', url: 'https://x.example', headers: {}, body: '', deadlineMs: 1, limitBytes: 1, hides };
    const kept = JSON.stringify([evidence, wireRecord(request, seen)]);
    expect(kept).toContain('You sent [masked] as the secret.');
    for (const one of [secret, JSON.stringify(secret).slice(1, -1)]) expect(kept).not.toContain(one);
  }
});

test.each(['constructor', '__proto__', 'toString', 'hasOwnProperty'])(
  'the error code %s is a word like any other: no native code becomes evidence',
  (error) => {
    const { kind, evidence } = readTokenOutcome(answer(400, `{"error":"${error}"}`), PLAIN_DIALECT);
    expect(['set_up_wrong', 'unclear']).toContain(kind);
    expect(JSON.stringify(evidence)).not.toContain('native code');
    expect(evidence.error).toBe(error);
  },
);

const good = { access_token: 'a', token_type: 'bearer', expires_in: 60 };

const cases: { name: string; seen: WireOutcome; kind: TokenOutcome['kind']; more?: object }[] = [
  {
    name: 'a good answer',
    seen: answer(200, { ...good, refresh_token: 'r', scope: 'x y' }),
    kind: 'tokens',
    more: { tokens: { lifeMs: 60_000, scopes: ['x', 'y'] } },
  },
  {
    name: 'a good answer without life, scope and refresh token',
    seen: answer(200, { access_token: 'a', token_type: 'Bearer', extra: 1 }),
    kind: 'tokens',
    more: { tokens: { lifeMs: null, scopes: null, refresh: null } },
  },
  { name: 'no connection', seen: { kind: 'unsent', reason: 'refused', tookMs: 1 }, kind: 'unsent' },
  { name: 'a time-out after the bytes went', seen: { kind: 'unclear', reason: 'timeout', tookMs: 1 }, kind: 'unclear' },
  { name: 'invalid_grant', seen: answer(400, { error: 'invalid_grant' }), kind: 'refused_grant' },
  { name: 'invalid_client', seen: answer(401, { error: 'invalid_client' }), kind: 'client_refused' },
  { name: 'unauthorized_client', seen: answer(400, { error: 'unauthorized_client' }), kind: 'client_refused' },
  { name: 'invalid_scope', seen: answer(400, { error: 'invalid_scope' }), kind: 'set_up_wrong' },
  { name: '429 with seconds', seen: answer(429, '', { 'retry-after': '7' }), kind: 'busy', more: { retryAfterMs: 7_000 } },
  {
    name: '429 with a date, read against its own Date',
    seen: answer(429, '', { 'retry-after': 'Mon, 23 Nov 2026 10:00:30 GMT', date: 'Mon, 23 Nov 2026 10:00:00 GMT' }),
    kind: 'busy',
    more: { retryAfterMs: 30_000 },
  },
  { name: '429 that asks for a day gets an hour', seen: answer(429, '', { 'retry-after': '86400' }), kind: 'busy', more: { retryAfterMs: 3_600_000 } },
  { name: '503 with Retry-After', seen: answer(503, '', { 'retry-after': '1' }), kind: 'busy' },
  { name: '503 without', seen: answer(503, 'down'), kind: 'unclear' },
  { name: '500 that speaks OAuth', seen: answer(500, { error: 'invalid_grant' }), kind: 'unclear' },
  { name: '200 with HTML', seen: answer(200, '<html>'), kind: 'unclear' },
  { name: '200 without a token', seen: answer(200, { token_type: 'bearer' }), kind: 'unclear' },
  { name: '200 with another token type', seen: answer(200, { ...good, token_type: 'mac' }), kind: 'unclear' },
  { name: '200 cut at the limit', seen: { ...(answer(200, good) as Extract<WireOutcome, { kind: 'answer' }>), cut: true }, kind: 'unclear' },
  { name: '403 from a gateway', seen: answer(403, 'blocked'), kind: 'unclear' },
];
test.each(cases)('$name is $kind', ({ seen, kind, more }) => {
  expect(readTokenOutcome(seen, PLAIN_DIALECT)).toMatchObject({ kind, ...more });
});

test('a provider that quotes the token in its error does not get it into our evidence', () => {
  const token = 'r.AbCdEfGhIjKlMnOpQrStUvWxYz012345';
  expect(plainText(`The token ${token} was\nused`)).toBe('The token [masked] was used');
});

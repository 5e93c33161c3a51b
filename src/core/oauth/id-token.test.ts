import { exportJWK, generateKeyPair, type JWTPayload, SignJWT } from 'jose';
import { beforeAll, expect, test } from 'vitest';
import { Secret } from '../secret.ts';
import { accountOf, checkIdToken } from './id-token.ts';

const NOW = Date.parse('2026-11-23T12:00:00Z');
const SECONDS = NOW / 1000;
const ISSUER = 'https://id.gull.example';
let [key, foreign] = [] as unknown as [Awaited<ReturnType<typeof generateKeyPair>>, Awaited<ReturnType<typeof generateKeyPair>>];
let keys: { keys: object[] };
beforeAll(async () => {
  [key, foreign] = await Promise.all([generateKeyPair('ES256', { extractable: true }), generateKeyPair('ES256', { extractable: true })]);
  keys = { keys: [{ ...(await exportJWK(key.publicKey)), kid: 'k1', alg: 'ES256' }] };
});
const GOOD: JWTPayload = { iss: 'https://id.gull.example', sub: 'u-1', aud: 'gull-1', iat: SECONDS - 5, exp: SECONDS + 600, nonce: 'n-1' };
const sign = (claims: JWTPayload, by = key, kid = 'k1') => new SignJWT(claims).setProtectedHeader({ alg: 'ES256', kid }).sign(by.privateKey);

/** OpenID Connect Core §3.1.3.7, step by step. */
test.each([
  { name: 'good', change: {}, why: null },
  { name: 'several audiences, issued to us', change: { aud: ['gull-1', 'other'], azp: 'gull-1' }, why: null },
  { name: 'another issuer', change: { iss: 'https://evil.example' }, why: 'another issuer' },
  { name: 'another audience', change: { aud: 'other' }, why: 'another client' },
  { name: 'several audiences, and not said to whom', change: { aud: ['gull-1', 'other'] }, why: 'several clients' },
  { name: 'issued to another', change: { azp: 'other' }, why: 'azp' },
  { name: 'expire', change: { exp: SECONDS - 200 }, why: 'expire' },
  { name: 'no end', change: { exp: undefined }, why: 'expire' },
  { name: 'from the future', change: { iat: SECONDS + 400 }, why: 'future' },
  { name: 'another nonce', change: { nonce: 'n-2' }, why: 'nonce' },
  { name: 'no nonce', change: { nonce: undefined }, why: 'nonce' },
  { name: 'nobody', change: { sub: '' }, why: 'names nobody' },
])('an ID token: $name', async ({ change, why }) => {
  const verdict = await checkIdToken(new Secret(await sign({ ...GOOD, ...change } as JWTPayload)), ISSUER, {
    clientId: 'gull-1',
    nonce: 'n-1',
    keys: keys as never,
    now: NOW,
  });
  if (why === null) expect(verdict).toMatchObject({ kind: 'good', claims: { sub: 'u-1' } });
  else expect(verdict).toMatchObject({ kind: 'odd', why: expect.stringContaining(why) });
});

test('a signature by another key, a foreign key id, none at all, and no JWT', async () => {
  const expected = { clientId: 'gull-1', nonce: 'n-1', keys: keys as never, now: NOW };
  const check = async (token: string) => checkIdToken(new Secret(token), ISSUER, expected);
  expect(await check(await sign(GOOD, foreign))).toMatchObject({ why: expect.stringContaining('signature') });
  expect(await check(await sign(GOOD, key, 'k2'))).toMatchObject({ why: expect.stringContaining('does not publish') });
  const b64 = (value: object) => Buffer.from(JSON.stringify(value)).toString('base64url');
  expect(await check(`${b64({ alg: 'none' })}.${b64(GOOD)}.`)).toMatchObject({ kind: 'odd' });
  expect(await check('not-a-jwt')).toMatchObject({ why: 'It is no JWT.' });
  // A provider that publishes no keys: TLS to its token endpoint stands for the signature (step 6).
  expect(await checkIdToken(new Secret(await sign(GOOD, foreign)), ISSUER, { ...expected, keys: null })).toMatchObject({ kind: 'good' });
});

test('who signed in, by a name that people know', () => {
  expect(accountOf({ sub: 'u-1', email: 'a@b.example', name: 'A' })).toEqual({ id: 'u-1', label: 'a@b.example' });
  expect(accountOf({ sub: 'u-1', name: 'A' })).toEqual({ id: 'u-1', label: 'A' });
  expect(accountOf({ sub: 'u-1' })).toEqual({ id: 'u-1', label: 'u-1' });
});

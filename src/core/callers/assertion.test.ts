import { exportJWK, generateKeyPair, type JSONWebKeySet, type JWTPayload, SignJWT } from 'jose';
import { beforeAll, expect, test } from 'vitest';
import { claimsOf, matchesClaims, verifyAssertion } from './assertion.ts';

const NOW = Date.parse('2026-11-29T12:00:00Z');
const AUDIENCES = ['https://kettle.test/oauth/token', 'https://kettle.test'];
let [keys, sign] = [] as unknown as [JSONWebKeySet, (claims: JWTPayload, header?: object) => Promise<string>];
let publicText = '';
beforeAll(async () => {
  const { privateKey, publicKey } = await generateKeyPair('ES256', { extractable: true });
  const jwk = await exportJWK(publicKey);
  keys = { keys: [{ ...jwk, kid: 'a', alg: 'ES256' }] };
  publicText = JSON.stringify(jwk);
  sign = (claims, header = {}) => new SignJWT(claims).setProtectedHeader({ alg: 'ES256', kid: 'a', ...header }).sign(privateKey);
});
const good = { iss: 'c', sub: 'c', aud: 'https://kettle.test/oauth/token', exp: NOW / 1000 + 300, jti: 'x' };
const { jti: _jti, ...withoutJti } = good;
const outcome = async (jwt: string, own = true) => {
  const read = await verifyAssertion(jwt, { keys, audiences: AUDIENCES, own, now: NOW });
  return 'claims' in read ? 'good' : read.wrong;
};
const unsigned = (header: object, claims: object) =>
  `${Buffer.from(JSON.stringify(header)).toString('base64url')}.${Buffer.from(JSON.stringify(claims)).toString('base64url')}.`;

test.each<[string, () => Promise<string> | string, RegExp]>([
  ['a good one', () => sign(good), /^good$/],
  ['audience the issuer', () => sign({ ...good, aud: ['other', 'https://kettle.test'] }), /^good$/],
  ['another audience', () => sign({ ...good, aud: 'https://elsewhere.test' }), /audience must be/],
  ['expired', () => sign({ ...good, exp: NOW / 1000 - 120 }), /expired/],
  ['a clock that is 50 s off', () => sign({ ...good, exp: NOW / 1000 - 50 }), /^good$/],
  ['good for an hour', () => sign({ ...good, exp: NOW / 1000 + 3_600 }), /more than 10 minutes/],
  ['without jti', () => sign({ ...withoutJti }), /jti is missing/],
  ['not yet', () => sign({ ...good, nbf: NOW / 1000 + 600 }), /nbf/],
  ['alg none', () => unsigned({ alg: 'none', kid: 'a' }, good), /algorithm is not|not a signed/],
  [
    'HMAC with the public key',
    () => new SignJWT(good).setProtectedHeader({ alg: 'HS256', kid: 'a' }).sign(new TextEncoder().encode(publicText)),
    /algorithm is not/,
  ],
  [
    'another key of the same name',
    async () => new SignJWT(good).setProtectedHeader({ alg: 'ES256', kid: 'a' }).sign((await generateKeyPair('ES256')).privateKey),
    /No key/,
  ],
  ['a key that nobody registered', () => sign(good, { kid: 'b' }), /No key/],
  [
    'changed after signing',
    async () => (await sign(good)).replace(/\.[^.]+\./, `.${Buffer.from(JSON.stringify({ ...good, sub: 'd' })).toString('base64url')}.`),
    /No key/,
  ],
  ['no JWT', () => 'hello', /not a signed JWT/],
])('an assertion: %s', async (_name, jwt, expected) => {
  expect(await outcome(await jwt())).toMatch(expected);
});

test('a workload token needs no jti and may live long; claims match exactly, or by their beginning', async () => {
  expect(await outcome(await sign({ ...withoutJti, exp: NOW / 1000 + 86_400 }), false)).toBe('good');
  const claims = { sub: 'repo:saltmarsh/timetable:ref:main', aud: ['a', 'b'], admin: true };
  expect(matchesClaims(claims, { sub: 'repo:saltmarsh/timetable:*' })).toBe(true);
  expect(matchesClaims(claims, { sub: 'repo:saltmarsh/time' })).toBe(false);
  expect(matchesClaims(claims, { aud: 'b', admin: 'true' })).toBe(true);
  expect(matchesClaims(claims, { toString: 'x*' })).toBe(false);
  expect(matchesClaims(claims, {})).toBe(false);
  expect(claimsOf('x.y.z')).toBe(null);
});

import { generateKeyPairSync } from 'node:crypto';
import fc from 'fast-check';
import { decodeJwt } from 'jose';
import { expect, test } from 'vitest';
import { storedDefinition } from '../provider/definition.ts';
import { Secret } from '../secret.ts';
import { authorizationUrl } from './authorization-request.ts';
import { deviceAuthorizationRequest, pollingStep, readDeviceAuthorization } from './device.ts';
import { readTokenOutcome } from './token-answer.ts';
import { tokenRequest } from './token-request.ts';
import { loopbackPort, readPasted, sameButPort, waysOf } from './ways.ts';
import type { WireOutcome } from './wire.ts';

const DEFINITION = storedDefinition({
  name: 'gull',
  title: 'Gull',
  server: {
    issuer: 'https://id.gull.example',
    authorization_endpoint: 'https://id.gull.example/authorize',
    token_endpoint: 'https://id.gull.example/token',
    device_authorization_endpoint: 'https://id.gull.example/device',
    grant_types_supported: ['authorization_code', 'refresh_token', 'urn:ietf:params:oauth:grant-type:device_code'],
  },
  dialect: { resource: 'https://api.gull.example', assertion_grant: { scope_in: 'claim' } },
  apis: [{ name: 'nests', title: 'Nests', base_url: 'https://api.gull.example' }],
});
const once = { now: Date.parse('2026-11-23T12:00:00Z'), deadlineMs: 1_000, jti: 'j-1' };
const BASIC = { clientId: 'gull-1', method: 'client_secret_basic' as const, secret: new Secret('s3cret'), secretId: null };
const answer = (status: number, body: unknown, headers: Record<string, string> = {}): WireOutcome => ({
  kind: 'answer',
  status,
  headers,
  body: typeof body === 'string' ? body : JSON.stringify(body),
  cut: false,
  tookMs: 5,
});

test('a service account asks with an assertion in the name of an account; automatically it needs no other authentication (RFC 7523 §2.1)', async () => {
  const pem = generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey.export({ type: 'pkcs8', format: 'pem' }).toString();
  const credentials = { clientId: 'gull-1', method: 'private_key_jwt' as const, secret: new Secret(pem), secretId: null };
  const asks = { grantType: 'jwt_bearer' as const, subject: 'desk@gull.example', scopes: ['a', 'b'] };
  const sent = new URLSearchParams((await tokenRequest(DEFINITION, credentials, asks, once)).body);
  expect([...sent.keys()].sort()).toEqual(['assertion', 'grant_type', 'resource']);
  expect(sent.get('grant_type')).toBe('urn:ietf:params:oauth:grant-type:jwt-bearer');
  expect(decodeJwt(sent.get('assertion') ?? '')).toMatchObject({
    iss: 'gull-1',
    sub: 'desk@gull.example',
    aud: 'https://id.gull.example/token',
    scope: 'a b',
    jti: 'j-1',
  });
  const plain = { ...DEFINITION, dialect: { ...DEFINITION.dialect, assertion_grant: { scope_in: 'parameter' as const, client_authentication: true } } };
  const both = new URLSearchParams((await tokenRequest(plain, credentials, asks, { ...once, jti: 'j-2' })).body);
  expect([both.get('scope'), both.has('client_assertion'), decodeJwt(both.get('assertion') ?? '').scope]).toEqual(['a b', true, undefined]);
});

test('a resource stands in authorization and token requests (RFC 8707 §2); a nonce and a hint only where they belong', async () => {
  const sent = (await tokenRequest(DEFINITION, BASIC, { grantType: 'refresh_token', refreshToken: new Secret('r') }, once)).body;
  expect(new URLSearchParams(sent).get('resource')).toBe('https://api.gull.example');
  const url = (scopes: string[], dialect = {}) =>
    new URL(
      authorizationUrl(
        { ...DEFINITION, dialect: { ...DEFINITION.dialect, ...dialect } },
        { clientId: 'c', redirectUri: 'https://x.example/cb', scopes, state: 's', verifier: 'v', nonce: 'n', expectedAccount: 'desk@gull.example' },
      ),
    ).searchParams;
  expect([url(['a']).get('resource'), url(['a']).get('nonce'), url(['a']).get('login_hint')]).toEqual(['https://api.gull.example', null, null]);
  expect([url(['openid']).get('nonce'), url(['openid']).get('login_hint')]).toEqual(['n', 'desk@gull.example']);
  expect(url(['a'], { login_hint: 'who' }).get('who')).toBe('desk@gull.example');
});

test.each([
  {
    name: 'as RFC 8628 has it',
    body: { device_code: 'd', user_code: 'AB-CD', verification_uri: 'https://gull.example/d', expires_in: 60 },
    want: { lifeMs: 60_000, intervalMs: 5_000 },
  },
  {
    name: 'numbers as text, and a pause of its own',
    body: { device_code: 'd', user_code: 'AB-CD', verification_uri: 'https://gull.example/d', expires_in: '60', interval: '2' },
    want: { lifeMs: 60_000, intervalMs: 2_000 },
  },
  { name: 'a page that is no address', body: { device_code: 'd', user_code: 'AB', verification_uri: 'javascript:alert(1)', expires_in: 60 }, want: null },
  { name: 'no lifetime', body: { device_code: 'd', user_code: 'AB', verification_uri: 'https://gull.example/d' }, want: null },
  { name: 'a page of HTML', body: '<html>', want: null },
])('a device authorization answer: $name', ({ body, want }) => {
  const read = readDeviceAuthorization(answer(200, body), DEFINITION);
  if (want === null) expect(read).toMatchObject({ kind: 'failed' });
  else expect(read).toMatchObject({ kind: 'given', device: want });
});

test('the device request names the client and the scopes, and authenticates as the client does', async () => {
  const sent = await deviceAuthorizationRequest(DEFINITION, BASIC, ['a', 'b'], once);
  expect([sent.url, new URLSearchParams(sent.body).get('scope'), sent.headers.authorization?.startsWith('Basic ')]).toEqual([
    'https://id.gull.example/device',
    'a b',
    true,
  ]);
});

test.each([
  { name: 'nobody has decided', outcome: answer(400, { error: 'authorization_pending' }), want: { kind: 'wait', intervalMs: 5_000 } },
  { name: 'slower, by five seconds', outcome: answer(400, { error: 'slow_down' }), want: { kind: 'wait', intervalMs: 10_000 } },
  { name: 'refused', outcome: answer(400, { error: 'access_denied' }), want: { kind: 'ended' } },
  { name: 'expire', outcome: answer(400, { error: 'expired_token' }), want: { kind: 'ended' } },
  { name: 'tokens', outcome: answer(200, { access_token: 'a', token_type: 'Bearer' }), want: { kind: 'ended' } },
  { name: 'nothing came: twice as slowly', outcome: { kind: 'unclear' as const, reason: 'timeout', tookMs: 1 }, want: { kind: 'wait', intervalMs: 10_000 } },
  { name: 'asked us to wait', outcome: answer(429, {}, { 'retry-after': '30' }), want: { kind: 'wait', intervalMs: 30_000 } },
])('polling: $name (RFC 8628 §3.5)', ({ outcome, want }) => {
  expect(pollingStep(readTokenOutcome(outcome as WireOutcome, DEFINITION.dialect), 5_000)).toEqual(want);
});

test('the ways open to a connection, the usual one first', () => {
  const ours = 'https://rk.example';
  const web = { type: 'web', redirectUri: `${ours}/oauth/callback/gull/x` };
  const desktop = { type: 'desktop', redirectUri: 'http://127.0.0.1:20001/oauth/callback/gull/x' };
  expect(waysOf(DEFINITION, web, 'authorization_code', ours)).toEqual(['redirect', 'pasted', 'device']);
  expect(waysOf(DEFINITION, desktop, 'authorization_code', ours)).toEqual(['loopback', 'pasted', 'device']);
  expect(waysOf(DEFINITION, { type: 'printed_code', redirectUri: '' }, 'authorization_code', ours)).toEqual(['printed']);
  expect(waysOf(DEFINITION, web, 'jwt_bearer', ours)).toEqual(['by_itself']);
  // A public address that was changed: the browser cannot come back automatically any more, and the address is pasted.
  expect(waysOf(DEFINITION, { type: 'web', redirectUri: 'https://old.example/cb' }, 'authorization_code', ours)).toEqual(['pasted', 'device']);
});

test('a loopback redirect URI may differ by its port and by nothing else', () => {
  const registered = 'http://127.0.0.1:20001/oauth/callback/gull/x';
  fc.assert(fc.property(fc.integer({ min: 1024, max: 65_535 }), (port) => sameButPort(registered, registered.replace('20001', String(port)))));
  for (const other of [
    'http://127.0.0.1:20001/oauth/callback/gull/y',
    'https://127.0.0.1:20001/oauth/callback/gull/x',
    'http://localhost:20001/oauth/callback/gull/x',
    `${registered}?a=1`,
    `${registered}#a`,
  ])
    expect(sameButPort(registered, other), other).toBe(false);
  expect(sameButPort('https://rk.example:1/cb', 'https://rk.example:2/cb')).toBe(false);
  fc.assert(fc.property(fc.string(), fc.string(), (provider, client) => loopbackPort(provider, client) >= 20_000 && loopbackPort(provider, client) < 30_000));
});

test('what people paste: an address or a code, through whatever white space; anything else is nothing', () => {
  fc.assert(
    fc.property(
      fc.stringMatching(/^[A-Za-z0-9._~-]{1,60}$/),
      fc.stringMatching(/^[A-Za-z0-9_-]{1,43}$/),
      fc.constantFrom('', ' ', '\n', '\r\n  '),
      fc.nat(),
      (code, state, space, at) => {
        const address = `http://127.0.0.1:20001/cb?code=${encodeURIComponent(code)}&state=${state}`;
        const cut = 10 + (at % (address.length - 10));
        const read = readPasted(`${space}${address.slice(0, cut)}${space}${address.slice(cut)}`);
        return read?.whole === true && read.query.code === code && read.query.state === state && read.spaced === (space !== '');
      },
    ),
  );
  expect(readPasted('  abc\ndef ')).toEqual({ query: { code: 'abcdef' }, whole: false, spaced: true });
  expect(readPasted('?code=x&state=y')).toMatchObject({ query: { code: 'x', state: 'y' }, whole: true });
  expect([readPasted('   '), readPasted('https://gull.example/'), readPasted('\u00e4\u00f6')]).toEqual([null, null, null]);
});

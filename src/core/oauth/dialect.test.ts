import { createPublicKey, generateKeyPairSync } from 'node:crypto';
import fc from 'fast-check';
import { calculateJwkThumbprint, decodeProtectedHeader, type JWK, jwtVerify } from 'jose';
import { expect, test } from 'vitest';
import { makeCertificate } from '../../../testing/certificate.ts';
import { ProviderDefinition } from '../provider/definition.ts';
import { Dialect } from '../provider/dialect.ts';
import { Secret } from '../secret.ts';
import { authorizationUrl } from './authorization-request.ts';
import { chooseAlgorithm, keyNameProblem, openClientKey, readClientKey } from './client-keys.ts';
import { revocationRequest } from './revocation.ts';
import { readTokenOutcome } from './token-answer.ts';
import { tokenRequest } from './token-request.ts';
import type { WireOutcome } from './wire.ts';

const ONCE = { now: 1_790_000_000_000, deadlineMs: 1000, jti: 'only-once' };
const provider = (dialect: object = {}, methods = ['client_secret_basic', 'private_key_jwt']): ProviderDefinition =>
  ProviderDefinition.parse({
    name: 'any',
    title: 'Any',
    server: {
      issuer: 'https://id.any.example',
      authorization_endpoint: 'https://id.any.example/go?kept=1',
      token_endpoint: 'https://id.any.example/token',
      token_endpoint_auth_methods_supported: methods,
      grant_types_supported: ['authorization_code', 'client_credentials'],
    },
    dialect,
    apis: [{ name: 'api', title: 'API', base_url: 'https://api.any.example' }],
  });
const basic = { clientId: 'a:b+c', secret: new Secret('p%20q:+'), secretId: null, method: 'client_secret_basic' as const };
const own = { grantType: 'client_credentials' as const, scopes: ['x', 'y'] };

test.each([
  { name: 'as the RFCs say', dialect: {}, type: 'application/x-www-form-urlencoded', has: ['scope=x+y', 'grant_type=client_credentials'] },
  { name: 'commas', dialect: { scope_separator: ',' }, type: 'application/x-www-form-urlencoded', has: ['scope=x%2Cy'] },
  { name: 'further parameters', dialect: { token_parameters: { audience: 'qm' } }, type: 'application/x-www-form-urlencoded', has: ['audience=qm'] },
  { name: 'JSON', dialect: { token_request: 'json', token_headers: { 'x-version': '2' } }, type: 'application/json', has: ['"scope":"x y"'] },
])('a token request, $name', async ({ dialect, type, has }) => {
  const request = await tokenRequest(provider(dialect), basic, own, ONCE);
  expect(request.headers['content-type']).toBe(type);
  for (const part of has) expect(request.body).toContain(part);
  if ('token_headers' in dialect) expect(request.headers['x-version']).toBe('2');
});

test('Basic raw joins id and secret as they are; by default both are encoded first', async () => {
  const pair = async (dialect: object) =>
    Buffer.from(((await tokenRequest(provider(dialect), basic, own, ONCE)).headers.authorization ?? '').slice(6), 'base64').toString();
  expect([await pair({ basic_encoding: 'raw' }), await pair({})]).toEqual(['a:b+c:p%20q:+', 'a%3Ab%2Bc:p%2520q%3A%2B']);
});

test('parameters of the authorization request are added, ours cannot be replaced, and those of the endpoint stay', () => {
  const url = new URL(
    authorizationUrl(provider({ authorization_parameters: { display: 'board' }, pkce: 'none', scope_separator: ';' }), {
      clientId: 'c',
      redirectUri: 'https://us.example/cb',
      scopes: ['a', 'b'],
      state: 's',
      verifier: null,
    }),
  );
  expect(Object.fromEntries(url.searchParams)).toMatchObject({ kept: '1', display: 'board', scope: 'a;b', state: 's' });
  for (const name of ['state', 'redirect_uri', 'client_id']) expect(() => provider({ authorization_parameters: { [name]: 'x' } })).toThrow();
  for (const name of ['client_secret', 'refresh_token', 'grant_type']) expect(() => provider({ token_parameters: { [name]: 'x' } })).toThrow();
  for (const name of ['authorization', 'host', 'cookie']) expect(() => provider({ token_headers: { [name]: 'x' } })).toThrow();
});

test.each(['RS256', 'PS256', 'ES256'] as const)(
  'an assertion signed with %s names its key as the dialect asks, and verifies (RFC 7523 §3)',
  async (algorithm) => {
    const made = await makeCertificate('test', { ec: algorithm === 'ES256' });
    const { pem, facts } = await readClientKey(`notes before\n${made.certificate}\n${made.pem}`, 'certificate');
    for (const [keyName, wanted] of [
      ['kid', facts.kid],
      ['x5t', facts.x5t],
      ['x5t#S256', facts.x5tS256],
    ] as const) {
      const definition = provider({ client_assertion: { algorithm, key_name: keyName } });
      expect([chooseAlgorithm(facts.type, algorithm, undefined), keyNameProblem(facts, keyName)]).toEqual([{ algorithm }, null]);
      const request = await tokenRequest(definition, { clientId: 'c', secret: pem, secretId: null, method: 'private_key_jwt' }, own, ONCE);
      const form = new URLSearchParams(request.body);
      const assertion = form.get('client_assertion') ?? '';
      expect(decodeProtectedHeader(assertion)).toMatchObject({ alg: algorithm, [keyName]: wanted });
      const { payload } = await jwtVerify(assertion, createPublicKey((await openClientKey(pem)).key), {
        currentDate: new Date(ONCE.now),
        audience: definition.server.token_endpoint,
        issuer: 'c',
      });
      expect(payload).toMatchObject({ sub: 'c', jti: 'only-once', exp: ONCE.now / 1000 + 120 });
      expect([form.has('client_secret'), request.headers.authorization]).toEqual([false, undefined]);
    }
  },
);

test('a key is read from what people paste, and what is wrong with it is said', async () => {
  const [one, other, ec] = [await makeCertificate('one'), await makeCertificate('other'), await makeCertificate('ec', { ec: true })];
  const encrypted = generateKeyPairSync('rsa', {
    modulusLength: 2048,
    privateKeyEncoding: { type: 'pkcs8', format: 'pem', cipher: 'aes-256-cbc', passphrase: 'x' },
    publicKeyEncoding: { type: 'spki', format: 'pem' },
  });
  for (const [pasted, kind, why] of [
    ['no block at all', 'key', /no PEM block/],
    [one.certificate, 'certificate', /no private key/],
    [one.pem + other.pem, 'certificate', /several private keys/],
    [encrypted.privateKey, 'key', /encrypted with a password/],
    [String(one.key.export({ type: 'pkcs8', format: 'pem' })), 'certificate', /no certificate/],
    [String(one.key.export({ type: 'pkcs8', format: 'pem' })) + other.certificate, 'certificate', /another private key/],
    [one.pem.replace(/MII/g, 'XII'), 'key', /cannot be read/],
  ] as const)
    await expect(readClientKey(pasted, kind)).rejects.toThrow(why);
  const bare = await readClientKey(String(one.key.export({ type: 'pkcs8', format: 'pem' })), 'key');
  expect(keyNameProblem(bare.facts, 'x5t')).toMatch(/came without one/);
  // RFC 7638 §3.1: the thumbprint of the public key, as every other program computes it.
  expect((await readClientKey(ec.pem, 'key')).facts.kid).toBe(await calculateJwkThumbprint(createPublicKey(ec.key).export({ format: 'jwk' }) as JWK));
});

test.each<[type: string, preferred: 'RS256' | 'PS256', listed: string[] | undefined, chosen: 'ES256' | 'PS512' | undefined, expected: string | RegExp]>([
  ['RSA 2048', 'RS256', undefined, undefined, 'RS256'],
  ['RSA 2048', 'PS256', undefined, undefined, 'PS256'],
  ['RSA 2048', 'RS256', ['PS256', 'ES256'], undefined, 'PS256'],
  ['EC prime256v1', 'RS256', ['RS256', 'ES256'], undefined, 'ES256'],
  ['EC prime256v1', 'RS256', undefined, undefined, 'ES256'],
  ['EC secp521r1', 'RS256', undefined, undefined, 'ES512'],
  ['ED25519', 'RS256', ['EdDSA'], undefined, 'EdDSA'],
  ['RSA 2048', 'RS256', ['RS256'], 'PS512', 'PS512'],
  ['EC prime256v1', 'RS256', ['RS256', 'PS256'], undefined, /takes RS256, PS256; a key of this type \(EC prime256v1\) signs with ES256/],
  ['RSA 2048', 'RS256', undefined, 'ES256', /not with ES256/],
  ['EC secp256k1', 'RS256', undefined, undefined, /cannot sign here/],
])('a key of type %s, %s preferred, %j listed, %s chosen: %s', (type, preferred, listed, chosen, expected) => {
  const choice = chooseAlgorithm(type, preferred, listed, chosen);
  if (typeof expected === 'string') expect(choice).toEqual({ algorithm: expected });
  else expect('why' in choice && choice.why).toMatch(expected);
});

test('one client, two keys with an algorithm and a key id each; an id that was left out is not sent', async () => {
  const ec = await makeCertificate('ec', { ec: true });
  const { pem } = await readClientKey(ec.pem, 'key');
  for (const [signing, header] of [
    [
      { algorithm: 'ES256', keyId: 'registered-there' },
      { alg: 'ES256', kid: 'registered-there', typ: 'JWT' },
    ],
    [
      { algorithm: 'ES256', keyId: null },
      { alg: 'ES256', typ: 'JWT' },
    ],
  ] as const) {
    const request = await tokenRequest(provider({}), { clientId: 'c', secret: pem, secretId: null, method: 'private_key_jwt', signing }, own, ONCE);
    expect(decodeProtectedHeader(new URLSearchParams(request.body).get('client_assertion') ?? '')).toEqual(header);
  }
});

const answer = (status: number, body: unknown): WireOutcome => ({ kind: 'answer', status, headers: {}, body: JSON.stringify(body), cut: false, tookMs: 1 });
const moved = {
  token_answer: {
    access_token: '/data/token',
    refresh_token: '/data/more/again',
    expires_in: '/data/valid',
    scope: '/data/rights',
    token_type: 'ignored',
    api_base_url: '/api',
    account_id: '/who/id',
  },
};
test.each([
  {
    name: 'members at their own places',
    dialect: moved,
    body: { data: { token: 't', valid: 9, rights: ['a', 'b'], more: { again: 'r' } }, api: 'https://x.example', who: { id: 7 } },
    status: 200,
    sees: { kind: 'tokens', tokens: { lifeMs: 9000, scopes: ['a', 'b'], apiBaseUrl: 'https://x.example', account: { id: '7', label: '7' } } },
  },
  {
    name: 'a lifetime as text is odd',
    dialect: {},
    body: { access_token: 't', token_type: 'bearer', expires_in: '60' },
    status: 200,
    sees: { kind: 'unclear' },
  },
  {
    name: 'unless the dialect shows it',
    dialect: { text_numbers: true },
    body: { access_token: 't', token_type: 'bearer', expires_in: ' 60 ' },
    status: 200,
    sees: { kind: 'tokens', tokens: { lifeMs: 60_000 } },
  },
  {
    name: 'scopes joined by commas',
    dialect: { scope_separator: ',' },
    body: { access_token: 't', token_type: 'bearer', scope: 'a, b' },
    status: 200,
    sees: { kind: 'tokens', tokens: { scopes: ['a', 'b'] } },
  },
  {
    name: 'an error with status 200, in its own words',
    dialect: { error_at: '/fault/code', error_words: { 'E-7': 'invalid_grant' } },
    body: { fault: { code: 'E-7' }, message: 'gone' },
    status: 200,
    sees: { kind: 'refused_grant', evidence: { error: 'invalid_grant', description: 'E-7: gone' } },
  },
  {
    name: 'nothing at the place of errors is no error',
    dialect: { error_at: '/fault' },
    body: { fault: null, access_token: 't', token_type: 'bearer' },
    status: 200,
    sees: { kind: 'tokens' },
  },
  {
    name: 'busy, in its own words',
    dialect: { error_at: '/fault', error_words: { B: 'temporarily_unavailable' } },
    body: { fault: 'B' },
    status: 200,
    sees: { kind: 'busy' },
  },
])('an answer: $name', ({ dialect, body, status, sees }) => expect(readTokenOutcome(answer(status, body), Dialect.parse(dialect))).toMatchObject(sees));

test('whatever a provider answers, it is sorted into a class, and no token gets into the evidence', () => {
  const token = 'tok-AbCdEfGhIjKlMnOpQrStUvWxYz0123456789';
  const value = fc.oneof(fc.constant(token), fc.string(), fc.integer(), fc.constant(null), fc.array(fc.string()), fc.record({ code: fc.constant(token) }));
  fc.assert(
    fc.property(
      fc.dictionary(fc.constantFrom('access_token', 'refresh_token', 'expires_in', 'error', 'error_description', 'message', 'data'), value),
      fc.constantFrom(200, 400, 401, 500),
      (body, status) => {
        const seen = readTokenOutcome(answer(status, body), Dialect.parse({ error_at: '/error', text_numbers: true }));
        expect(JSON.stringify(seen)).not.toContain(token);
      },
    ),
  );
});

test.each([
  {
    name: 'RFC 7009',
    server: { revocation_endpoint: 'https://id.any.example/revoke' },
    dialect: {},
    wants: { method: 'POST', url: 'https://id.any.example/revoke', body: 'token=r&token_type_hint=refresh_token' },
  },
  {
    name: 'by a query',
    server: {},
    dialect: { revocation: { address: 'https://id.any.example/forget', method: 'DELETE', place: 'query', parameter: 'refresh' } },
    wants: { method: 'DELETE', url: 'https://id.any.example/forget?refresh=r' },
  },
  {
    name: 'by a header',
    server: {},
    dialect: { revocation: { address: 'https://api.any.example/me', method: 'DELETE', place: 'header', which: 'access_token' } },
    wants: { method: 'DELETE', headers: { authorization: 'Bearer a' } },
  },
  { name: 'none', server: {}, dialect: {}, wants: null },
])('revocation: $name', async ({ server, dialect, wants }) => {
  const definition = provider(dialect);
  const tokens = { access: new Secret('a'), refresh: new Secret('r') };
  const request = await revocationRequest({ ...definition, server: { ...definition.server, ...server } }, basic, tokens, ONCE);
  if (wants === null) expect(request).toBeNull();
  else expect(request).toMatchObject(wants);
});

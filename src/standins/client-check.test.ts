import { generateKeyPairSync } from 'node:crypto';
import { SignJWT } from 'jose';
import { expect, test } from 'vitest';
import { checkClient } from './client-check.ts';
import type { ServerParts } from './server-parts.ts';

const NOW = Date.UTC(2026, 10, 28);
const SECRET = 'a:b%20c+d';
const CLIENT = {
  id: 'boat office',
  realm: 'north',
  secrets: [
    { value: SECRET, endsAt: null },
    { value: 'over', endsAt: NOW - 1 },
  ],
  certificates: [],
};

/** A provider that takes these ways of authentication. */
const parts = (methods: string[], { raw = false, realm = 'north' } = {}): ServerParts =>
  ({
    now: () => NOW,
    realm,
    store: { state: { clients: { [CLIENT.id]: CLIENT } } },
    definition: {
      server: { token_endpoint: 'https://id.example/token', token_endpoint_auth_methods_supported: methods },
      dialect: { basic_encoding: raw ? 'raw' : 'form', client_assertion: { algorithm: 'RS256', key_name: 'kid', audience: 'token_endpoint' } },
    },
  }) as unknown as ServerParts;
const basic = (id: string, secret: string) => ({ authorization: `Basic ${Buffer.from(`${id}:${secret}`).toString('base64')}` });
const encoded = (text: string) => encodeURIComponent(text).replaceAll('%20', '+');
const posted = (client_secret: string, client_id = CLIENT.id) => ({ body: { client_id, client_secret } });
const BOTH = ['client_secret_basic', 'client_secret_post'];

test.each([
  { name: 'Basic, form-encoded first (RFC 6749 §2.3.1)', at: parts(BOTH), given: { headers: basic(encoded(CLIENT.id), encoded(SECRET)) }, good: true },
  { name: 'Basic that is not encoded, where it must be', at: parts(BOTH), given: { headers: basic(CLIENT.id, SECRET) }, good: false },
  {
    name: 'Basic as it is, at a provider that does not decode',
    at: parts(BOTH, { raw: true }),
    given: { headers: basic(CLIENT.id, SECRET.slice(0)) },
    good: true,
  },
  {
    name: 'Basic encoded, at a provider that does not decode',
    at: parts(BOTH, { raw: true }),
    given: { headers: basic(encoded(CLIENT.id), encoded(SECRET)) },
    good: false,
  },
  { name: 'in the body', at: parts(BOTH), given: posted(SECRET), good: true },
  { name: 'in the body, where only Basic is taken', at: parts(['client_secret_basic']), given: posted(SECRET), good: false },
  {
    name: 'Basic, where only the body is taken',
    at: parts(['client_secret_post']),
    given: { headers: basic(encoded(CLIENT.id), encoded(SECRET)) },
    good: false,
  },
  { name: 'a wrong secret of the same length', at: parts(BOTH), given: posted(SECRET.replace('a', 'z')), good: false },
  { name: 'a secret that is over', at: parts(BOTH), given: posted('over'), good: false },
  { name: 'a client of another region', at: parts(BOTH, { realm: 'south' }), given: posted(SECRET), good: false },
  { name: 'an unknown client', at: parts(BOTH), given: posted(SECRET, 'nobody'), good: false },
  { name: 'a public client, where those are taken', at: parts(['none']), given: { body: { client_id: CLIENT.id } }, good: true },
  { name: 'no secret, where one is needed', at: parts(BOTH), given: { body: { client_id: CLIENT.id } }, good: false },
  { name: 'an assertion that is no JWT', at: parts(['private_key_jwt']), given: { body: { client_assertion: 'a.b.c' } }, good: false },
])('a stand-in and a client that shows itself by $name', async ({ at, given, good }) => {
  const found = await checkClient(at, { headers: {}, body: {}, ...given } as never);
  expect(found?.client.id ?? null).toBe(good ? CLIENT.id : null);
});

test('an assertion signed with a key that nobody registered proves nothing', async () => {
  const { privateKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
  const client_assertion = await new SignJWT({ jti: '1' })
    .setProtectedHeader({ alg: 'RS256', kid: 'x' })
    .setIssuer(CLIENT.id)
    .setSubject(CLIENT.id)
    .setAudience('https://id.example/token')
    .setExpirationTime('5m')
    .sign(privateKey);
  expect(await checkClient(parts(['private_key_jwt']), { headers: {}, body: { client_assertion } } as never)).toBeNull();
});

import { readFileSync } from 'node:fs';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { readDefinition } from '../provider/read-definition.ts';
import { Secret } from '../secret.ts';
import { authorizationUrl } from './authorization-request.ts';
import { readCallback } from './callback.ts';
import { noRefreshTokenRemedy } from './offline.ts';
import { codeChallenge } from './pkce.ts';
import { compareRedirectUris } from './redirect-uri.ts';
import { tokenRequest } from './token-request.ts';

const eelgrass = readDefinition(readFileSync(new URL('../../../definitions/eelgrass.yaml', import.meta.url), 'utf8'));

test('the challenge of RFC 7636 Appendix B', () => {
  expect(codeChallenge('dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk')).toBe('E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM');
});

test('the authorization address carries all that RFC 6749 and RFC 7636 ask for', () => {
  const url = new URL(authorizationUrl(eelgrass, { clientId: 'c', redirectUri: 'https://us.example/cb', scopes: ['a', 'b'], state: 's', verifier: 'v' }));
  expect(Object.fromEntries(url.searchParams)).toEqual({
    response_type: 'code',
    client_id: 'c',
    redirect_uri: 'https://us.example/cb',
    scope: 'a b',
    state: 's',
    code_challenge: codeChallenge('v'),
    code_challenge_method: 'S256',
  });
});

test.each([
  { name: 'offline access (OpenID Connect Core §11)', scopes: ['openid', 'offline_access'], prompt: 'consent' },
  { name: 'a reconnect', scopes: ['openid'], reconsent: true, prompt: 'consent' },
  { name: 'a first consent', scopes: ['openid'], prompt: null },
  { name: 'a provider without OpenID', scopes: ['tables.read'], reconsent: true, prompt: null },
  { name: 'one that knows it anyway', scopes: ['tables.read'], reconsent: true, dialect: { consent_prompt: 'when_needed' }, prompt: 'consent' },
  { name: 'a dialect that says never', scopes: ['openid', 'offline_access'], dialect: { consent_prompt: 'never' }, prompt: null },
  { name: 'a dialect that says always', scopes: ['tables.read'], dialect: { consent_prompt: 'always' }, prompt: 'consent' },
  {
    name: 'a dialect with a prompt of its own',
    scopes: ['openid', 'offline_access'],
    dialect: { authorization_parameters: { prompt: 'login' } },
    prompt: 'login',
  },
  { name: 'metadata that lists others', scopes: ['openid', 'offline_access'], server: { prompt_values_supported: ['login'] }, prompt: null },
] as { name: string; scopes: string[]; reconsent?: boolean; dialect?: object; server?: object; prompt: string | null }[])(
  'prompt=consent with $name: $prompt',
  ({ scopes, reconsent = false, dialect, server, prompt }) => {
    const definition = { ...eelgrass, server: { ...eelgrass.server, ...server }, dialect: { ...eelgrass.dialect, ...dialect } };
    const url = new URL(authorizationUrl(definition, { clientId: 'c', redirectUri: 'https://us.example/cb', scopes, state: 's', verifier: null, reconsent }));
    expect(url.searchParams.get('prompt')).toBe(prompt);
  },
);

test('what was done already is never advised', () => {
  expect(noRefreshTokenRemedy(eelgrass, ['openid', 'offline_access'])).toMatch(/was requested.*refresh_token grant type/);
  expect(noRefreshTokenRemedy(eelgrass, ['openid'])).toMatch(/Add the scope offline_access/);
});

test('Basic and post carry any id and secret so that a provider reads them back unchanged (RFC 6749 §2.3.1)', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.string({ unit: 'grapheme', minLength: 1 }),
      fc.string({ unit: 'grapheme', minLength: 1 }),
      fc.boolean(),
      async (clientId, text, basic) => {
        const request = await tokenRequest(
          eelgrass,
          { clientId, secret: new Secret(text), secretId: null, method: basic ? 'client_secret_basic' : 'client_secret_post' },
          { grantType: 'refresh_token', refreshToken: new Secret('r') },
          { now: 0, deadlineMs: 1000, jti: 'j' },
        );
        const form = new URLSearchParams(request.body);
        const pair = Buffer.from((request.headers.authorization ?? '').replace('Basic ', ''), 'base64').toString('utf8');
        const read = basic ? pair.split(':').map((part) => new URLSearchParams(`v=${part}`).get('v')) : [form.get('client_id'), form.get('client_secret')];
        expect(read).toEqual([clientId, text]);
        expect(form.has('client_secret')).toBe(!basic);
      },
    ),
  );
});

test.each([
  { name: 'a code with the right issuer', query: { code: 'c', iss: eelgrass.server.issuer }, kind: 'code' },
  { name: 'a code without the promised issuer (RFC 9207)', query: { code: 'c' }, kind: 'odd' },
  { name: 'a code with another issuer', query: { code: 'c', iss: 'https://id.other.example' }, kind: 'odd' },
  { name: 'a rejection', query: { error: 'access_denied', iss: eelgrass.server.issuer }, kind: 'refused' },
  { name: 'a rejection without the issuer', query: { error: 'access_denied' }, kind: 'odd' },
  { name: 'neither code nor error', query: { iss: eelgrass.server.issuer }, kind: 'odd' },
  { name: 'a repeated code', query: { code: ['a', 'b'], iss: eelgrass.server.issuer }, kind: 'odd' },
])('a callback with $name is $kind', ({ query, kind }) => expect(readCallback(eelgrass, query).kind).toBe(kind));

const OURS = 'https://kettle.example/oauth/callback/eelgrass/timetable';
test.each([
  { theirs: OURS, says: null },
  { theirs: `${OURS}/`, says: 'a slash too many' },
  { theirs: ` ${OURS}`, says: 'a space or line break' },
  { theirs: OURS.replace('https', 'http'), says: 'starts with http://' },
  { theirs: OURS.replace('kettle', 'ketle'), says: 'the host ketle.example' },
  { theirs: OURS.replace('.example', '.example:8443'), says: 'the port 8443' },
  { theirs: OURS.replace('timetable', 'Timetable'), says: 'upper and lower case at character 48' },
  { theirs: OURS.slice(0, -3), says: 'ends too early' },
  { theirs: `${OURS}-2`, says: 'goes on after ours ends' },
  { theirs: OURS.replace('callback', 'calback'), says: 'differ at character' },
])('registered as $theirs: $says', ({ theirs, says }) => {
  const verdict = compareRedirectUris(OURS, theirs);
  if (says === null) expect(verdict.kind).toBe('same');
  else expect(verdict).toMatchObject({ kind: 'differs', says: expect.stringContaining(says) });
});

test('the difference named is the first one', () => {
  fc.assert(
    fc.property(fc.webUrl(), fc.webUrl(), (a, b) => {
      const verdict = compareRedirectUris(a, b);
      if (verdict.kind === 'same') {
        expect(a).toBe(b);
        return;
      }
      expect(a.slice(0, verdict.at)).toBe(b.slice(0, verdict.at));
      expect(a[verdict.at]).not.toBe(b[verdict.at]);
    }),
  );
});

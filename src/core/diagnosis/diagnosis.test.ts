import fc from 'fast-check';
import { expect, test } from 'vitest';
import { storedDefinition } from '../provider/definition.ts';
import { PLAIN_DIALECT } from '../provider/dialect.ts';
import { requirementsOf } from '../provider/requirements.ts';
import { Secret } from '../secret.ts';
import { type CallSeen, diagnoseCall } from './call.ts';
import { diagnoseStopPage } from './callback.ts';
import { CALL_CAUSES, CAUSES, causeFacts, SIDES, VERDICTS } from './causes.ts';
import { shownClaims } from './claims.ts';
import { type Asked, diagnoseTokenRequest } from './token-request.ts';

const DEFINITION = storedDefinition({
  name: 'gull',
  title: 'Gull',
  server: { authorization_endpoint: 'https://id.gull.example/a', token_endpoint: 'https://id.gull.example/token' },
  scopes: [
    { name: 'nests.read', says: 'Read' },
    { name: 'nests.write', says: 'Write' },
  ],
  apis: [{ name: 'nests', title: 'Nests', base_url: 'https://api.gull.example', error_at: '/fault/code', error_meanings: { N7: 'role_missing' } }],
});
const ASKED: Asked = {
  definition: DEFINITION,
  tokenEndpointTemplate: 'https://id.gull.example/token',
  placeholders: {},
  grantType: 'authorization_code',
  method: 'client_secret_basic',
  secret: { provedAt: null, startsAt: 0, endsAt: null, encodesDifferently: false },
  redirectUri: 'https://rk.example/cb',
  redirectUrisThere: null,
  scopes: ['nests.read'],
  scopesRegistered: [],
  clockAheadMs: 0,
  codeAgeMs: null,
  codeLifeMs: null,
  now: Date.parse('2026-11-23T12:00:00Z'),
};
const refused = (kind: 'refused_grant' | 'client_refused' | 'set_up_wrong', error: string, description: string | null = null) =>
  ({ kind, evidence: { status: 400, error, description, reason: null, tookMs: 1 } }) as const;

const unclear = (reason: string) => ({ kind: 'unclear', evidence: { status: 200, error: null, description: null, reason, tookMs: 1 } }) as const;

test('every cause has a verdict, a side, a title and a remedy; those of calls are among them', () => {
  for (const cause of CAUSES) {
    const facts = causeFacts(cause);
    expect(Object.keys(VERDICTS)).toContain(facts.verdict);
    expect(SIDES).toContain(facts.side);
    expect(facts.title.length + facts.remedy.length, cause).toBeGreaterThan(40);
    expect(facts.verdict === 'right_missing', cause).toBe(facts.half !== undefined);
  }
  for (const cause of CALL_CAUSES) expect(CAUSES).toContain(cause);
});

/** Where the provider reports little, what we know decides; where nothing decides, it shows it. */
test.each([
  {
    name: 'a secret past its end',
    asked: { secret: { ...ASKED.secret, endsAt: 1 } as never },
    outcome: refused('client_refused', 'invalid_client'),
    cause: 'secret_retired',
    certain: true,
  },
  {
    name: 'words about a certificate',
    asked: {},
    outcome: refused('client_refused', 'invalid_client', 'client certificate required'),
    cause: 'certificate_needed',
    certain: true,
  },
  { name: 'a code rejected without a reason', asked: {}, outcome: refused('refused_grant', 'invalid_grant'), cause: 'code_refused', certain: false },
  {
    name: 'a code older than it lives',
    asked: { codeAgeMs: 400_000, codeLifeMs: 240_000 },
    outcome: refused('refused_grant', 'invalid_grant'),
    cause: 'code_expired',
    certain: true,
  },
  {
    name: 'a redirect URI, with the one registered there',
    asked: { redirectUrisThere: ['https://rk.example/cb/'] },
    outcome: refused('refused_grant', 'invalid_grant', 'redirect_uri mismatch'),
    cause: 'redirect_uri_differs',
    certain: true,
  },
  {
    name: 'a scope not registered',
    asked: { scopesRegistered: ['nests.write'] },
    outcome: refused('set_up_wrong', 'invalid_scope'),
    cause: 'scope_unregistered',
    certain: true,
  },
  { name: 'a scope, and nothing else known', asked: {}, outcome: refused('set_up_wrong', 'invalid_scope'), cause: 'scope_unregistered', certain: false },
  { name: 'another resource', asked: {}, outcome: refused('set_up_wrong', 'invalid_target'), cause: 'resource_refused', certain: true },
  { name: 'a bound token', asked: {}, outcome: unclear('token_type_dpop'), cause: 'requirement_unsupported', certain: true },
  { name: 'a proof that is wanted', asked: {}, outcome: refused('set_up_wrong', 'use_dpop_nonce'), cause: 'requirement_unsupported', certain: false },
  {
    name: 'a refresh token',
    asked: { grantType: 'refresh_token' },
    outcome: refused('refused_grant', 'invalid_grant'),
    cause: 'grant_withdrawn',
    certain: true,
  },
  {
    name: 'an assertion by a wrong clock',
    asked: { grantType: 'jwt_bearer', clockAheadMs: -90_000 },
    outcome: refused('refused_grant', 'invalid_grant'),
    cause: 'clock_wrong',
    certain: true,
  },
])('a token request: $name', ({ asked, outcome, cause, certain }) => {
  const said = diagnoseTokenRequest({ ...ASKED, ...asked }, outcome, 'HTTP 400');
  expect([said.cause, said.certain]).toEqual([cause, certain]);
  if (!certain) expect(said.also.length).toBeGreaterThan(0);
});

test.each<[string, object, RegExp]>([
  ['DPoP', { dpop_signing_alg_values_supported: ['ES256'] }, /DPoP/],
  ['bound certificates', { tls_client_certificate_bound_access_tokens: true }, /mutual TLS|certificate/i],
  ['pushed requests', { pushed_authorization_request_endpoint: 'https://id.tern.example/par' }, /pushed/],
])('a rejected grant may be a requirement that the metadata names, %s: said beforehand, and among what else it could be', (_name, server, says) => {
  const definition = { ...DEFINITION, server: { ...DEFINITION.server, ...server } };
  expect(requirementsOf(definition)).toMatchObject([{ certain: false, says: expect.stringMatching(says) }]);
  const said = diagnoseTokenRequest({ ...ASKED, definition, grantType: 'refresh_token' }, refused('refused_grant', 'invalid_grant'), 'HTTP 400');
  expect([said.cause, said.certain]).toEqual(['grant_withdrawn', false]);
  expect([said.also.join(), said.evidence.join()]).toEqual([expect.stringMatching(/requirement|require/i), expect.stringMatching(says)]);
});

const CALL: CallSeen = {
  definition: DEFINITION,
  api: DEFINITION.apis[0] as never,
  status: 403,
  reason: null,
  body: '{}',
  challenge: null,
  retryAfterSeconds: null,
  needs: ['nests.read'],
  scopesRequested: ['nests.read', 'nests.write'],
  scopesGranted: ['nests.read'],
  claims: null,
  ofClient: false,
  byCertificate: false,
  now: ASKED.now,
};
test.each([
  { name: 'good', call: { status: 200 }, cause: null },
  { name: 'the API\u2019s own code', call: { body: '{"fault":{"code":"N7"}}' }, cause: 'role_missing' },
  { name: '403 with a scope that allows it: the person\u2019s half', call: {}, cause: 'person_lacks_right' },
  { name: '403 for a client\u2019s own token: the service user', call: { ofClient: true }, cause: 'role_missing' },
  { name: 'unticked, by the challenge', call: { needs: [], challenge: 'Bearer error="insufficient_scope", scope="nests.write"' }, cause: 'scope_unticked' },
  { name: 'never requested', call: { needs: ['nests.all'], challenge: 'Bearer error="insufficient_scope"' }, cause: 'scope_missing' },
  { name: 'its own claims say that it ended', call: { status: 401, claims: { exp: '2026-11-23T11:00:00.000Z' } }, cause: 'token_ended' },
  { name: 'words about the audience', call: { status: 401, body: '{"message":"wrong audience"}' }, cause: 'audience_wrong' },
  { name: 'not found', call: { status: 404 }, cause: 'thing_missing' },
  { name: 'too many', call: { status: 429 }, cause: 'quota_used_up' },
  { name: 'a redirect', call: { status: 302 }, cause: 'call_wrong' },
  { name: 'trouble', call: { status: 502, body: '<html>' }, cause: 'provider_down' },
  { name: 'no answer', call: { status: null, reason: 'refused' }, cause: 'provider_unreachable' },
] as { name: string; call: Partial<CallSeen>; cause: string | null }[])('a call: $name', ({ call, cause }) => {
  expect(diagnoseCall({ ...CALL, ...call })?.cause ?? null).toBe(cause);
});

const SENT = {
  definition: { ...DEFINITION, dialect: { ...PLAIN_DIALECT, page_words: { 'not a member': 'account_not_listed' as const } } },
  redirectUri: 'https://rk.example/cb',
  redirectUrisThere: null,
  scopes: ['nests.read'],
  scopesRegistered: [],
  placeholders: {},
  approval: 'approved',
  reach: 'anyone',
};
test.each([
  { page: 'Sorry, you are NOT A MEMBER of this flock.', cause: 'account_not_listed', certain: true },
  { page: 'Error 400: redirect_uri_mismatch', cause: 'redirect_uri_differs', certain: false },
  { page: 'Need administrator approval', cause: 'admin_consent_missing', certain: false },
  { page: 'https://id.gull.example/stop?error=access_denied&error_description=no', cause: 'consent_denied', certain: true },
  { page: 'https://id.gull.example/stop#error=invalid_scope&error_description=nests.read', cause: 'scope_unregistered', certain: true },
  { page: 'This app was not found', cause: 'unknown', certain: false },
  { page: 'Unknown client', cause: 'client_elsewhere', certain: false },
])('a page of theirs: $page', ({ page, cause, certain }) => {
  expect(diagnoseStopPage(page, SENT)).toMatchObject({ cause, certain });
});

test('whatever is pasted, no long secret of it is repeated', () => {
  fc.assert(
    fc.property(fc.stringMatching(/^[A-Za-z0-9_-]{32,80}$/), fc.string({ maxLength: 100 }), (secret, words) => {
      const said = [
        diagnoseStopPage(`${words} ${secret}`, SENT),
        diagnoseStopPage(`https://id.gull.example/stop?error=${secret}&error_description=${secret}`, SENT),
      ];
      return !JSON.stringify(said).includes(secret);
    }),
  );
});

test('claims of a JWT are shown by an allow-list; what is none, or only looks like one, shows nothing', () => {
  const jwt = (claims: object) =>
    new Secret(['{"alg":"none"}', JSON.stringify(claims), 'signature'].map((part) => Buffer.from(part).toString('base64url')).join('.'));
  expect(shownClaims(jwt({ aud: ['a', 'b'], exp: 1_800_000_000, scope: 'x', secret_note: 'hidden', sub: 'u' }))).toEqual({
    aud: 'a b',
    exp: '2027-01-15T08:00:00.000Z',
    scope: 'x',
    sub: 'u',
    '(others)': 'secret_note',
  });
  fc.assert(fc.property(fc.string(), (text) => shownClaims(new Secret(text)) === null || text.split('.').length === 3));
});

import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { HEARD_MS, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';
import { OperatorBrowser, type ToolOptions, tool } from './support/tool.ts';

/** Sign-in for tools: to tools that only know "sign in", we are the authorization server. RFC 9700 from the other side; docs/SECURITY.md names these tests. */
const BACK = 'https://tool.example/signed-in?from=kettle';
let [service, second, standin, call] = [] as unknown as [ServiceUnderTest, ServiceUnderTest, StandinUnderTest, ApiClient];
let browser: OperatorBrowser;
const made = {} as Record<'announcer' | 'desktop' | 'relay', { caller_id: string; key: string }>;
const of = (name: keyof typeof made, more: Partial<ToolOptions> = {}) =>
  tool({ url: service.url, callerId: made[name].caller_id, key: made[name].key, redirectUri: BACK, ...more });
const signedIn = async (caller: string) => (await call('showCaller', { params: { caller } })).signed_in;
const api = async (token: unknown) => (await fetch(`http://127.0.0.1:${standin.port}/v1/tables`, { headers: { authorization: `Bearer ${token}` } })).status;

beforeAll(async () => {
  standin = await startEelgrass(600);
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  service = await startService({ databaseUrl, masterKey });
  call = await signIn(service);
  second = await startService({ databaseUrl, masterKey, publicUrl: service.url });
  await addEelgrass(call, standin);
  for (const name of ['sailings', 'tides', 'private']) {
    await addConnection(call, name);
    await agree(call, name);
  }
  const connections = ['sailings', 'tides'];
  made.announcer = await call('addCaller', {
    body: { name: 'announcer', title: 'Deck announcer', connections, redirect_uris: [BACK, 'http://127.0.0.1/done'] },
  });
  made.desktop = await call('addCaller', { body: { name: 'desktop', connections, redirect_uris: ['http://127.0.0.1/done'], keeps_no_secret: true } });
  made.relay = await call('addCaller', { body: { name: 'relay', redirect_uris: [BACK] } });
  await call('permitCaller', { params: { caller: 'relay' }, body: { connection: 'sailings', use: 'relay' } });
  browser = await new OperatorBrowser(service.url).signIn();
});
afterAll(async () => {
  await Promise.all([service, second].map((one) => one?.stop()));
  await standin?.stop();
  for (const one of [service, second]) removeFolder(one.folder);
});

test('a tool signs in, is given the connection\u2019s current token, and renews with a new refresh token each time', async () => {
  const one = of('announcer', { ask: { scope: 'connection:tides' } });
  const begun = await browser.send(one.authorize);
  const id = begun.headers.get('location')?.split('/').at(-1) ?? '';
  expect(await (await browser.send(`/api/v1/sign-in-requests/${id}`)).json()).toMatchObject({
    caller: 'announcer',
    title: 'Deck announcer',
    returns_to: 'https://tool.example',
    pkce: true,
    wished: 'tides',
    connections: [{ name: 'sailings', state: 'working', says: 'tokens and relay' }, { name: 'tides' }],
  });
  const back = await one.signIn(browser, 'tides');
  expect([back.origin + back.pathname, back.searchParams.get('from'), back.searchParams.get('state'), back.searchParams.get('iss')]).toEqual([
    'https://tool.example/signed-in',
    'kettle',
    one.state,
    service.url,
  ]);
  const first = await one.exchange(back.searchParams.get('code') ?? '');
  expect(first).toMatchObject({ status: 200, body: { token_type: 'Bearer', access_token: expect.any(String), refresh_token: expect.stringMatching(/^rkr_/) } });
  expect(first.headers.get('cache-control')).toBe('no-store');
  expect(await api(first.body.access_token)).toBe(200);
  let token = String(first.body.refresh_token);
  for (let round = 0; round < 3; round += 1) {
    const next = await one.renew(token);
    expect([next.status, await api(next.body.access_token)]).toEqual([200, 200]);
    expect(next.body.refresh_token).not.toBe(token);
    token = String(next.body.refresh_token);
  }
  expect((await signedIn('announcer'))[0]).toMatchObject({ connection: 'tides', operator: 'marit', ended_at: null });
});

test('metadata says what is there; the authorization endpoint takes a form, and pages of public tools may call the token endpoint', async () => {
  const answer = await fetch(`${service.url}/.well-known/oauth-authorization-server`);
  expect(answer.headers.get('access-control-allow-origin')).toBe('*');
  const metadata = (await answer.json()) as Record<string, unknown>;
  expect(metadata).toMatchObject({ scopes_supported: expect.any(Array), service_documentation: expect.stringMatching(/^https?:/) });
  // What is listed for revocation works there: a wrong key is the key's fault, not the method's.
  expect(metadata.revocation_endpoint_auth_methods_supported).toEqual(expect.arrayContaining(['client_secret_basic', 'client_secret_post', 'none']));
  const one = of('announcer');
  const url = new URL(one.authorize, service.url);
  const posted = await fetch(`${service.url}${url.pathname}`, { method: 'POST', redirect: 'manual', body: new URLSearchParams(url.search) });
  expect([posted.status, posted.headers.get('location')]).toEqual([expect.toSatisfy((status: number) => status === 302 || status === 303), expect.any(String)]);
  const page = 'https://pages.tool.example';
  await call('addCaller', { body: { name: 'page-tool', connections: ['tides'], redirect_uris: [`${page}/back`], keeps_no_secret: true } });
  const preflight = (origin: string) =>
    fetch(`${service.url}/oauth/token`, { method: 'OPTIONS', headers: { origin, 'access-control-request-method': 'POST' } });
  await eventually(async () => (await preflight(page)).headers.get('access-control-allow-origin') === page);
  expect((await preflight('https://evil.example')).headers.get('access-control-allow-origin')).toBe(null);
  expect((await preflight(new URL(BACK).origin)).headers.get('access-control-allow-origin')).toBe(null); // that tool keeps a key: no page may
  const asked = await fetch(`${service.url}/oauth/token`, {
    ...{ method: 'POST', headers: { origin: page } },
    body: new URLSearchParams({ grant_type: 'refresh_token', refresh_token: 'rkr_x', client_id: 'x' }),
  });
  expect(asked.headers.get('access-control-allow-origin')).toBe(page);
});

test('user-info tells a tool who consented to the connection that its token is of, and nothing to anybody else', async () => {
  const userInfo = async (token: unknown) => {
    const answer = await fetch(`${service.url}/oauth/userinfo`, { headers: { authorization: `Bearer ${token}` } });
    return [answer.status, await answer.json()];
  };
  for (const kind of ['announcer', 'relay'] as const) {
    const { body } = await of(kind).tokens(browser, kind === 'relay' ? 'sailings' : 'tides');
    expect(await userInfo(body.access_token)).toEqual([200, expect.objectContaining({ sub: expect.any(String), email: 'marit.holm@saltmarsh.example' })]);
    if (kind === 'announcer') continue;
    await of(kind).revoke(String(body.refresh_token));
    expect(await userInfo(body.access_token)).toEqual([401, expect.objectContaining({ error: 'invalid_token' })]);
  }
  for (const token of ['x', 'rkt_none', '']) expect((await userInfo(token))[0]).toBe(401);
});

test('a tool that may only relay gets an opaque token, good at our relay for that connection and nowhere else', async () => {
  const { body } = await of('relay').tokens(browser, 'sailings');
  expect(body).toMatchObject({ access_token: expect.stringMatching(/^rkt_/), base_url: `${service.url}/relay/sailings` });
  const relay = (path: string) => fetch(`${service.url}/relay/${path}`, { headers: { authorization: `Bearer ${body.access_token}` } });
  expect((await relay('sailings/tables')).status).toBe(200);
  expect((await relay('tides/tables')).status).toBe(403);
  expect(await api(body.access_token)).toBe(401);
  expect((await fetch(`${service.url}/api/v1/status`, { headers: { authorization: `Bearer ${body.access_token}` } })).status).toBe(401);
  expect((await of('relay').revoke(String(body.access_token))).status).toBe(200);
  await eventually(async () => (await relay('sailings/tables')).status === 401, HEARD_MS);
});

test('a desktop tool without a secret: any port of its loopback redirect, PKCE needed, and its refresh token rotates anyway', async () => {
  const desktop = (more: Partial<ToolOptions> = {}) => of('desktop', { key: null, redirectUri: 'http://127.0.0.1:53217/done', ...more });
  const one = desktop();
  const { status, body } = await one.tokens(browser, 'sailings');
  expect([status, (await one.renew(String(body.refresh_token))).status]).toEqual([200, 200]);
  const without = await browser.send(desktop({ pkce: false }).authorize);
  expect(new URL(without.headers.get('location') ?? '').searchParams.get('error')).toBe('invalid_request');
  // Without a secret it may renew, and nothing else.
  const plain = await fetch(`${service.url}/oauth/token`, {
    method: 'POST',
    body: new URLSearchParams({ grant_type: 'client_credentials', client_id: made.desktop.caller_id, scope: 'connection:sailings' }),
  });
  expect(plain.status).toBe(401);
});

test.each([
  { name: 'another redirect URI', ask: { redirect_uri: 'https://tool.example/signed-in' } },
  { name: 'another case in it', ask: { redirect_uri: BACK.replace('signed', 'Signed') } },
  { name: 'more behind it', ask: { redirect_uri: `${BACK}&more=1` } },
  { name: 'a host that only looks alike', ask: { redirect_uri: 'https://tool.example.evil.example/signed-in?from=kettle' } },
  { name: 'a loopback port where the host is a name', ask: { redirect_uri: 'http://localhost:9999/done' } },
  { name: 'no redirect URI where it has several', ask: { redirect_uri: null } },
  { name: 'a client id that nobody has', ask: { client_id: 'rkc_nobody' } },
  { name: 'no client id', ask: { client_id: null } },
])('RFC 9700 §4.1, §4.11 $name: a page shows it, and the browser is sent nowhere', async ({ ask }) => {
  const response = await browser.send(of('announcer', { ask }).authorize);
  expect([response.status, response.headers.get('location'), response.headers.getSetCookie()]).toEqual([400, null, []]);
  expect(await response.text()).toContain('It stops here');
});

test.each([
  { ask: { response_type: 'token' }, error: 'unsupported_response_type' },
  { ask: { response_type: null }, error: 'unsupported_response_type' },
  { ask: { code_challenge_method: 'plain' }, error: 'invalid_request' },
  { ask: { code_challenge: 'short' }, error: 'invalid_request' },
  { ask: { code_challenge: null }, error: 'invalid_request' },
  { ask: { request_uri: 'https://tool.example/request' }, error: 'request_not_supported' },
  { ask: { response_mode: 'fragment' }, error: 'invalid_request' },
  { ask: { state: 's'.repeat(2_001) }, error: 'invalid_request' },
])('a request with $ask goes back as $error, with state and iss', async ({ ask, error }) => {
  const one = of('announcer', { ask });
  const back = new URL((await browser.send(one.authorize)).headers.get('location') ?? '');
  expect(back.origin).toBe('https://tool.example');
  expect([back.searchParams.get('error'), back.searchParams.get('iss'), back.searchParams.get('code')]).toEqual([error, service.url, null]);
  if (!('state' in ask)) expect(back.searchParams.get('state')).toBe(one.state);
});

test('RFC 9700 §4.5, §2.1.1 a stolen code is worth nothing: wrong caller, wrong verifier, none, a verifier that was not requested, another redirect URI', async () => {
  const fresh = async (one: ReturnType<typeof of>) => (await one.signIn(browser, 'sailings')).searchParams.get('code') ?? '';
  const one = of('announcer');
  const code = await fresh(one);
  for (const stolen of [
    () => of('relay').exchange(code, { code_verifier: one.verifier }),
    () => one.exchange(code, { code_verifier: 'x'.repeat(43) }),
    () => one.exchange(code, { code_verifier: '' }),
    () => one.exchange(code, { redirect_uri: 'http://127.0.0.1/done' }),
    () =>
      tool({ url: service.url, callerId: made.announcer.caller_id, key: `${made.announcer.key}x`, redirectUri: BACK }).exchange(code, {
        code_verifier: one.verifier,
      }),
  ])
    expect((await stolen()).body.error).toMatch(/^invalid_(grant|client)$/);
  expect((await one.exchange(code)).status).toBe(200); // none of it spent the code
  // A downgrade: the attacker\u2019s code was requested without a challenge, and the victim\u2019s tool sends its verifier.
  const downgraded = of('announcer', { pkce: false });
  const { body } = await downgraded.exchange(await fresh(downgraded), { code_verifier: 'v'.repeat(43) });
  expect(body).toMatchObject({ error: 'invalid_grant', error_description: expect.stringContaining('without a code_challenge') });
});

test('a code used twice ends what it had brought (RFC 6749 §4.1.2)', async () => {
  const one = of('announcer');
  const code = (await one.signIn(browser, 'sailings')).searchParams.get('code') ?? '';
  const [first, again] = [await one.exchange(code), await one.exchange(code)];
  expect([first.status, again.body.error]).toEqual([200, 'invalid_grant']);
  expect((await one.renew(String(first.body.refresh_token))).body.error).toBe('invalid_grant');
  expect((await signedIn('announcer'))[0]).toMatchObject({ ended_why: 'code_reused' });
});

test('RFC 9700 §4.14 a stolen refresh token used twice ends that sign-in, on every replica, and no other; it is said why', async () => {
  const [one, other] = [of('announcer'), of('announcer')];
  const [tokens, others] = [await one.tokens(browser, 'sailings'), await other.tokens(browser, 'sailings')];
  const stolen = String(tokens.body.refresh_token);
  const good = await one.renew(stolen);
  expect(good.status).toBe(200);
  const thief = await one.renew(stolen);
  expect(thief.body).toMatchObject({ error: 'invalid_grant', error_description: expect.stringContaining('used before') });
  const victim = tool({ url: second.url, callerId: made.announcer.caller_id, key: made.announcer.key, redirectUri: BACK });
  expect((await victim.renew(String(good.body.refresh_token))).body.error).toBe('invalid_grant');
  expect((await other.renew(String(others.body.refresh_token))).status).toBe(200);
  const { items } = await call('listHistory', { query: { subject: 'caller:announcer' } });
  expect(items.map((entry) => entry.says)).toContainEqual(expect.stringContaining('used twice: someone else has a copy'));
});

test('twenty at once with one refresh token: one gets tokens at most, and the sign-in is over', async () => {
  const one = of('announcer');
  const token = String((await one.tokens(browser, 'tides')).body.refresh_token);
  const urls = [service.url, second.url];
  const answers = await Promise.all(
    Array.from({ length: 20 }, (_none, at) =>
      tool({ url: urls[at % 2] as string, callerId: made.announcer.caller_id, key: made.announcer.key, redirectUri: BACK }).renew(token),
    ),
  );
  expect(answers.filter((answer) => answer.status === 200).length).toBeLessThanOrEqual(1);
  expect((await signedIn('announcer'))[0]).toMatchObject({ ended_why: 'token_reused' });
});

test('RFC 9700 §4.7, §4.16 the question is answered by whoever was sent there: not from another browser, another site, a program, or a frame', async () => {
  const begun = await browser.send(of('announcer').authorize);
  const id = begun.headers.get('location')?.split('/').at(-1) ?? '';
  expect(begun.headers.getSetCookie()[0]).toMatch(/HttpOnly; SameSite=Lax$/);
  const stranger = await new OperatorBrowser(service.url).signIn();
  const answer = (from: OperatorBrowser, headers = {}) =>
    from.send(`/api/v1/sign-in-requests/${id}/answer`, { method: 'POST', body: { connection: 'sailings' }, headers });
  expect((await answer(stranger)).status).toBe(410);
  expect((await stranger.send(`/api/v1/sign-in-requests/${id}`)).status).toBe(410);
  expect((await answer(new OperatorBrowser(service.url))).status).toBe(401);
  expect((await answer(browser, { origin: 'https://tool.example' })).status).toBe(403);
  await expect(call('answerSignInRequest', { params: { request: id }, body: { connection: 'sailings' } })).rejects.toMatchObject({
    problem: { code: 'SIGN_IN_REQUEST_EXPIRED' },
  });
  const page = await fetch(`${service.url}/`);
  expect([page.headers.get('x-frame-options'), page.headers.get('content-security-policy')]).toEqual([
    'DENY',
    expect.stringContaining("frame-ancestors 'none'"),
  ]);
  expect((await answer(browser)).status).toBe(200);
  expect((await answer(browser)).status).toBe(410); // once
});

test('no is no; and nothing that the caller may not use can be chosen', async () => {
  const one = of('announcer');
  const back = await one.signIn(browser, null);
  expect(Object.fromEntries(back.searchParams)).toMatchObject({ error: 'access_denied', state: one.state, iss: service.url });
  await expect(of('announcer').signIn(browser, 'private')).rejects.toThrow('NOT_PERMITTED');
  // A redirect URI that was taken from the caller meanwhile gets nothing any more, not even a no.
  const id = (await browser.send(of('announcer').authorize)).headers.get('location')?.split('/').at(-1) ?? '';
  const { redirect_uris } = await call('showCaller', { params: { caller: 'announcer' } });
  const change = (uris: string[]) => call('changeCaller', { params: { caller: 'announcer' }, body: { redirect_uris: uris } });
  await change(['https://elsewhere.example/back']);
  await eventually(async () => (await browser.send(of('announcer').authorize)).status >= 400, HEARD_MS); // heard of
  expect((await browser.send(`/api/v1/sign-in-requests/${id}/answer`, { method: 'POST', body: { connection: null } })).status).toBe(410);
  await change(redirect_uris);
  await eventually(async () => (await browser.send(of('announcer').authorize)).status < 400, HEARD_MS);
});

test('cut off alone: an operator ends one sign-in, revocation by the tool, a withdrawn permission, a paused connection is only temporary', async () => {
  const one = of('announcer');
  const tokens = [await one.tokens(browser, 'sailings'), await one.tokens(browser, 'sailings'), await one.tokens(browser, 'tides')];
  const [ended, revoked, kept] = tokens.map((answer) => String(answer.body.refresh_token)) as [string, string, string];
  const [latest, , oldest] = await signedIn('announcer');
  expect(latest?.connection).toBe('tides');
  await call('endSignIn', { params: { caller: 'announcer', sign_in: oldest?.id ?? '' } });
  expect((await one.renew(ended)).body).toMatchObject({ error: 'invalid_grant', error_description: expect.stringContaining('operator') });
  expect((await of('relay').revoke(revoked)).status).toBe(200); // another caller\u2019s: left alone, and not told apart (RFC 7009 §2.2)
  const still = await one.renew(revoked);
  expect(still.status).toBe(200);
  expect((await one.revoke(String(still.body.refresh_token))).status).toBe(200);
  expect((await one.renew(String(still.body.refresh_token))).body.error).toBe('invalid_grant');
  expect((await one.revoke('unknown')).status).toBe(200);

  await call('pauseConnection', { params: { connection: 'tides' } });
  const paused = await eventually(async () => {
    const answer = await one.renew(kept);
    return answer.status === 503 ? answer : null;
  });
  expect([paused.body.error, paused.headers.get('retry-after')]).toEqual(['temporarily_unavailable', '30']);
  await call('resumeConnection', { params: { connection: 'tides' } });
  const resumed = await eventually(async () => {
    const answer = await one.renew(kept); // the pause cost nothing: it is the same refresh token
    return answer.status === 200 ? answer : null;
  });
  await call('changeCaller', { params: { caller: 'announcer' }, body: { connections: ['sailings'] } });
  expect((await one.renew(String(resumed.body.refresh_token))).body).toMatchObject({
    error: 'invalid_grant',
    error_description: expect.stringContaining('may not use'),
  });
});

test('the metadata states what sign-in for tools takes (RFC 8414), and is the issuer that answers name', async () => {
  const metadata = (await (await fetch(`${service.url}/.well-known/oauth-authorization-server`)).json()) as Record<string, unknown>;
  expect(metadata).toMatchObject({
    issuer: service.url,
    authorization_endpoint: `${service.url}/oauth/authorize`,
    token_endpoint: `${service.url}/oauth/token`,
    revocation_endpoint: `${service.url}/oauth/revoke`,
    userinfo_endpoint: `${service.url}/oauth/userinfo`,
    response_types_supported: ['code'],
    grant_types_supported: ['client_credentials', 'authorization_code', 'refresh_token'],
    code_challenge_methods_supported: ['S256'],
    authorization_response_iss_parameter_supported: true,
  });
});

test('sign-in for tools may not be hammered', async () => {
  const answers = await Promise.all(Array.from({ length: 80 }, () => fetch(`${second.url}${of('announcer').authorize}`, { redirect: 'manual' })));
  const refused = answers.filter((answer) => answer.status === 429);
  expect(refused.length).toBeGreaterThan(0);
  expect(Number(refused[0]?.headers.get('retry-after'))).toBeGreaterThan(0);
});

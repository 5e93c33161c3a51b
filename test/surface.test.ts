import { existsSync, readFileSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { openApiDocument } from '../src/api/openapi.ts';
import { type Operation, operations } from '../src/api/operations.ts';
import { PASSWORD, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

let [service, standin, call]: [ServiceUnderTest, StandinUnderTest, ApiClient & { token: string }] = [] as never;
let caller: { caller_id: string; key: string };
const BODY_SECONDS = 3;
const PACKAGE = JSON.parse(readFileSync(new URL('../package.json', import.meta.url), 'utf8')) as { version: string };
const send = (path: string, init: RequestInit = {}) => fetch(`${service.url}${path}`, { redirect: 'manual', ...init });
const json = (body: unknown, headers: Record<string, string> = {}): RequestInit => ({
  method: 'POST',
  body: JSON.stringify(body),
  headers: { 'content-type': 'application/json', ...headers },
});

beforeAll(async () => {
  standin = await startEelgrass(3600);
  service = await startService({ databaseUrl: await newDatabase(), environment: { RUSTY_KETTLE_BODY_SECONDS: String(BODY_SECONDS) } });
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
});

test('the first operator is made once, with the ticket that only the machine\u2019s owner can read', async () => {
  const link = join(service.folder, 'first-operator.link');
  const ticket = readFileSync(link, 'utf8').trim().split('/').at(-1) ?? '';
  expect(service.output()).not.toContain(ticket);
  const anonymous = apiClient({ baseUrl: service.url });
  const first = (body: object) => anonymous('addFirstOperator', { body: { ticket, name: 'marit', password: PASSWORD, ...body } });
  await expect(first({ ticket: 'x'.repeat(32) })).rejects.toMatchObject({ problem: { code: 'TICKET_SPENT' } });
  await expect(first({ password: 'short' })).rejects.toMatchObject({ problem: { code: 'INPUT_INVALID', places: [{ path: 'password' }] } });
  await first({});
  await expect(first({ name: 'second' })).rejects.toMatchObject({ problem: { code: 'TICKET_SPENT' } });
  call = await signIn(service);
  await addEelgrass(call, standin);
  await addConnection(call, 'one');
  await agree(call, 'one');
  caller = await call('addCaller', { body: { name: 'board', connections: ['one'] } });
});

test('the session cookie is HttpOnly and Strict, changes nothing for other sites, and ends with the sign-out', async () => {
  const signed = await send('/api/v1/session', json({ name: 'marit', password: PASSWORD }, { origin: service.url }));
  const cookie = signed.headers.get('set-cookie') ?? '';
  expect(cookie).toMatch(
    /^rk_session_\d+=[\w-]{43}; Path=\/; Expires=[^;]*; HttpOnly; SameSite=Strict, rk_device_\d+=[\w-]+; Max-Age=31536000; Path=\/; Expires=[^;]*; HttpOnly; SameSite=Strict$/,
  );
  expect(await signed.json()).not.toHaveProperty('token');
  const headers = { cookie: cookie.split(';')[0] ?? '' };
  expect((await send('/api/v1/session', { headers })).status).toBe(200);
  const change = (more: Record<string, string>) => send('/api/v1/callers', json({ name: 'csrf' }, { ...headers, ...more }));
  for (const more of [
    { origin: 'https://elsewhere.example' },
    { origin: service.url.replace('127.0.0.1', 'eelgrass.localhost') },
    { origin: 'null' },
    { 'sec-fetch-site': 'cross-site' },
    { 'sec-fetch-site': 'same-site' },
  ])
    expect(await (await change(more)).json()).toMatchObject({ code: 'ORIGIN_FOREIGN', status: 403 });
  expect((await send('/api/v1/session', json({ name: 'marit', password: PASSWORD }, { origin: 'https://elsewhere.example' }))).status).toBe(403);
  expect((await change({ origin: service.url })).status).toBe(200);
  expect((await send('/api/v1/session', { headers: { authorization: `Bearer ${headers.cookie.split('=')[1]}` } })).status).toBe(401); // good in its cookie alone
  expect((await send('/api/v1/session', { headers: { cookie: `rk_session_${new URL(service.url).port}=${call.token}` } })).status).toBe(401);
  await send('/api/v1/session', { method: 'DELETE', headers: { ...headers, origin: service.url } });
  expect((await send('/api/v1/session', { headers })).status).toBe(401);
});

test('a tool with a refresh token box names the connection in it, and requests as JSON are answered as those of a form', async () => {
  const basic = { authorization: `Basic ${Buffer.from(`${caller.caller_id}:${caller.key}`).toString('base64')}` };
  const form = (more: Record<string, string>, headers = basic) => send('/oauth/token', { method: 'POST', headers, body: new URLSearchParams(more) });
  const answer = await form({ grant_type: 'refresh_token', refresh_token: 'connection:one' });
  expect([answer.status, await answer.json()]).toEqual([200, expect.objectContaining({ access_token: expect.any(String), expires_in: expect.any(Number) })]);
  const other = await form({ grant_type: 'refresh_token', refresh_token: 'connection:not-mine' });
  expect([other.status, await other.json()]).toEqual([400, expect.objectContaining({ error: 'invalid_grant' })]);
  // The word is no secret: without the key it is good for nothing.
  const bare = await form({ grant_type: 'refresh_token', refresh_token: 'connection:one', client_id: caller.caller_id }, {} as never);
  expect(bare.status).toBe(401);
  const asJson = { grant_type: 'client_credentials', client_id: caller.caller_id, client_secret: caller.key, scope: 'connection:one' };
  expect((await send('/oauth/token', json(asJson))).status).toBe(200);
  for (const odd of ['[]', '{', '{"grant_type":{}}', 'null']) {
    const refused = await send('/oauth/token', { method: 'POST', body: odd, headers: { 'content-type': 'application/json' } });
    expect([refused.status, await refused.json()]).toEqual([400, expect.objectContaining({ error: 'invalid_request' })]);
  }
});

test('behind https the session cookie is Secure and bound to the host', async () => {
  const publicUrl = 'https://kettle.example';
  const behind = await startService({ databaseUrl: await newDatabase(), publicUrl });
  try {
    await signIn(behind);
    const signed = await fetch(`${behind.url}/api/v1/session`, json({ name: 'marit', password: PASSWORD }, { origin: publicUrl }));
    expect(signed.headers.get('set-cookie')).toMatch(/^__Host-rk_session=.*; HttpOnly; Secure; SameSite=Strict$/);
    expect(signed.headers.get('strict-transport-security')).toContain('max-age');
    expect((await fetch(`${behind.url}/api/v1/session`, json({ name: 'marit', password: PASSWORD }, { origin: behind.url }))).status).toBe(403); // its address is the public one
  } finally {
    await behind.stop();
  }
});

test('wrong sign-ins look alike and are throttled', async () => {
  const attempt = async (name: string, password: string) => {
    const response = await send('/api/v1/session', json({ name, password }, { origin: service.url }));
    return { status: response.status, retry: response.headers.get('retry-after'), body: (await response.json()) as { code: string; title: string } };
  };
  const [unknown, wrong] = [await attempt('nobody', 'wrong-password'), await attempt('harbour', 'wrong-password')];
  expect(unknown).toMatchObject({ status: 401, body: { code: 'SIGN_IN_WRONG' } });
  expect(wrong.body.title).toBe(unknown.body.title);
  for (let tries = 0; tries < 4; tries += 1) await attempt('harbour', 'wrong-password');
  const throttled = await attempt('harbour', PASSWORD);
  expect(throttled).toMatchObject({ status: 429, body: { code: 'SIGN_IN_THROTTLED' } });
  expect(Number(throttled.retry)).toBeGreaterThan(0);
  expect((await attempt('marit', PASSWORD)).status).toBe(200); // someone else is not locked out
});

test.each(Object.entries(operations as Record<string, Operation>))('%s asks who is there', async (_name, operation) => {
  const path = operation.path.replace(/\{consent\}/, '00000000-0000-7000-8000-000000000000').replace(/\{\w+\}/g, 'x');
  const response = await send(path, { method: operation.method, ...(operation.body ? { body: '{}', headers: { 'content-type': 'application/json' } } : {}) });
  if (operation.access === 'anyone') expect(response.status).not.toBe(401);
  else expect([response.status, response.headers.get('content-type')]).toEqual([401, 'application/problem+json; charset=utf-8']);
});

test.each([
  { name: 'an unknown field', path: '/api/v1/callers', body: { name: 'x', colour: 'red' }, code: 'INPUT_INVALID', place: 'colour' },
  { name: 'a missing field', path: '/api/v1/callers', body: {}, code: 'INPUT_INVALID', place: 'name' },
  { name: 'a name that is no name', path: '/api/v1/callers', body: { name: 'Not A Name' }, code: 'INPUT_INVALID', place: 'name' },
  { name: 'a name that is taken', path: '/api/v1/callers', body: { name: 'board' }, code: 'NAME_TAKEN' },
  { name: 'a provider that exists', path: '/api/v1/providers', body: () => ({ document: standin.definitionText }), code: 'NAME_TAKEN' },
  { name: 'a malformed definition', path: '/api/v1/providers', body: { document: 'name: [' }, code: 'DEFINITION_INVALID' },
  {
    name: 'a definition that this version cannot run',
    path: '/api/v1/providers',
    body: () => ({ document: standin.definitionText.replace('[S256]', '[plain]').replace('name: eelgrass', 'name: plain') }),
    code: 'DEFINITION_UNSUPPORTED',
  },
  { name: 'a connection of nobody', path: '/api/v1/connections', body: { name: 'x', provider: 'nobody', client: 'x', scopes: [] }, code: 'NOT_FOUND' },
  { name: 'text instead of JSON', path: '/api/v1/callers', raw: 'name=x', type: 'text/plain', code: 'CONTENT_TYPE_WRONG' },
  { name: 'broken JSON', path: '/api/v1/callers', raw: '{', type: 'application/json', code: 'INPUT_INVALID' },
  {
    name: 'a body too large',
    path: '/api/v1/providers',
    raw: JSON.stringify({ document: 'x'.repeat(300_000) }),
    type: 'application/json',
    code: 'INPUT_TOO_LARGE',
  },
  { name: 'no such operation', path: '/api/v1/nothing', body: {}, code: 'NOT_FOUND' },
])('$name gets a problem with a remedy', async ({ path, body, raw, type, code, place }) => {
  const response = await send(path, {
    method: 'POST',
    body: raw ?? JSON.stringify(typeof body === 'function' ? body() : body),
    headers: { authorization: `Bearer ${call.token}`, 'content-type': type ?? 'application/json' },
  });
  const problem = (await response.json()) as { code: string; status: number; places?: { path: string }[] };
  expect(problem).toMatchObject({
    code,
    status: response.status,
    title: expect.any(String),
    remedy: expect.stringMatching(/\.$/),
    request_id: response.headers.get('x-request-id'),
  });
  expect(response.headers.get('content-type')).toContain('application/problem+json');
  if (place) expect(problem.places?.map((one) => one.path)).toContain(place);
});

const form = (fields: Record<string, string> | string) => new URLSearchParams(fields);
const basic = (id: string, key: string) => ({ authorization: `Basic ${Buffer.from(`${id}:${key}`).toString('base64')}` });
test.each([
  { name: 'Basic, the only connection', status: 200 },
  { name: 'in the body', auth: () => ({}), fields: () => ({ client_id: caller.caller_id, client_secret: caller.key }), status: 200 },
  { name: 'named by resource', fields: () => ({ resource: `${service.url}/connections/one` }), status: 200 },
  { name: 'another resource', fields: () => ({ resource: `${service.url}/connections/two` }), status: 400, error: 'invalid_target' },
  { name: 'a resource elsewhere', fields: () => ({ resource: 'https://elsewhere.example/connections/one' }), status: 400, error: 'invalid_target' },
  { name: 'no authentication', auth: () => ({}), status: 401, error: 'invalid_client' },
  { name: 'both ways at once', fields: () => ({ client_secret: caller.key }), status: 400, error: 'invalid_request' },
  { name: 'a wrong key', auth: () => basic(caller.caller_id, 'rkk_wrong'), status: 401, error: 'invalid_client' },
  { name: 'a provider\u2019s id', auth: () => basic('eelgrass-1', 'x'), status: 401, error: 'invalid_client', says: 'start with rkc_' },
  { name: 'no grant type', drop: true, status: 400, error: 'invalid_request' },
  { name: 'another grant type', fields: () => ({ grant_type: 'password' }), status: 400, error: 'unsupported_grant_type' },
  { name: 'a scope', fields: () => ({ scope: 'x' }), status: 400, error: 'invalid_scope' },
  { name: 'in the query', query: '?grant_type=client_credentials', status: 400, error: 'invalid_request' },
  { name: 'a repeated parameter', raw: 'grant_type=client_credentials&grant_type=client_credentials', status: 400, error: 'invalid_request' },
  { name: 'too large', raw: 'x'.repeat(20_000), status: 413, error: 'invalid_request' },
  { name: 'JSON', raw: '{}', type: 'application/json', status: 400, error: 'invalid_request' },
] as {
  name: string;
  auth?: () => Record<string, string>;
  fields?: () => Record<string, string>;
  drop?: boolean;
  raw?: string;
  type?: string;
  query?: string;
  status: number;
  error?: string;
  says?: string;
}[])('our token endpoint, $name: $status $error', async ({ auth, fields, drop, raw, type, query, status, error, says }) => {
  const body = raw ?? form({ ...(drop ? {} : { grant_type: 'client_credentials' }), ...fields?.() }).toString();
  const response = await send(`/oauth/token${query ?? ''}`, {
    method: 'POST',
    body,
    headers: { 'content-type': type ?? 'application/x-www-form-urlencoded', ...(auth ?? (() => basic(caller.caller_id, caller.key)))() },
  });
  const answer = (await response.json()) as Record<string, string>;
  expect(response.status).toBe(status);
  expect(response.headers.get('cache-control')).toBe('no-store');
  if (status === 200) expect(answer).toMatchObject({ token_type: 'Bearer', expires_in: expect.any(Number), access_token: expect.any(String) });
  else expect(answer).toMatchObject({ error, error_description: expect.stringContaining(says ?? '') });
  if (status === 401) expect(response.headers.get('www-authenticate')).toContain('Basic');
});

test('a caller with several connections must name one; a withdrawn permission and a retired key end at once', async () => {
  await addConnection(call, 'two');
  const several = await call('addCaller', { body: { name: 'several', connections: ['one', 'two'] } });
  const ask = (resource?: string) => fetchToken(service.url, several.caller_id, several.key, resource);
  expect((await ask()).body).toMatchObject({ error: 'invalid_target', error_description: expect.stringContaining('several') });
  expect((await ask(`${service.url}/connections/one`)).status).toBe(200);
  expect((await ask(`${service.url}/connections/two`)).body).toMatchObject({
    error: 'invalid_grant',
    error_description: expect.stringContaining('Nobody has consented'),
  });
  await call('changeCaller', { params: { caller: 'several' }, body: { connections: ['two'] } });
  expect((await ask(`${service.url}/connections/one`)).body.error).toBe('invalid_target');
  const [key] = (await call('showCaller', { params: { caller: 'several' } })).keys;
  await call('retireKey', { params: { caller: 'several', key: key?.id ?? '' } });
  expect((await ask()).status).toBe(401);
});

test('what is in use is not removed by accident; what is removed is discarded', async () => {
  await expect(call('removeProvider', { params: { provider: 'eelgrass' } })).rejects.toMatchObject({ problem: { code: 'IN_USE' } });
  const client = { provider: 'eelgrass', client: 'timetable' };
  await expect(call('removeClient', { params: client })).rejects.toMatchObject({ problem: { code: 'IN_USE' } });
  for (const connection of ['one', 'two']) await call('removeConnection', { params: { connection } });
  expect((await fetchToken(service.url, caller.caller_id, caller.key)).body.error).toBe('invalid_target');
  await call('removeClient', { params: client });
  await call('removeProvider', { params: { provider: 'eelgrass' } });
  expect((await call('listProviders')).items).toEqual([]);
});

test('the contract is there to be read, with this installation\u2019s own address in it', async () => {
  const answer = await send('/api/v1/openapi.json');
  expect([answer.status, answer.headers.get('content-type')]).toEqual([200, 'application/json; charset=utf-8']);
  expect(await answer.json()).toEqual(JSON.parse(JSON.stringify(openApiDocument({ version: PACKAGE.version, publicUrl: service.url }))));
});

test('pages and answers carry the headers that keep other sites out', async () => {
  const page = await send('/');
  expect(page.status).toBe(200);
  expect(page.headers.get('content-security-policy')).toContain("default-src 'none'");
  expect(page.headers.get('content-security-policy')).toContain("frame-ancestors 'none'");
  expect(page.headers.get('referrer-policy')).toBe('no-referrer');
  expect(page.headers.get('x-powered-by')).toBeNull();
  expect(existsSync(join(service.folder, 'master.key'))).toBe(false); // given by setting: not written down
});

/** Sends text over a bare socket, then `more` every 200 ms; what came back by the time the other side closed, and after how long. */
function bare(text: string, more = ''): Promise<{ answer: string; seconds: number }> {
  const startedAt = performance.now();
  return new Promise((resolve) => {
    const socket = connect(Number(new URL(service.url).port), '127.0.0.1');
    let answer = '';
    const drip = setInterval(() => void (more && socket.write(more)), 200);
    socket.on('data', (piece) => {
      answer += piece;
    });
    socket.on('error', () => undefined); // closed while we write
    socket.on('close', () => {
      clearInterval(drip);
      resolve({ answer, seconds: (performance.now() - startedAt) / 1000 });
    });
    socket.write(text);
  });
}
const unfinished = (path: string, type: string, body: string) =>
  `POST ${path} HTTP/1.1\r\nhost: 127.0.0.1\r\ncontent-type: ${type}\r\ncontent-length: 5000\r\n\r\n${body}`;

test('a body that does not come to its end is waited for as long as is set, said to be late, and holds no connection open', async () => {
  const [silent, dripping, json, unread] = await Promise.all([
    bare(unfinished('/oauth/token', 'application/x-www-form-urlencoded', 'grant_type=client_credentials')),
    bare(unfinished('/oauth/token', 'application/x-www-form-urlencoded', 'grant_type='), 'x'),
    bare(unfinished('/api/v1/session', 'application/json', '{"name":')),
    bare(unfinished('/api/v1/nothing', 'application/json', '')),
  ]);
  for (const one of [silent, dripping, json]) {
    expect(one.answer).toMatch(/^HTTP\/1.1 408 /);
    expect(one.seconds).toBeGreaterThan(BODY_SECONDS - 0.5);
  }
  for (const one of [silent, dripping]) expect(one.answer).toContain('"error":"invalid_request"');
  expect(json.answer).toContain('"code":"BODY_TIMEOUT"');
  expect(unread.seconds).toBeLessThan(60); // Node itself would keep it for 75 s
  expect(unread.answer).toMatch(/^HTTP\/1.1 404 /); // answered at once; its connection ends anyway
  expect((await send('/healthz')).status).toBe(200);
});

test('a body that breaks off is the sender\u2019s fault and no error of ours', async () => {
  await new Promise<void>((resolve) => {
    const socket = connect(Number(new URL(service.url).port), '127.0.0.1', () => {
      socket.write(unfinished('/api/v1/session', 'application/json', '{"name":'), () => setTimeout(() => socket.destroy(), 300));
    });
    socket.on('close', () => resolve());
  });
  await send('/healthz');
  expect(service.output()).not.toContain('request failed');
});

import { execFile } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { request as httpRequest, type IncomingMessage, type ServerResponse } from 'node:http';
import { setTimeout as sleep } from 'node:timers/promises';
import { promisify } from 'node:util';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { HEARD_MS, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, standsStill, untilInstant } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';
import { sendRaw, startUpstream, type Upstream } from './support/upstream.ts';

/** The relay: a caller's call goes on with the token added. Tokens come from a stand-in; the API is in the test's own hands. */
let [service, second, standin, upstream, call] = [] as unknown as [ServiceUnderTest, ServiceUnderTest, StandinUnderTest, Upstream, ApiClient];
let dialects: Record<'notchboard' | 'ledgerfin' | 'deckhail', StandinUnderTest>;
let [board, narrow] = [] as unknown as { caller_id: string; key: string }[];
const basic = (caller: { caller_id: string; key: string }) => `Basic ${Buffer.from(`${caller.caller_id}:${caller.key}`).toString('base64')}`;
const relay = (path: string, init: RequestInit = {}, url = service.url) =>
  fetch(`${url}/relay/${path}`, { redirect: 'manual', ...init, headers: { authorization: basic(board as never), ...init.headers } });
const currentToken = async () =>
  String((await fetchToken(service.url, board?.caller_id ?? '', board?.key ?? '', `${service.url}/connections/sailings`)).body.access_token);
const isLive = (authorization: string | undefined) => {
  const issued = standin.store.state.accessTokens[(authorization ?? '').replace('Bearer ', '')];
  return issued !== undefined && issued.expiresAt > Date.now();
};

beforeAll(async () => {
  upstream = await startUpstream();
  standin = await startEelgrass(600, (text) => text.replace('base_url: https://api.eelgrass.example/v1', `base_url: http://127.0.0.1:${upstream.port}/v1`));
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  const environment = { RUSTY_KETTLE_RELAY_WAIT_SECONDS: '2' };
  service = await startService({ databaseUrl, masterKey, environment });
  call = await signIn(service);
  second = await startService({ databaseUrl, masterKey, publicUrl: service.url, environment });
  await addEelgrass(call, standin);
  for (const name of ['sailings', 'paused']) {
    await addConnection(call, name);
    await agree(call, name);
  }
  board = await call('addCaller', { body: { name: 'board', connections: ['sailings', 'paused'] } });
  narrow = await call('addCaller', { body: { name: 'narrow' } });
  dialects = {
    notchboard: await startUnderTest('notchboard', 600),
    ledgerfin: await startUnderTest('ledgerfin', 600),
    deckhail: await startUnderTest('deckhail', 600),
  };
});
afterAll(async () => {
  for (const one of [service, second]) await one?.stop();
  for (const one of [standin, ...Object.values(dialects)]) await one?.stop();
  await upstream?.stop();
  for (const one of [service, second]) removeFolder(one.folder);
});
beforeEach(() => {
  upstream.seen.length = 0;
  upstream.streams = false;
  upstream.answer = (request, response, body) => {
    if (!isLive(request.headers.authorization)) return void response.writeHead(401, { 'content-type': 'application/json' }).end('{"error":"invalid_token"}');
    response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify({ method: request.method, url: request.url, body }));
  };
});

test.each(['GET', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'])('%s goes on with the token, its body and its own headers, and without ours', async (method) => {
  const body = method === 'GET' || method === 'OPTIONS' ? null : '{"a":1}';
  const answer = await relay('sailings/tables/x?limit=2&q=a%20b', {
    method,
    body,
    headers: {
      'content-type': 'application/json',
      'x-request-tag': 'mine',
      cookie: 'rk_session=stolen',
      'x-forwarded-for': '10.0.0.1',
      te: 'trailers',
      origin: 'https://page.example',
    },
  });
  expect([answer.status, await answer.json()]).toEqual([200, { method, url: '/v1/tables/x?limit=2&q=a%20b', body: body ?? '' }]);
  const [seen] = upstream.seen;
  expect(seen?.headers).toMatchObject({ 'x-request-tag': 'mine', authorization: expect.stringMatching(/^Bearer /) });
  expect(seen?.headers.authorization).toBe(`Bearer ${await currentToken()}`);
  for (const name of ['cookie', 'x-forwarded-for', 'te', 'origin', 'via']) expect(seen?.headers, name).not.toHaveProperty(name);
});

test('what came of relayed calls is informed: counts by class, the last one, and the last that failed with its verdict', async () => {
  const told = await call('addCaller', { body: { name: 'told', connections: ['sailings'] } });
  const send = async (path: string) => (await relay(`sailings${path}`, { headers: { authorization: basic(told as never) } })).text();
  await send('/tables?secret-in-query=1');
  upstream.answer = (_request, response) =>
    void response
      .writeHead(403, { 'content-type': 'application/json', 'www-authenticate': 'Bearer error="insufficient_scope"' })
      .end('{"error":"insufficient_scope"}');
  expect(await send('/tables/x')).toBe('{"error":"insufficient_scope"}');
  upstream.answer = (_request, response) => void response.writeHead(503).end('later'); // with Retry-After the quota would wait, too
  expect(await send('/calendars')).toBe('later'); // the beginning is looked at, and all of it goes on
  const uses = await eventually(async () => {
    const { uses } = await call('showCaller', { params: { caller: 'told' } });
    return uses[0]?.relay?.by_class['5xx'] ? uses : null;
  });
  expect(uses[0]?.relay).toMatchObject({
    by_class: { '2xx': 1, '4xx': 1, '5xx': 1 },
    last: { status: 503, method: 'GET', path: '/calendars', cause: 'provider_down', says: expect.any(String), remedy: expect.any(String) },
    last_failed: { status: 503 },
  });
  const { callers_last_used: users } = await call('showConnection', { params: { connection: 'sailings' } });
  expect(users.find((one) => one.caller === 'told')?.relay?.by_class).toEqual({ '2xx': 1, '4xx': 1, '5xx': 1 });
  expect(JSON.stringify(uses)).not.toContain('secret-in-query');
});

test.each<[kind: string, method: 'POST' | 'PUT' | 'PATCH' | 'DELETE' | 'GET', body: string | null, headers: { name: string; value: string }[]]>([
  ['JSON', 'POST', '{"a":"it\u2019s \\"quoted\\"","b":[1,2]}', []],
  ['JSON with an own type', 'PATCH', '[{"op":"add"}]', [{ name: 'Content-Type', value: 'application/json-patch+json' }]],
  ['a form', 'POST', 'a=1&b=c%20d&c=%C3%A5', [{ name: 'content-type', value: 'application/x-www-form-urlencoded' }]],
  [
    'text that curl would read as a file',
    'PUT',
    '@/etc/passwd\n<tag> $HOME `id` \\ \u00e5\u{1f6a2}',
    [{ name: 'content-type', value: 'text/plain; charset=utf-8' }],
  ],
  ['an empty body', 'POST', '', []],
  ['no body', 'DELETE', null, []],
  [
    'no body, headers of its own',
    'GET',
    null,
    [
      { name: 'accept', value: 'text/csv' },
      { name: 'x-empty', value: '' },
    ],
  ],
])('what the exported curl line sends equals what we send, byte for byte: %s', async (_kind, method, body, headers) => {
  const composed = { method, path: '/tables/x', query: [{ name: 'q', value: "a b&c='" }], headers, body };
  await call('callConnection', { params: { connection: 'sailings' }, body: { ...composed, effects: true } });
  const { line } = await call('writeCurl', { params: { connection: 'sailings' }, body: composed });
  const environment = { ...process.env, RUSTY_KETTLE_CALLER_ID: board?.caller_id ?? '', RUSTY_KETTLE_CALLER_KEY: board?.key ?? '' };
  await promisify(execFile)('sh', ['-c', line], { env: environment });
  const told = upstream.seen.map(({ method: sent, url, headers: names, body: text }) => {
    const own = Object.fromEntries(headers.map((one) => [one.name.toLowerCase(), names[one.name.toLowerCase()]]));
    return { sent, url, text, type: names['content-type'], accept: names.accept, length: names['content-length'], authorization: names.authorization, ...own };
  });
  expect(told).toHaveLength(2);
  expect(told[1]).toEqual(told[0]);
  expect(told[0]?.text).toBe(body ?? '');
});

test('HEAD, 204 and 304 have no body, and end', async () => {
  expect((await relay('sailings/tables', { method: 'HEAD' })).status).toBe(200);
  for (const [status, length] of [
    [204, {}],
    [304, {}],
    [204, { 'content-length': '5' }],
    [304, { 'content-length': '1234' }],
  ] as const) {
    upstream.answer = (_request, response) =>
      void response.socket?.end(
        `HTTP/1.1 ${status} x\r\netag: "1"\r\n${Object.entries(length)
          .map(([name, value]) => `${name}: ${value}\r\n`)
          .join('')}connection: close\r\n\r\n`,
      );
    const answer = await relay('sailings/tables');
    expect([answer.status, await answer.text(), answer.headers.get('etag')]).toEqual([status, '', '"1"']);
  }
});

test('the answer\u2019s headers cannot act on our origin, and the token is masked where it recurs', async () => {
  upstream.answer = (request, response) =>
    void response
      .writeHead(200, {
        'content-type': 'text/html',
        'set-cookie': ['a=1; Path=/', 'b=2'],
        'clear-site-data': '"*"',
        'strict-transport-security': 'max-age=1',
        'service-worker-allowed': '/',
        'access-control-allow-origin': '*',
        'access-control-allow-credentials': 'true',
        'content-security-policy': "default-src 'unsafe-inline'",
        'x-echo': `you sent ${request.headers.authorization}`,
        connection: 'x-private, keep-active',
        'x-private': 'of one connection',
        nel: '{}',
        'report-to': '{}',
        'reporting-endpoints': 'x="https://evil.example"',
        refresh: '0; url=https://evil.example',
        'accept-ch': 'dpr',
      })
      .end('<script>1</script>');
  const { headers } = await relay('sailings/tables');
  expect(Object.fromEntries(headers)).toMatchObject({
    'content-security-policy': 'sandbox',
    'x-content-type-options': 'nosniff',
    'x-echo': 'you sent Bearer [secret]',
  });
  for (const name of [
    'set-cookie',
    'clear-site-data',
    'strict-transport-security',
    'service-worker-allowed',
    'access-control-allow-origin',
    'access-control-allow-credentials',
    'x-private',
    'nel',
    'report-to',
    'reporting-endpoints',
    'refresh',
    'accept-ch',
  ])
    expect(headers.get(name), name).toBeNull();
});

test('Link headers lead to the relay, so that no client follows one with its key to the provider', async () => {
  const base = `http://127.0.0.1:${upstream.port}/v1`;
  upstream.answer = (_request, response) =>
    void response
      .writeHead(200, {
        link: [
          `<${base}/tables?page=2>; rel="next", </v1/tables?page=9>; rel="last"; title="a, b"`,
          '<https://evil.example/x>; rel="help", <?page=1>; rel=first',
        ],
        'x-next': `${base}/tables?page=2`,
        'x-elsewhere': `${base}-other/tables`,
      })
      .end('[]');
  const { headers } = await relay('sailings/tables');
  const ours = `${service.url}/relay/sailings`;
  expect(headers.get('link')).toBe(
    `<${ours}/tables?page=2>; rel="next", <${ours}/tables?page=9>; rel="last"; title="a, b", <${ours}/tables?page=1>; rel=first`,
  );
  expect([headers.get('link-elsewhere'), headers.get('x-next'), headers.get('x-elsewhere')]).toEqual([
    '<https://evil.example/x>; rel="help"',
    `${ours}/tables?page=2`,
    `${base}-other/tables`,
  ]);
});

test('headers with an underscore do not go on, whoever would read them as others', async () => {
  upstream.answer = (request, response) => void response.end(JSON.stringify(Object.keys(request.headers)));
  const answer = await sendRaw(
    service.url,
    `GET /relay/sailings/tables HTTP/1.1\r\nhost: x\r\nx_admin: 1\r\nX_Forwarded_For: 1.2.3.4\r\nauthorization: ${basic(board as never)}\r\n\r\n`,
  );
  expect(answer).toMatch(/^HTTP\/1\.1 200 /);
  expect(answer).not.toMatch(/x_admin|x_forwarded/i);
});

test('headers in whatever bytes the API writes them come back, or the call is explained; nothing hangs', async () => {
  for (const value of ['Zo\xc3\xab', 'price 5 \xe2\x82\xac', 'caf\xe9', '\x01bell', '']) {
    upstream.answer = (_request, response) => void response.socket?.end(`HTTP/1.1 200 OK\r\nx-name: ${value}\r\ncontent-length: 2\r\n\r\nok`, 'latin1');
    const answer = await relay('sailings/tables');
    const body = await answer.text();
    expect([value, answer.status, body]).toEqual([
      value,
      value.includes('\x01') ? 502 : 200,
      value.includes('\x01') ? expect.stringContaining('UPSTREAM_BROKE') : 'ok',
    ]);
    if (answer.status === 200) expect(Buffer.from(answer.headers.get('x-name') ?? '', 'latin1').toString('latin1')).toBe(value);
  }
});

test('a redirect is not followed; below the API it leads to the relay again, to another host it loses its name', async () => {
  upstream.answer = (_request, response) => void response.writeHead(302, { location: '/v1/tables/moved?x=1' }).end();
  expect((await relay('sailings/tables')).headers.get('location')).toBe(`${service.url}/relay/sailings/tables/moved?x=1`);
  for (const elsewhere of ['https://evil.example/take', `http://127.0.0.1:${standin.port}/v1/tables`, '//evil.example/x']) {
    upstream.answer = (_request, response) => void response.writeHead(307, { location: elsewhere }).end();
    const { status, headers } = await relay('sailings/tables');
    expect([status, headers.get('location'), headers.get('location-elsewhere')]).toEqual([307, null, elsewhere]);
  }
  expect(upstream.seen).toHaveLength(4);
});

test.each([
  { name: 'two dots', path: 'sailings/tables/../../admin' },
  { name: 'encoded dots', path: 'sailings/%2e%2e/admin' },
  { name: 'half encoded', path: 'sailings/.%2E/admin' },
  { name: 'dots with a parameter', path: 'sailings/tables/..;x/admin' },
  { name: 'dots encoded twice', path: 'sailings/tables/%252e%252e/admin' },
  { name: 'an encoded slash', path: 'sailings/tables%2f..%2fadmin' },
  { name: 'an encoded semicolon behind dots', path: 'sailings/tables/..%3b/admin' },
  { name: 'overlong UTF-8', path: 'sailings/%c0%ae%c0%ae/admin' },
  { name: 'broken UTF-8', path: 'sailings/a%ff' },
  { name: 'more than any API documents', path: `sailings/${'a'.repeat(5_000)}` },
  { name: 'two slashes', path: 'sailings//evil.example/x' },
  { name: 'a backslash', path: 'sailings/tables\\..\\admin' },
  { name: 'an encoded backslash', path: 'sailings/%5c..%5cadmin' },
  { name: 'a full-width slash behind dots', path: 'sailings/tables/..%ef%bc%8fadmin' },
  { name: 'a division slash', path: 'sailings/tables/..%e2%88%95admin' },
  { name: 'full-width dots', path: 'sailings/tables/%ef%bc%8e%ef%bc%8e/admin' },
  { name: 'a line break, encoded', path: 'sailings/a%0d%0ahost:%20evil' },
  { name: 'a byte outside ASCII', path: 'sailings/\u00e4' },
])('a path with $name is rejected before anything is sent', async ({ path }) => {
  const answer = await sendRaw(service.url, `GET /relay/${path} HTTP/1.1\r\nhost: x\r\nauthorization: ${basic(board as never)}\r\n\r\n`);
  expect(answer).toMatch(/^HTTP\/1\.1 400 /);
  expect(upstream.seen).toEqual([]);
});

test('requests that were meant to be read in two ways do not get through', async () => {
  const head = `host: x\r\nauthorization: ${basic(board as never)}\r\n`;
  for (const [what, raw, status] of [
    ['absolute form', `GET http://evil.example/relay/sailings/tables HTTP/1.1\r\n${head}\r\n`, '404'],
    ['TRACE', `TRACE /relay/sailings/tables HTTP/1.1\r\n${head}\r\n`, '405'],
    ['CONNECT', `CONNECT evil.example:443 HTTP/1.1\r\n${head}\r\n`, ''],
    [
      'length and chunks at once',
      `POST /relay/sailings/tables HTTP/1.1\r\n${head}content-length: 4\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\r\nGET /relay/sailings/admin HTTP/1.1\r\n\r\n`,
      '400',
    ],
    ['two hosts', `GET /relay/sailings/tables HTTP/1.1\r\n${head}Host: evil.example\r\n\r\n`, '400'],
    ['two lengths', `POST /relay/sailings/tables HTTP/1.1\r\n${head}content-length: 4\r\ncontent-length: 40\r\n\r\nabcd`, '400'],
    ['a header within a value', `GET /relay/sailings/tables HTTP/1.1\r\n${head}x-a: 1\n\tauthorization: Bearer mine\r\n\r\n`, '400'],
  ] as const)
    expect([what, /^HTTP\/1\.1 (\d+)/.exec(await sendRaw(service.url, raw))?.[1] ?? '']).toEqual([what, status]);
  expect(upstream.seen).toEqual([]);
  // Named in Connection, a header is of our connection alone: it cannot take the token out of the call either.
  await sendRaw(service.url, `GET /relay/sailings/tables HTTP/1.1\r\n${head}connection: close, authorization, x-tag\r\nx-tag: 1\r\n\r\n`);
  expect(upstream.seen[0]?.headers).toMatchObject({ authorization: expect.stringMatching(/^Bearer /) });
  expect(upstream.seen[0]?.headers).not.toHaveProperty('x-tag');
});

test('who may what: a wrong key, another\u2019s connection, tokens only, methods and paths; the session cookie is no key', async () => {
  const as = (caller: { caller_id: string; key: string }, path: string, init: RequestInit = {}) =>
    relay(path, { ...init, headers: { authorization: basic(caller) } });
  expect((await as({ caller_id: board?.caller_id ?? '', key: 'rkk_wrong' }, 'sailings/tables')).status).toBe(401);
  expect((await fetch(`${service.url}/relay/sailings/tables`, { headers: { authorization: `Bearer ${board?.caller_id}.${board?.key}` } })).status).toBe(200);
  expect((await fetch(`${service.url}/relay/sailings/tables`)).headers.get('www-authenticate')).toContain('Basic');
  const permit = (more: object) => call('permitCaller', { params: { caller: 'narrow' }, body: { connection: 'sailings', ...more } });
  const may = (path: string, method = 'GET') => as(narrow as never, `sailings${path}`, { method }).then((answer) => answer.status);
  expect(await may('/tables')).toBe(403);
  await permit({ use: 'token' });
  expect(await eventually(async () => ((await may('/tables')) === 403 ? 403 : null))).toBe(403);
  await permit({ use: 'relay', methods: ['GET'], paths: ['/tables/*', '/notes/**'] });
  await eventually(async () => (await may('/tables/x')) === 200);
  for (const [path, method, status] of [
    ['/tables', 'GET', 403],
    ['/tables/x/rows', 'GET', 403],
    ['/tables/x', 'DELETE', 403],
    ['/notes', 'GET', 200],
    ['/notes/a/b', 'GET', 200],
    ['/notesx', 'GET', 403],
  ] as const)
    expect([path, method, await may(path, method)]).toEqual([path, method, status]);
  // Many APIs take a method or path from elsewhere: then what is permitted would not be what is done.
  for (const header of [
    ...['x-http-method-override', 'X-HTTP-Method', 'x-original-url', 'X-Original-Path', 'X-HTTP-Path-Override', 'Method-Override'],
    ...['HTTP-Method-Override', 'X-HTTP-Verb', 'X-Override-Method'],
  ])
    expect((await relay('sailings/notes', { headers: { authorization: basic(narrow as never), [header]: 'DELETE' } })).status).toBe(403);
  expect((await as(narrow as never, 'sailings/notes?_method=DELETE')).status).toBe(403);
  expect((await relay('sailings/notes', { headers: { 'x-http-method-override': 'DELETE' } })).status).toBe(200); // this caller may do all of it
  const refused = (await (await as(narrow as never, 'sailings/tables')).json()) as { code: string; detail: string; remedy: string };
  expect(refused).toMatchObject({
    code: 'NOT_PERMITTED',
    detail: 'narrow may not send GET /tables through sailings.',
    remedy: expect.stringContaining('rk caller show'),
  });
  expect((await fetchToken(service.url, narrow?.caller_id ?? '', narrow?.key ?? '')).body).toMatchObject({
    error: 'invalid_target',
    error_description: expect.stringContaining('/relay/sailings/'),
  });
});

test('a label opens what carries it, also later, and is heard on every replica', async () => {
  const labelled = await call('addCaller', { body: { name: 'labelled' } });
  await call('permitCaller', { params: { caller: 'labelled' }, body: { label: 'harbour', use: 'relay' } });
  const status = async () => (await relay('sailings/tables', { headers: { authorization: basic(labelled) } }, second.url)).status;
  expect(await status()).toBe(403);
  const change = async (labels: string[]) => {
    const { revision } = await call('showConnection', { params: { connection: 'sailings' } });
    await call('changeConnection', { params: { connection: 'sailings' }, body: { revision, labels } });
  };
  await change(['harbour']);
  await eventually(async () => (await status()) === 200, HEARD_MS);
  expect((await call('showConnection', { params: { connection: 'sailings' } })).callers_last_used).toContainEqual(
    expect.objectContaining({ caller: 'labelled', says: 'relay only' }),
  );
  await change([]);
  await eventually(async () => (await status()) === 403, HEARD_MS);
});

test('a 401 brings one renewal and one retry, also with a short body; a token that is young is not renewed because someone shows it', async () => {
  const dead = new Set<string>();
  upstream.answer = (request, response, body) => {
    const isDead = dead.has((request.headers.authorization ?? '').replace('Bearer ', ''));
    response.writeHead(isDead ? 401 : 200, { 'content-type': 'application/json' }).end(isDead ? '{"error":"invalid_token"}' : JSON.stringify({ body }));
  };
  // A tenth of the life is the least age of a token that is renewed for a 401: 6 s, wide enough for a slow machine on both sides of it.
  await standin.order('lives', { access_seconds: 60 });
  // One that was under way is waited for, and its token still lives as long as before.
  const { renewals, life } = await eventually(async () => {
    const renewed = await call('renewConnection', { params: { connection: 'sailings' } });
    return Date.parse(renewed.life?.expires_at ?? '') - Date.parse(renewed.life?.issued_at ?? '') <= 60_000 ? renewed : null;
  });
  await untilInstant(Date.parse(life?.issued_at ?? '') + 8_000);
  dead.add(await currentToken());
  const posts = await Promise.all(Array.from({ length: 20 }, () => relay('sailings/tables', { method: 'POST', body: '{"twice":true}' })));
  expect(posts.map((answer) => answer.status)).toEqual(Array.from({ length: 20 }, () => 200));
  expect(await posts[0]?.json()).toEqual({ body: '{"twice":true}' });
  expect((await call('showConnection', { params: { connection: 'sailings' } })).renewals).toBe(renewals + 1); // one for all twenty
  upstream.seen.length = 0;
  dead.add(await currentToken());
  expect((await relay('sailings/tables')).status).toBe(401);
  expect([upstream.seen.length, (await call('showConnection', { params: { connection: 'sailings' } })).renewals]).toEqual([1, renewals + 1]);
  await standin.order('lives', { access_seconds: 600 });
  await call('renewConnection', { params: { connection: 'sailings' } });
});

test('a body that is streamed is sent once: its 401 is passed on as it came', async () => {
  upstream.answer = (_request, response) => void response.writeHead(401, { 'www-authenticate': 'Bearer error="invalid_token"' }).end('no');
  const stream = new ReadableStream({
    start(controller) {
      controller.enqueue(new TextEncoder().encode('a part'));
      controller.close();
    },
  });
  const answer = await relay('sailings/tables', { method: 'POST', body: stream, duplex: 'half' } as RequestInit);
  expect([answer.status, await answer.text(), upstream.seen.length, upstream.seen[0]?.body]).toEqual([401, 'no', 1, 'a part']);
});

/** Every value of a byte, and a header with one beyond ASCII: a body of one piece is sent with its head, any other after it. */
test.each([
  ...[0, 1, 256, 16 * 1024 - 1, 16 * 1024, 16 * 1024 + 1, 200_000].map((bytes) => ({ bytes, named: true, pieces: 1 })),
  ...[0, 1, 3_000].map((bytes) => ({ bytes, named: false, pieces: 1 })),
  ...[2, 3_000, 20_000].map((bytes) => ({ bytes, named: true, pieces: 2 })),
])('$bytes bytes in $pieces pieces, length named: $named, come back as they are', async ({ bytes, named, pieces }) => {
  const body = Buffer.from(Array.from({ length: bytes }, (_one, at) => at % 256));
  const cut = pieces === 1 ? bytes : Math.floor(bytes / 2);
  upstream.answer = (_request, response) => {
    response.writeHead(200, { 'x-note': 'M\u00fcnze', ...(named ? { 'content-length': bytes } : {}) });
    response.write(body.subarray(0, cut), () => response.end(body.subarray(cut)));
  };
  const answer = await relay('sailings/tables');
  expect([answer.status, answer.headers.get('x-note'), answer.headers.get('content-length')]).toEqual([200, 'M\u00fcnze', named ? String(bytes) : null]);
  expect(Buffer.compare(Buffer.from(await answer.arrayBuffer()), body)).toBe(0);
});

test('two megabytes there and back arrive whole; nothing is gathered in between while one side is slow', async () => {
  const big = randomBytes(2 * 1024 * 1024).toString('base64');
  upstream.answer = (_request, response, body) => void response.writeHead(200, { 'content-type': 'text/plain' }).end(body);
  const answer = await relay('sailings/tables', { method: 'PUT', body: big });
  expect((await answer.text()) === big).toBe(true);

  // The API could send without end; a caller that does not read holds it back: what it was able to write stays small.
  let written = 0;
  upstream.streams = true;
  let apiResponse: ServerResponse | null = null as ServerResponse | null;
  upstream.answer = (request, response) => {
    if (request.method === 'HEAD') return void response.end();
    apiResponse = response;
    response.writeHead(200, { 'content-type': 'application/octet-stream' });
    const part = Buffer.alloc(256 * 1024);
    const more = () => {
      while (!response.destroyed && response.write(part)) written += part.length;
      if (!response.destroyed) response.once('drain', more);
    };
    more();
  };
  const rss = () => Number(/VmRSS:\s+(\d+) kB/.exec(readFileSync(`/proc/${service.process.pid}/status`, 'utf8'))?.[1] ?? 0) / 1024;
  const before = rss();
  const { hostname, port } = new URL(service.url);
  const client = httpRequest({ hostname, port, path: '/relay/sailings/tables', headers: { authorization: basic(board as never) } });
  const response = await new Promise<IncomingMessage>((resolve) => client.on('response', resolve).end());
  expect(response.statusCode).toBe(200);
  const held = await standsStill(500, () => written);
  expect(held).toBeLessThan(64 * 1024 * 1024);
  expect(rss() - before).toBeLessThan(60);
  // The caller hangs up: the API is informed at once, and not left to write into nothing.
  const left = new Promise<void>((resolve) => apiResponse?.once('close', resolve));
  client.destroy();
  await Promise.race([left, sleep(3_000).then(() => Promise.reject(new Error('the API still writes, 3 s after the caller hung up')))]);
  expect((await relay('sailings/tables', { method: 'HEAD' })).status).toBe(200);
});

test.each([
  { name: 'breaks off before it answers', answer: (r: ServerResponse) => void r.socket?.destroy(), status: 502, code: 'UPSTREAM_BROKE' },
  { name: 'never answers', answer: () => undefined, status: 504, code: 'UPSTREAM_SLOW' },
  { name: 'answers no HTTP', answer: (r: ServerResponse) => void r.socket?.end('hello?\r\n\r\n'), status: 502, code: 'UPSTREAM_BROKE' },
])('an API that $name: said, within the limit, with what to do', async ({ answer, status, code }) => {
  upstream.answer = (_request, response) => answer(response);
  const startedAt = Date.now();
  const got = await relay('sailings/tables');
  const problem = (await got.json()) as { remedy: string };
  expect([got.status, problem]).toEqual([status, expect.objectContaining({ code })]);
  expect(Date.now() - startedAt).toBeLessThan(6_000);
});

test('an answer that breaks in its middle, or stalls, breaks the caller\u2019s connection: it never looks whole', async () => {
  for (const end of [(r: ServerResponse) => setTimeout(() => r.socket?.destroy(), 50), () => undefined]) {
    upstream.answer = (_request, response) => {
      response.writeHead(200, { 'content-type': 'application/json', 'content-length': '1000' });
      response.write('{"records":[');
      end(response);
    };
    const answer = await relay('sailings/tables');
    expect(answer.status).toBe(200);
    await expect(answer.text()).rejects.toThrow();
  }
});

test('an API that lies about gzip, sends two lengths, or a thousand headers: passed on as it is, or rejected, and the service goes on', async () => {
  upstream.answer = (_request, response) => void response.writeHead(200, { 'content-encoding': 'gzip', 'content-type': 'application/json' }).end('{"plain":1}');
  const { hostname, port } = new URL(service.url);
  const raw = await new Promise<string>((resolve) =>
    httpRequest({ hostname, port, path: '/relay/sailings/tables', headers: { authorization: basic(board as never) } }, (response) => {
      let text = '';
      response.on('data', (part) => (text += part)).on('end', () => resolve(`${response.headers['content-encoding']} ${text}`));
    }).end(),
  );
  expect(raw).toBe('gzip {"plain":1}'); // bytes are not looked into: whoever unpacks them sees the lie
  upstream.answer = (_request, response) => {
    response.socket?.end('HTTP/1.1 200 OK\r\ncontent-length: 5\r\ncontent-length: 6\r\n\r\nhello!');
  };
  expect((await relay('sailings/tables')).status).toBe(502);
  upstream.answer = (_request, response) =>
    void response.socket?.end(
      `HTTP/1.1 200 OK\r\n${Array.from({ length: 3_000 }, (_none, at) => `x-${at}: ${'y'.repeat(20)}`).join('\r\n')}\r\ncontent-length: 0\r\n\r\n`,
    );
  expect((await relay('sailings/tables')).status).toBe(502);
});

test('a thousand callers at once for a paused connection: each is informed, nothing reaches the API, and others go on', async () => {
  await call('pauseConnection', { params: { connection: 'paused' } });
  const [answers, other] = await Promise.all([Promise.all(Array.from({ length: 1_000 }, () => relay('paused/tables'))), relay('sailings/tables')]);
  expect(new Set(answers.map((answer) => answer.status))).toEqual(new Set([409]));
  expect([other.status, upstream.seen.length]).toEqual([200, 1]);
  expect(await answers[0]?.json()).toMatchObject({ code: 'CONNECTION_PAUSED' });
  await eventually(async () => (await relay('paused/tables', {}, second.url)).status === 409, HEARD_MS);
});

test('the token is placed as the dialect states, at the address that the answer or the session names', async () => {
  const { notchboard, ledgerfin, deckhail } = dialects;
  for (const [name, one] of Object.entries(dialects)) {
    await call('addProvider', { body: { document: one.definitionText } });
    const of = {
      provider: name,
      ...(name === 'deckhail' ? { type: 'desktop' as const } : {}),
      ...(name === 'ledgerfin' ? { placeholders: { tenant: 'lf204816' } } : {}),
    };
    const { id } = await addClient(call, one, 'office', of);
    if (name === 'deckhail') {
      const there = deckhail.store.state.clients[id];
      if (there) there.serviceUser = { name: 'Deck', role: 'Announcer' };
    }
  }
  await addConnection(call, 'forum', ['read', 'keep'], 'office', 'notchboard');
  await agree(call, 'forum');
  await addConnection(call, 'deck', ['hear', 'offline_access'], 'office', 'deckhail');
  await agree(call, 'deck');
  await addConnection(call, 'books', ['books.read'], 'office', 'ledgerfin');
  const opened = await call('openConnection', { params: { connection: 'books' } });
  await eventually(async () => (await call('showConsent', { params: { consent: opened.id } })).phase === 'done');
  const caller = await call('addCaller', { body: { name: 'dialects', connections: ['forum', 'deck', 'books'] } });
  const get = async (path: string) => {
    const answer = await relay(path, { headers: { authorization: basic(caller) } });
    return [answer.status, Object.keys((await answer.json()) as object)[0]];
  };
  expect(await get('forum/threads')).toEqual([200, 'threads']);
  expect(await get('deck/announcements')).toEqual([200, 'announcements']);
  expect(await get('books/accounts')).toEqual([200, 'accounts']);
  expect((await notchboard.counters()).counters['api.unauthorized'] ?? 0).toBe(0);
  expect((await ledgerfin.counters()).counters['session.opened']).toBe(1); // the first call of the consent opened it; the relay used the same
});

test('bad days as a stand-in plays them: cut in the middle, lying about gzip, without end, a redirect elsewhere', async () => {
  const { notchboard } = dialects;
  const caller = await call('addCaller', { body: { name: 'bad-days', connections: ['forum'] } });
  const get = async (fault: object) => {
    await notchboard.order('faults', { at: 'api', times: 1, ...fault });
    return relay('forum/threads', { headers: { authorization: basic(caller) } });
  };
  await expect((await get({ kind: 'cut_mid' })).text()).rejects.toThrow();
  await expect((await get({ kind: 'false_gzip' })).text()).rejects.toThrow(); // fetch unpacks, and finds no gzip
  const endless = await get({ kind: 'endless' });
  const reader = endless.body?.getReader();
  expect((await reader?.read())?.value?.length).toBeGreaterThan(0);
  await reader?.cancel();
  const { status, headers } = await get({ kind: 'redirect', text: 'https://evil.example/take' });
  expect([status, headers.get('location'), headers.get('location-elsewhere'), headers.get('set-cookie'), headers.get('clear-site-data')]).toEqual([
    302,
    null,
    'https://evil.example/take',
    null,
    null,
  ]);
  expect((await relay('forum/threads', { headers: { authorization: basic(caller) } })).status).toBe(200);
});

test('where a renewal ends the token, whoever keeps one for as long as expires_in says never holds a dead one; two callers, through renewals', async () => {
  const { deckhail } = dialects;
  await deckhail.order('lives', { access_seconds: 6 });
  const before = (await call('renewConnection', { params: { connection: 'deck' } })).renewals;
  const caller = await call('addCaller', { body: { name: 'keeps', connections: ['deck'] } });
  const statuses = new Set<number>();
  const keep = async (everyMs: number, at: ServiceUnderTest) => {
    let [token, endsAt] = ['', 0];
    for (const until = Date.now() + 14_000; Date.now() < until; await sleep(everyMs)) {
      if (Date.now() >= endsAt) {
        const sentAt = Date.now();
        const answer = await fetchToken(at.url, caller.caller_id, caller.key);
        expect(answer.status).toBe(200);
        [token, endsAt] = [String(answer.body.access_token), sentAt + Number(answer.body.expires_in) * 1000];
      }
      const { status } = await fetch(`http://127.0.0.1:${deckhail.port}/1/announcements`, { headers: { authorization: `Bearer ${token}` } });
      if (Date.now() < endsAt) statuses.add(status); // an answer from after that end says nothing
    }
  };
  await Promise.all([keep(70, service), keep(230, second)]);
  expect(statuses).toEqual(new Set([200]));
  expect((await call('showConnection', { params: { connection: 'deck' } })).renewals).toBeGreaterThanOrEqual(before + 2);
});

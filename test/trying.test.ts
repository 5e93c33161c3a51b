import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { ChannelRule } from '../src/core/notices/channel.ts';
import { newFolder, PASSWORD, removeFolder, rk as run, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Trying a call: composed, filled in, asked about where it is live, saved for everyone, from and to curl and HAR; by API and by rk. */
let [service, eelgrass, wharfpost, call] = [] as unknown as [ServiceUnderTest, StandinUnderTest, StandinUnderTest, ApiClient];
const home = newFolder();
const rk = (...args: string[]) => run(['--url', service.url, ...args], { home });
const parcels = { connection: 'parcels' };

beforeAll(async () => {
  [eelgrass, wharfpost] = [await startEelgrass(600), await startUnderTest('wharfpost', 600, (text) => text.replace('most: 45', 'most: 4500'))];
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await addEelgrass(call, eelgrass);
  await addConnection(call, 'sailings');
  await agree(call, 'sailings');
  await call('addProvider', { body: { document: wharfpost.definitionText } });
  await addClient(call, wharfpost, 'counter', { provider: 'wharfpost' });
  await call('addConnection', {
    body: { name: 'parcels', provider: 'wharfpost', client: 'counter', scopes: ['parcels', 'parcels-book'], placeholders: { account: '40017788' } },
  });
  const opened = await call('openConnection', { params: parcels });
  await eventually(async () => (await call('showConsent', { params: { consent: opened.id } })).phase === 'done');
  await run(['--url', service.url, 'sign-in', '--name', 'marit'], { home, input: PASSWORD });
});
afterAll(async () => {
  await service?.stop();
  for (const one of [eelgrass, wharfpost]) await one?.stop();
  for (const folder of [service.folder, home]) removeFolder(folder);
});

test('operations are offered with parameters, needed scopes, weights and an example body', async () => {
  const { operations, environment, rehearsal, placeholders } = await call('offeredCalls', { params: { connection: 'sailings' } });
  expect([environment, rehearsal, placeholders]).toEqual(['live', false, {}]);
  expect(operations.find((one) => one.id === 'list-rows')).toMatchObject({
    method: 'GET',
    path: '/tables/{table}/rows',
    allowed: true,
    needs: [['tables.read'], ['tables.write']],
    parameters: [{ name: 'table', in: 'path', required: true }, { name: 'limit', in: 'query', required: false, example: '10' }, { name: 'cursor' }],
  });
  expect(operations.find((one) => one.id === 'add-row')?.allowed).toBe(false);
  const offered = await call('offeredCalls', { params: parcels });
  expect(offered.placeholders).toEqual({ account: '40017788' });
  expect(offered.operations.find((one) => one.id === 'book-parcel')?.body).toContain('{account}');
});

test('a call comes back with status, headers, body, size, time, and as it can be taken elsewhere; the token nowhere', async () => {
  const answer = await call('callConnection', {
    params: { connection: 'sailings' },
    body: {
      path: '/tables/{table}/rows',
      query: [{ name: 'limit', value: '2' }],
      headers: [
        { name: 'x-tag', value: 'mine' },
        { name: 'Accept', value: 'text/csv, application/json' },
      ],
      values: { table: 'boats' },
    },
  });
  expect(answer).toMatchObject({ status: 200, environment: 'live', content_type: expect.stringContaining('json'), diagnosis: null });
  expect(answer.headers).toContainEqual({ name: 'x-rate-left', value: expect.any(String) });
  expect(answer.bytes).toBeGreaterThan(50);
  expect(answer.curl).toBe(
    `curl -sS -u "$RUSTY_KETTLE_CALLER_ID:$RUSTY_KETTLE_CALLER_KEY" -H 'x-tag: mine' -H 'Accept: text/csv, application/json' '${service.url}/relay/sailings/tables/boats/rows?limit=2'`,
  );
  expect(answer.request.headers).toEqual([
    { name: 'accept', value: 'text/csv, application/json' },
    { name: 'authorization', value: 'Bearer [secret]' },
    { name: 'x-tag', value: 'mine' },
  ]);
  expect(JSON.stringify(answer.har)).toContain('Bearer [secret]');
  for (const token of Object.keys(eelgrass.store.state.accessTokens)) expect(JSON.stringify(answer)).not.toContain(token);
});

test('a call that may change something on a live connection is not sent before that is said', async () => {
  const book = { method: 'POST' as const, path: '/parcels', body: '{"account":"{account}","to":"{to}"}', values: { to: 'Heron Island' } };
  const before = (await wharfpost.counters()).counters['api.ok'];
  await expect(call('callConnection', { params: parcels, body: book })).rejects.toMatchObject({
    problem: { code: 'WRITE_ON_LIVE', detail: expect.stringContaining('Wharfpost, which is live') },
  });
  expect((await wharfpost.counters()).counters['api.ok']).toBe(before);
  const booked = await call('callConnection', { params: parcels, body: { ...book, effects: true } });
  expect(JSON.parse(booked.body)).toMatchObject({ account: '40017788', to: 'Heron Island' });
  const { items } = await call('listHistory', { query: { subject: 'connection:parcels' } });
  expect(items[0]?.says).toBe('POST /v1/parcels answered 201.');
});

test.each([
  {
    name: 'a header with the token\u2019s own name',
    body: { path: '/tables', headers: [{ name: 'Authorization', value: 'Bearer mine' }] },
    path: 'headers.Authorization',
  },
  { name: 'a header that ends the message', body: { path: '/tables', headers: [{ name: 'x', value: 'a\r\nb: c' }] }, path: 'headers.x' },
  { name: 'a name in the path that nobody filled', body: { path: '/tables/{table}/rows' }, path: 'values.table' },
  { name: 'neither path nor saved call', body: {}, path: 'path' },
  { name: 'both of them', body: { path: '/x', saved: 'y' }, path: 'path' },
])('rejected: $name', async ({ body, path }) => {
  await expect(call('callConnection', { params: { connection: 'sailings' }, body: body as never })).rejects.toMatchObject({
    problem: { code: 'INPUT_INVALID', places: [{ path }] },
  });
});

test.each(['https://evil.example/x', 'http://api.eelgrass.localhost.evil.example/v1/x', '/../admin', '/a//b', '/%2e%2e/x', '//evil.example/x'])(
  '%s is no address of this API: nothing is sent',
  async (path) => {
    await expect(call('callConnection', { params: { connection: 'sailings' }, body: { path } })).rejects.toMatchObject({
      problem: { code: 'HOST_NOT_LISTED' },
    });
  },
);

test('saved calls are kept with the connection: fixed and requested, replaced by name, made by rk, removed; gone with the connection', async () => {
  const rows = {
    name: 'rows',
    says: 'rows of a table',
    call: { path: '/tables/{table}/rows', query: [{ name: 'limit', value: '{limit}' }] },
    parameters: [{ name: 'table' }, { name: 'limit', value: '3' }],
  };
  await call('saveCall', { params: { connection: 'sailings' }, body: rows });
  const made = await call('callConnection', { params: { connection: 'sailings' }, body: { saved: 'rows', values: { table: 'tides' } } });
  expect(made.url).toMatch(/\/tables\/tides\/rows\?limit=3$/);
  await expect(call('callConnection', { params: { connection: 'sailings' }, body: { saved: 'rows' } })).rejects.toMatchObject({
    problem: { places: [{ path: 'values.table' }] },
  });
  expect((await rk('call', 'sailings', '--saved', 'rows', '--fill', 'table=boats', 'limit=1')).out).toContain('Curlew');
  expect((await rk('call', 'sailings', 'GET', '/tables/{table}/rows', '--query', 'limit=2', '--save', 'two', '--description', 'two of them')).out).toContain(
    'table each time',
  );
  const { saved } = await call('offeredCalls', { params: { connection: 'sailings' } });
  expect(saved).toMatchObject([
    { name: 'rows', saved_by: 'marit' },
    { name: 'two', says: 'two of them', parameters: [{ name: 'table', value: null }] },
  ]);
  await call('saveCall', { params: { connection: 'sailings' }, body: { ...rows, says: 'replaced' } });
  expect((await rk('connection', 'calls', 'sailings')).out).toMatch(/rows +GET \/tables\/\{table\}\/rows +table, limit=3 +marit/);
  expect((await rk('connection', 'delete-call', 'sailings', 'two', '--yes')).code).toBe(0);
  expect((await rk('connection', 'delete-call', 'sailings', 'two', '--yes')).code).toBe(4);
});

test('from curl, through the relay or to the API itself, and from a HAR file; another host is rejected, and no sign-in is kept', async () => {
  const read = (text: string) => call('readCalls', { params: parcels, body: { text } });
  const base = `http://api.wharfpost.localhost:${wharfpost.port}/v1`;
  for (const url of [`${service.url}/relay/parcels/parcels?limit=1`, `${base}/parcels?limit=1`, '/parcels?limit=1']) {
    const { items } = await read(`curl -H 'authorization: Bearer stolen' -H 'x-tag: 1' '${url}'`);
    expect(items).toEqual([
      {
        call: { method: 'GET', path: '/parcels?limit=1', query: [], headers: [{ name: 'x-tag', value: '1' }], body: null },
        left_out: ['the header authorization'],
      },
    ]);
  }
  expect((await read('curl https://evil.example/v1/parcels')).refused[0]).toContain('none of the addresses');
  await expect(read('make me a call')).rejects.toMatchObject({ problem: { places: [{ path: 'text', why: 'It does not begin with curl.' }] } });
  const har = join(home, 'one.har');
  expect((await rk('call', 'parcels', 'GET', '/parcels?limit=2', '--har', har)).code).toBe(0);
  expect((await rk('call', 'parcels', '--from-har', har, '--as-curl')).out).toContain(`'${service.url}/relay/parcels/parcels?limit=2'`);
  expect(JSON.parse(readFileSync(har, 'utf8'))).toMatchObject({ log: { version: '1.2', entries: [{ response: { status: 200 } }] } });
  writeFileSync(har, '{"log":{"entries":[]}}');
  expect(await rk('call', 'parcels', '--from-har', har)).toMatchObject({ code: 1, err: expect.stringContaining('no HAR file') });
});

test('rk asks before a write on a live connection, says the verdict, and fails where the API says no inside a good status', async () => {
  expect(await rk('call', 'parcels', 'POST', '/parcels', '--body', '{}')).toMatchObject({
    code: 2,
    err: expect.stringContaining('LIVE: POST /v1/parcels at Wharfpost'),
  });
  const refused = await rk('call', 'parcels', 'POST', '/parcels', '--body', '{}', '--yes');
  expect(refused).toMatchObject({ code: 1, out: expect.stringContaining('account_missing'), err: expect.stringContaining('(live): 200') });
  const file = join(home, 'body.json');
  writeFileSync(file, '{"account":"{account}"}');
  expect((await rk('call', 'parcels', 'POST', '/parcels', '--body', `@${file}`, '--yes')).code).toBe(0);
  expect((await rk('connection', 'quota', 'parcels')).out).toMatch(/Parcels +4500 calls a minute +the client +4\d\d\d/);
});

test('a connection whose scopes allow none of the probes is not verified, and not degraded: it is what was asked for', async () => {
  await addConnection(call, 'narrow', ['calendars.read', 'profile', 'offline_access']);
  const { outcome } = await agree(call, 'narrow');
  expect(outcome.phase).toBe('done');
  expect(await call('showConnection', { params: { connection: 'narrow' } })).toMatchObject({
    state: 'working',
    probe: { state: expect.stringMatching('^not_') },
  });
  await expect(call('probeConnection', { params: { connection: 'narrow' }, body: {} })).rejects.toThrow(/scopes of this connection allow none/);
  expect((await call('listNotices', { query: {} })).items.filter((one) => JSON.stringify(one).includes('narrow'))).toEqual([]);
});

test('what may be a secret in saved calls, jobs and channels is masked wherever it is read, used as it is stored, and shown when an operator asks', async () => {
  const canary = 'k7Qm2xW9pL4vT8rN3bZ6';
  const secretCall = {
    ...{ method: 'GET' as const, path: `/tables?sig=${canary}` },
    ...{ query: [{ name: 'api_key', value: canary }], headers: [{ name: 'x-pin', value: canary }], body: `{"password":"${canary}","boat":"Curlew"}` },
  };
  const parameters = [{ name: 'token', value: canary, says: '' }];
  await call('saveCall', { params: { connection: 'sailings' }, body: { name: 'keyed', call: secretCall, parameters } });
  const address = `https://hooks.example.test/in/${canary}?sig=${canary}`;
  const deliver = [{ kind: 'post' as const, url: address, format: 'json' as const }];
  await call('addJob', { body: { name: 'keyed', connection: 'sailings', call: secretCall, deliver } });
  await call('addChannel', { body: { kind: 'webhook', name: 'keyed', url: address, rule: ChannelRule.parse({}) } });
  const { url } = await call('inviteOperator', { body: { name: 'looker', role: 'viewer' } });
  const anyone = apiClient({ baseUrl: service.url });
  await anyone('joinOperator', { body: { ticket: url.split('/').at(-1) ?? '', password: PASSWORD } });
  const { token = '' } = await anyone('signIn', { body: { name: 'looker', password: PASSWORD, keeps: 'token' } });
  const read = async (as: ApiClient) => [
    await as('offeredCalls', { params: { connection: 'sailings' } }),
    await as('showJob', { params: { job: 'keyed' } }),
    await as('listJobs', { query: {} }),
    await as('listChannels', {}),
    await as('showConnection', { params: { connection: 'sailings' } }),
  ];
  const viewer = apiClient({ baseUrl: service.url, token });
  for (const as of [viewer, call]) {
    const seen = JSON.stringify(await read(as));
    expect(seen).not.toContain(canary);
    for (const shown of ['(secret)', '"keyed"', 'hooks.example.test', 'Curlew']) expect(seen).toContain(shown);
  }
  // What was read is saved again: each value stays what it was.
  const keyed = (await call('offeredCalls', { params: { connection: 'sailings' } })).saved.find((one) => one.name === 'keyed');
  if (!keyed) throw new Error('it was saved');
  const copy = { name: 'keyed-copy', says: 'a copy', call: { ...keyed.call, from: 'keyed' }, parameters: keyed.parameters };
  expect(JSON.stringify(await call('saveCall', { params: { connection: 'sailings' }, body: copy }))).not.toContain(canary);
  const { settings } = await call('showJob', { params: { job: 'keyed' } });
  await call('changeJob', { params: { job: 'keyed' }, body: { ...settings, title: 'Renamed', revision: 1 } });
  await call('planJob', { body: { ...settings, connection: 'sailings' } });
  await call('changeChannel', { params: { channel: 'keyed' }, body: { revision: 0, url: 'https://hooks.example.test/(secret)', enabled: false } });
  // Sent as it is stored.
  await eelgrass.order('faults', { at: 'api', kind: 'echo', times: 1 });
  const sent = await call('callConnection', { params: { connection: 'sailings' }, body: { ...keyed.call, from: 'keyed', values: { token: '(secret)' } } });
  expect(JSON.parse(sent.body)).toMatchObject({ headers: { 'x-pin': canary }, url: expect.stringContaining(`sig=${canary}`) });
  expect(
    JSON.stringify([sent.request, sent.url, sent.curl, sent.har.log ? (sent.har as { log: { entries: { request: unknown }[] } }).log.entries[0]?.request : '']),
  ).not.toContain(canary);
  // A value goes to no other name and no other host.
  const moved = { ...keyed.call, from: 'keyed', headers: [{ name: 'x-other', value: '(secret)' }] };
  await expect(call('callConnection', { params: { connection: 'sailings' }, body: moved })).rejects.toMatchObject({
    problem: { code: 'INPUT_INVALID', places: [{ path: 'call.headers.x-other.value', why: expect.stringContaining('Enter the value') }] },
  });
  await expect(call('changeChannel', { params: { channel: 'keyed' }, body: { revision: 1, url: 'https://elsewhere.example.test/(secret)' } })).rejects.toThrow(
    /expected shape/,
  );
  // Shown when someone asks, which is written down.
  expect(await call('showCallValues', { params: { connection: 'sailings', call: 'keyed-copy' } })).toMatchObject({ call: secretCall, parameters });
  expect(await call('showJobValues', { params: { job: 'keyed' } })).toMatchObject({ title: 'Renamed', call: secretCall, deliver });
  expect(await call('showChannelValues', { params: { channel: 'keyed' } })).toEqual({ url: address });
  await expect(viewer('showJobValues', { params: { job: 'keyed' } })).rejects.toMatchObject({ problem: { code: 'ROLE_TOO_LOW' } });
  for (const subject of ['connection:sailings', 'job:keyed', 'channel:keyed'])
    expect((await call('listHistory', { query: { subject, limit: 5 } })).items[0]).toMatchObject({ kind: 'values_shown', actor: 'marit' });
});

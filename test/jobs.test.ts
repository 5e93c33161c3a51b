import { randomBytes } from 'node:crypto';
import { mkdirSync, readdirSync, readFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { gunzipSync } from 'node:zlib';
import { parse } from 'csv-parse/sync';
import { Webhook } from 'standardwebhooks';
import { request } from 'undici';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import type { Run } from '../src/api/jobs.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, agree, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';
import { plainProvider, startApi } from './support/plain-api.ts';

/** Jobs through HTTP: every paging style, every bad habit, schedules, results, deliveries; two replicas on one database. */
const LONG = 60_000;
interface At {
  scopes: string[];
  path: string;
  list: string;
  /** Of the client, or of the connection. */
  client?: Record<string, string>;
  connection?: Record<string, string>;
  bySelf?: true;
}
const AT: Record<string, At> = {
  eelgrass: { scopes: ['tables.read', 'offline_access'], path: '/tables/sailings/rows', list: 'sailings' },
  berthline: { scopes: ['bookings.read', 'profile'], path: '/bookings', client: { region: 'north' }, list: 'bookings' },
  ledgerfin: { scopes: ['books.read'], path: '/postings', client: { tenant: 'lf204816' }, list: 'postings', bySelf: true },
  piermaster: { scopes: ['staff.read'], path: '/people', client: { audience: 'pm:dir:staff' }, list: 'people', bySelf: true },
  bosunry: { scopes: ['rosters:read', 'whoami', 'offline_access'], path: '/rosters', list: 'rosters' },
  notchboard: { scopes: ['read', 'keep'], path: '/threads', list: 'threads' },
  oakum: { scopes: ['view.certificates'], path: '/checks', list: 'checks' },
  wharfpost: { scopes: ['parcels'], path: '/parcels', connection: { account: '40017788' }, list: 'parcels', bySelf: true },
  deckhail: { scopes: ['hear', 'offline_access'], path: '/announcements', list: 'announcements' },
};
const standins = {} as Record<string, StandinUnderTest>;
let [service, call, other, otherCall, environment, folder, output] = [] as unknown as [
  ServiceUnderTest,
  ApiClient & { token: string },
  ServiceUnderTest,
  ApiClient,
  object,
  string,
  string,
];
let caller: { caller_id: string; key: string };

const get = (path: string) => ({ method: 'GET' as const, path });
const order = (provider: string, list: object) => standins[provider]?.order('lists', { list: AT[provider]?.list, ...list });
const ids = async (provider: string): Promise<string[]> =>
  ((await (await fetch(`http://127.0.0.1:${standins[provider]?.port}/standin/lists/${AT[provider]?.list}`)).json()) as { ids: string[] }).ids;
const ended = (run: Pick<Run, 'id'>, by: ApiClient = call): Promise<Run> =>
  eventually(async () => {
    const seen = await by('showRun', { params: { run: run.id } });
    return ['done', 'failed', 'cancelled'].includes(seen.state) ? seen : null;
  }, LONG);
const collect = async (provider: string, more: object = {}): Promise<Run> =>
  ended(await call('collect', { params: { connection: provider }, body: { call: get(AT[provider]?.path ?? ''), ...more } }));
const result = async (path: string, headers: Record<string, string> = { authorization: `Bearer ${call.token}` }, at = service) =>
  fetch(`${at.url}${path}`, { headers });
const resultIds = async (run: Run, pointer = 'id'): Promise<string[]> => {
  const text = await (await result(`/api/v1/runs/${run.id}/result.ndjson`)).text();
  return text
    .split('\n')
    .filter(Boolean)
    .map((line) => String((JSON.parse(line) as Record<string, unknown>)[pointer]));
};
const asCaller = () => ({ authorization: `Basic ${Buffer.from(`${caller.caller_id}:${caller.key}`).toString('base64')}` });

beforeAll(async () => {
  for (const name of Object.keys(AT)) standins[name] = await startUnderTest(name, 30);
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  output = newFolder();
  environment = { databaseUrl, masterKey, environment: { RUSTY_KETTLE_OUTPUT_FOLDER: output, RUSTY_KETTLE_LEASE_MS: '4000' } };
  service = await startService(environment as never);
  call = await signIn(service);
  other = await startService({ ...(environment as { databaseUrl: string }), publicUrl: service.url });
  otherCall = apiClient({ baseUrl: other.url, token: call.token });
  for (const [provider, { client, connection, scopes, bySelf }] of Object.entries(AT)) {
    const standin = standins[provider] as StandinUnderTest;
    await call('addProvider', { body: { document: standin.definitionText } });
    const type = provider === 'piermaster' ? ({ type: 'service_account' } as const) : {};
    await addClient(call, standin, 'office', { provider, ...type, ...(client ? { placeholders: client } : {}) });
    await call('addConnection', { body: { name: provider, provider, client: 'office', scopes, ...(connection ? { placeholders: connection } : {}) } });
    if (bySelf) await call('openConnection', { params: { connection: provider } });
    else await agree(call, provider);
    await eventually(async () => (await call('showConnection', { params: { connection: provider } })).state === 'working', LONG, provider);
  }
  caller = await call('addCaller', { body: { name: 'berth-report', connections: ['berthline'] } });
}, 120_000);
afterAll(async () => {
  for (const one of [service, other]) await one?.stop();
  for (const one of Object.values(standins)) await one.stop();
  for (const one of [service?.folder, other?.folder, output, folder]) if (one) removeFolder(one);
});

describe('each style, followed to its end', () => {
  test.each([
    ['eelgrass', 84, 2, 'cursor'],
    ['berthline', 1312, 7, 'page number, 200 a page'],
    ['ledgerfin', 130, 3, 'Link header, in a session'],
    ['piermaster', 48, 3, 'next link in the body'],
    ['bosunry', 21, 3, 'next link in the body'],
    ['notchboard', 70, 3, 'start and count'],
    ['oakum', 36, 5, 'key of the last record'],
    ['wharfpost', 230, 3, 'offset and limit'],
    ['deckhail', 55, 3, 'cursor in headers, both ways'],
  ])('%s: %i records in %i calls, complete (%s)', async (provider, records, calls) => {
    const run = await collect(provider);
    expect(run).toMatchObject({ state: 'done', records, calls, doubles: 0, completeness: { verdict: 'complete' } });
    const found = await resultIds(run);
    expect([found.length, new Set(found).size]).toEqual([records, records]);
  });
  test('a search by POST, its pages named in the body', async () => {
    const run = await ended(
      await call('collect', { params: { connection: 'wharfpost' }, body: { call: { method: 'POST', path: '/parcels/search', body: '{"boat":"Curlew"}' } } }),
    );
    expect(run).toMatchObject({ state: 'done', records: 77, completeness: { verdict: 'complete' } });
  });
  test('a cap that nobody reports: sliced by date, halved until each slice is below it', async () => {
    const run = await ended(await call('collect', { params: { connection: 'berthline' }, body: { call: get('/history'), range: { days: 150 } } }), call);
    expect(run).toMatchObject({ state: 'done', records: 2870, doubles: 0, completeness: { verdict: 'complete' } });
    expect(new Set(await resultIds(run)).size).toBe(2870);
    const plan = { style: 'page_number' as const, items: '/bookings', parameter: 'page', id: '/id' };
    const uncut = await ended(await call('collect', { params: { connection: 'berthline' }, body: { call: get('/history'), paging: plan } }));
    expect(uncut).toMatchObject({
      records: 1000,
      completeness: { verdict: 'cannot_tell', evidence: expect.arrayContaining([expect.objectContaining({ side: 'against' })]) },
    });
  });
});

describe('bad habits: the output is right, or the verdict shows why not', () => {
  const habits: [string, string, object, { verdict: string; records?: number; says?: string }][] = [
    ['a total that lies upwards', 'eelgrass', { records: 120, total_off: 5 }, { verdict: 'incomplete', records: 120, says: '120 of 125' }],
    ['a total that lies downwards', 'berthline', { records: 900, total_off: -300 }, { verdict: 'cannot_tell', records: 900, says: 'total is wrong' }],
    ['records inserted while paging', 'wharfpost', { records: 450, insert_each: 1 }, { verdict: 'cannot_tell', says: 'inserted or deleted' }],
    ['records deleted while paging', 'wharfpost', { records: 450, delete_each: 1 }, { verdict: 'cannot_tell', says: 'total changed' }],
    ['a next link that loops', 'bosunry', { records: 60, loop_from: 3 }, { verdict: 'incomplete', says: 'circle' }],
    ['a next link to another host', 'piermaster', { records: 60, foreign_from: 2 }, { verdict: 'incomplete', records: 40, says: 'outside the API' }],
    ['a paging parameter that is ignored', 'wharfpost', { records: 450, ignores_paging: true }, { verdict: 'incomplete', records: 100, says: 'read already' }],
    ['a silent cap', 'deckhail', { records: 1200, cap: 1000 }, { verdict: 'cannot_tell', records: 1000, says: 'may cap' }],
    ['pages shorter than asked for', 'wharfpost', { records: 450, page_most: 30 }, { verdict: 'complete', records: 450 }],
    ['an empty page in the middle', 'bosunry', { records: 25, empty_page: 2 }, { verdict: 'complete', records: 25 }],
    ['429 in the middle', 'eelgrass', { records: 120, too_many_at: [2] }, { verdict: 'complete', records: 120 }],
    ['pages of 20 MB', 'eelgrass', { records: 150, filling: 190_000, page_most: 100 }, { verdict: 'complete', records: 150 }],
    ['an empty list', 'eelgrass', { records: 0 }, { verdict: 'complete', records: 0 }],
  ];
  test.each(habits)('%s (%s)', { timeout: LONG }, async (_name, provider, list, want) => {
    await order(provider, list);
    const run = await collect(provider);
    expect(run.state, JSON.stringify(run.problem)).toBe('done');
    expect(run.completeness?.verdict, JSON.stringify(run.completeness)).toBe(want.verdict);
    if (want.records !== undefined) expect(run.records).toBe(want.records);
    if (want.says !== undefined) expect(JSON.stringify(run.completeness?.evidence)).toContain(want.says);
    const found = await resultIds(run);
    expect(new Set(found).size).toBe(found.length);
    if (run.completeness?.verdict === 'complete') expect(new Set(found)).toEqual(new Set(await ids(provider)));
    await fetch(`http://127.0.0.1:${standins[provider]?.port}/standin/lists`, { method: 'DELETE' });
  });

  test('a body that breaks off, an outage, and a token that dies: the same page again, nothing twice', { timeout: LONG }, async () => {
    const { eelgrass } = standins as { eelgrass: StandinUnderTest };
    await order('eelgrass', { records: 200 });
    await eelgrass.order('faults', { at: 'api', kind: 'cut_mid' });
    await eelgrass.order('faults', { at: 'api', kind: 'status', status: 503, times: 2 });
    await eelgrass.order('faults', { at: 'api', kind: 'text', status: 401, text: '{"error":"invalid_token"}' });
    const run = await collect('eelgrass');
    expect(run).toMatchObject({ state: 'done', records: 200, doubles: 0, completeness: { verdict: 'complete' } });
    expect(run.calls).toBeGreaterThan(4);
    expect(new Set(await resultIds(run))).toEqual(new Set(await ids('eelgrass')));
  });

  test('no list, two lists, a wrong page: each with a clear message', async () => {
    const params = { connection: 'berthline' };
    const failed = await ended(await call('collect', { params, body: { call: get('/me') } }));
    expect(failed).toMatchObject({ state: 'failed', problem: { code: 'NO_LIST', says: 'There is no list at /bookings.' } });
    await expect(call('recognizePaging', { params, body: { call: get('/me') } })).rejects.toMatchObject({ problem: { code: 'NO_LIST' } });
    const missing = await ended(await call('collect', { params, body: { call: get('/nothing') } }));
    expect(missing).toMatchObject({ state: 'failed', problem: { code: 'PAGE_FAILED', diagnosis: { verdict: 'thing_missing' } } });
    await expect(call('collect', { params, body: { call: { method: 'DELETE', path: '/bookings' } } })).rejects.toMatchObject({
      problem: { code: 'INPUT_INVALID' },
    });
    await expect(call('collect', { params, body: { call: get('https://elsewhere.example/x') } })).rejects.toMatchObject({
      problem: { code: 'HOST_NOT_LISTED' },
    });
    expect((await call('recognizePaging', { params, body: { call: get('/bookings') } })).guesses[0]).toMatchObject({
      plan: { style: 'page_number', items: '/bookings', total: '/total', parameter: 'page', id: '/id' },
      evidence: expect.arrayContaining(['/total is 1312']),
    });
  });
});

describe('the job berth-report', () => {
  const settings = {
    call: get('/bookings'),
    schedule: { kind: 'manual' as const },
    layout: {
      columns: [{ field: 'id', title: 'Booking' }, { field: 'skipper.name', title: 'Skipper' }, { field: 'day' }],
      delimiter: ',' as const,
      bom: false,
      guard: true,
    },
    personal: [{ field: 'skipper.name', rule: 'hash' as const }],
  };
  test('before saving: the next five runs, the calls in each, the share of the quota', async () => {
    await collect('berthline');
    const plan = await call('planJob', { body: { ...settings, connection: 'berthline', schedule: { kind: 'every', minutes: 2 } } });
    expect(plan).toMatchObject({ calls: 7, runs_a_day: 720, quota: [{ percent: 1.7, cost: 7 }] });
    expect(plan.next_runs).toHaveLength(5);
    for (const expression of ['nonsense', '0 6 30 2 *', '0 6 * *'])
      await expect(
        call('planJob', { body: { ...settings, connection: 'berthline', schedule: { kind: 'cron', expression, zone: 'Europe/Oslo' } } }),
      ).rejects.toMatchObject({ problem: { code: 'INPUT_INVALID', places: [{ path: 'schedule.expression' }] } });
  });

  test('killed in the middle, finished by another replica: the file is whole, at one stable address', { timeout: 120_000 }, async () => {
    await call('addJob', { body: { ...settings, name: 'berth-report', connection: 'berthline', deliver: [{ kind: 'file', name: '{job}.csv' }] } });
    expect((await result('/data/berth-report/latest.csv', asCaller())).status).toBe(404);
    await order('berthline', { records: 39_950 });
    // Slow until the last kill, so that the run is never over before it.
    await standins.berthline?.order('faults', { at: 'api', kind: 'slow', delay_ms: 250, times: 1_000 });
    const killedAt: number[] = [];
    const run = await call('runJob', { params: { job: 'berth-report' } });
    for (let kill = 0; kill < 3; kill += 1) {
      const before = await eventually(async () => {
        const { pages, state } = await otherCall('showRun', { params: { run: run.id } });
        return state === 'running' && pages > (killedAt.at(-1) ?? 0) + 5 ? pages : null;
      }, LONG);
      killedAt.push(before);
      // Whoever works on it: both are replaced in turn, and one always lives.
      const victim = kill % 2 === 0 ? service : other;
      await victim.kill();
      const again = await startService({
        ...(environment as { databaseUrl: string }),
        publicUrl: service.url,
        folder: victim.folder,
        port: Number(new URL(victim.url).port),
      });
      if (kill % 2 === 0) service = again;
      else other = again;
    }
    await fetch(`http://127.0.0.1:${standins.berthline?.port}/standin/faults`, { method: 'DELETE' });
    const done = await ended(run, otherCall);
    expect(done).toMatchObject({ state: 'done', records: 39_950, doubles: 0, pages: 200, completeness: { verdict: 'complete' } });
    const answer = await result('/data/berth-report/latest.csv', asCaller());
    const rows = parse(await answer.text(), { columns: true }) as Record<string, string>[];
    expect(new Set(rows.map((row) => row.Booking))).toEqual(new Set(await ids('berthline')));
    expect(rows).toHaveLength(39_950);
    expect(Object.fromEntries(['verdict', 'records', 'run'].map((name) => [name, answer.headers.get(`rusty-kettle-${name}`)]))).toEqual({
      verdict: 'complete',
      records: '39950',
      run: '1',
    });
    await fetch(`http://127.0.0.1:${standins.berthline?.port}/standin/lists`, { method: 'DELETE' });
  });

  test('conditional and range requests, gzip, formats; only for its callers', async () => {
    const run = await ended(await call('runJob', { params: { job: 'berth-report' } }));
    expect(run).toMatchObject({ state: 'done', records: 1312, difference: -38638, completeness: { deviates: true } });
    const whole = await result('/data/berth-report/latest.csv', { ...asCaller(), 'accept-encoding': 'identity' });
    const text = await whole.text();
    const etag = whole.headers.get('etag') ?? '';
    expect([text.split('\r\n')[0], whole.headers.get('content-length')]).toEqual(['Booking,Skipper,day', String(Buffer.byteLength(text))]);
    // fetch itself asks for a reload wherever a condition is set: this one asks as a spreadsheet does.
    const asked = await request(`${service.url}/data/berth-report/latest.csv`, { headers: { ...asCaller(), 'if-none-match': etag } });
    expect([asked.statusCode, await asked.body.text()]).toEqual([304, '']);
    expect((await result('/data/berth-report/latest.csv', { ...asCaller(), 'if-match': '"old"' })).status).toBe(412);
    const part = await result('/data/berth-report/latest.csv', { ...asCaller(), range: 'bytes=100-299' });
    expect([part.status, part.headers.get('content-range'), await part.text()]).toEqual([206, `bytes 100-299/${text.length}`, text.slice(100, 300)]);
    expect((await result('/data/berth-report/latest.csv', { ...asCaller(), range: `bytes=${text.length}-` })).status).toBe(416);
    expect((await (await result('/data/berth-report/latest.csv', { ...asCaller(), range: 'bytes=0-9', 'if-range': '"old"' })).text()).length).toBe(text.length);
    for (const format of ['ndjson', 'json'])
      expect((await (await result(`/data/berth-report/latest.${format}`, asCaller())).text()).length).toBeGreaterThan(1000);
    const people = new Set((parse(text, { columns: true }) as Record<string, string>[]).map((row) => row.Skipper));
    expect([people.size, [...people].some((name) => name?.includes('Reed'))]).toEqual([4, false]); // the same person stays the same
    const stranger = await call('addCaller', { body: { name: 'stranger', connections: ['eelgrass'] } });
    const theirs = { authorization: `Bearer ${stranger.caller_id}.${stranger.key}` };
    expect([(await result('/data/berth-report/latest.csv', theirs)).status, (await result('/data/berth-report/latest.csv', {})).status]).toEqual([403, 401]);
    expect((await (await result('/api/v1/own/jobs', asCaller())).json()) as object).toMatchObject({
      items: [{ name: 'berth-report', latest: { records: 1312 } }],
    });
    expect((await (await result('/api/v1/own/jobs', theirs)).json()) as object).toEqual({ items: [] });
    // Who may relay some calls only has the results of those calls.
    for (const [path, status] of [
      ['/berths', 403],
      ['/bookings', 200],
    ] as const) {
      await call('permitCaller', { params: { caller: 'stranger' }, body: { connection: 'berthline', use: 'relay', methods: ['GET'], paths: [path] } });
      await eventually(async () => (await result('/data/berth-report/latest.csv', theirs)).status === status, LONG, path);
    }
  });

  test('two operators save the same job; a job whose connection needs action waits and goes on', { timeout: LONG }, async () => {
    const job = await call('showJob', { params: { job: 'berth-report' } });
    await call('changeJob', { params: { job: 'berth-report' }, body: { ...job.settings, title: 'All bookings', revision: job.revision } });
    await expect(
      call('changeJob', { params: { job: 'berth-report' }, body: { ...job.settings, title: 'Bookings', revision: job.revision } }),
    ).rejects.toMatchObject({ problem: { code: 'REVISION_CONFLICT' } });
    await call('pauseConnection', { params: { connection: 'berthline' } });
    const run = await call('runJob', { params: { job: 'berth-report' } });
    await eventually(async () => (await call('showRun', { params: { run: run.id } })).waits?.says.includes('needs action'));
    await expect(call('runJob', { params: { job: 'berth-report' } })).rejects.toMatchObject({ problem: { code: 'RUN_OVERLAPS' } });
    await call('resumeConnection', { params: { connection: 'berthline' } });
    await call('resumeRun', { params: { run: run.id } });
    expect(await ended(run)).toMatchObject({ state: 'done', records: 1312 });
    const cancelled = await call('runJob', { params: { job: 'berth-report' } });
    expect(['cancelled']).toContain((await call('cancelRun', { params: { run: cancelled.id } })).state);
  });
});

describe('only what is new', () => {
  test('by a field: the highest value is sent, a changed record replaces its earlier version, every third run collects everything', {
    timeout: LONG,
  }, async () => {
    const asked: string[] = [];
    const rows = [
      { id: 1, at: '2026-11-01', says: 'one' },
      { id: 2, at: '2026-11-02', says: 'two' },
    ];
    const api = await startApi((url) => {
      asked.push(url.search);
      const since = url.searchParams.get('since') ?? '';
      return { records: rows.filter((row) => row.at >= since), next: null };
    });
    await plainProvider(call, 'newly', api.port);
    await call('addJob', {
      body: {
        name: 'newly',
        connection: 'newly',
        call: get('/things'),
        paging: { style: 'next_link', items: '/records', next: '/next', id: '/id' },
        since: { kind: 'field', parameter: 'since', field: '/at' },
        result: 'append',
        full_every: 3,
      },
    });
    const go = async () => ended(await call('runJob', { params: { job: 'newly' } }));
    const says = async () =>
      (parse(await (await result('/data/newly/latest.csv')).text(), { columns: true }) as { says: string }[]).map((row) => row.says).sort();
    expect([(await go()).full, await says()]).toEqual([true, ['one', 'two']]);
    rows.push({ id: 3, at: '2026-11-03', says: 'three' });
    rows[1] = { id: 2, at: '2026-11-03', says: 'two again' };
    const second = await go();
    expect([second.full, second.records, await says()]).toEqual([false, 2, ['one', 'three', 'two again']]);
    rows.shift(); // deleted: only a full run sees it
    expect([(await go()).full, await says()]).toEqual([false, ['one', 'three', 'two again']]);
    expect([(await go()).full, await says()]).toEqual([true, ['three', 'two again']]);
    expect(asked).toEqual(['', '?since=2026-11-02', '?since=2026-11-03', '']);
    await new Promise((resolve) => api.server.close(resolve));
  });
});

test('only ids that were not seen: a run adds what is new, and all that it received counts for its verdict', { timeout: LONG }, async () => {
  const rows = [{ id: 1 }, { id: 2 }];
  const api = await startApi(() => ({ records: rows, total: rows.length }));
  await plainProvider(call, 'unseen', api.port);
  const paging = { style: 'none' as const, items: '/records', total: '/total', id: '/id' };
  const job = { name: 'unseen', connection: 'unseen', call: get('/things'), paging, since: { kind: 'ids' as const } };
  await expect(call('addJob', { body: job })).rejects.toMatchObject({ problem: { places: [{ path: 'result' }] } });
  await call('addJob', { body: { ...job, result: 'append' } });
  const go = async () => ended(await call('runJob', { params: { job: 'unseen' } }));
  await go();
  rows.push({ id: 3 });
  expect(await go()).toMatchObject({ records: 3, doubles: 0, full: false, completeness: { verdict: 'complete' } });
  expect((await call('showJob', { params: { job: 'unseen' } })).latest).toMatchObject({ run: 2, records: 3 });
  expect(await (await result('/data/unseen/latest.csv')).text()).toBe('id\r\n1\r\n2\r\n3\r\n');
  await new Promise((resolve) => api.server.close(resolve));
});

describe('deliveries', () => {
  test('a file is replaced whole; a POST is signed, and retried while the application is down', { timeout: LONG }, async () => {
    expect(readFileSync(join(output, 'berth-report.csv'), 'utf8').split('\r\n')).toHaveLength(1314);
    expect(readdirSync(output).filter((name) => name.includes('.part'))).toEqual([]);
    const secret = randomBytes(24).toString('base64');
    const seen: { status: number; body: string; headers: Record<string, string> }[] = [];
    const receiver = createServer((request, response) => {
      let body = '';
      request.on('data', (part) => (body += part));
      request.on('end', () => {
        const status = seen.length < 1 ? 503 : 204;
        seen.push({ status, body, headers: request.headers as Record<string, string> });
        response.writeHead(status, status === 503 ? { 'retry-after': '1' } : {}).end();
      });
    });
    await new Promise<void>((resolve) => receiver.listen(0, '127.0.0.1', resolve));
    const url = `http://127.0.0.1:${(receiver.address() as AddressInfo).port}/take`;
    mkdirSync(join(output, 'taken.csv'));
    await call('addJob', {
      body: {
        name: 'forum-post',
        connection: 'notchboard',
        call: get('/threads'),
        signing_secret: secret,
        deliver: [
          { kind: 'post', url, format: 'json' },
          { kind: 'file', name: 'archive/{job}-{run}.ndjson', format: 'ndjson', gzip: true },
          { kind: 'file', name: 'taken.csv' },
        ],
      },
    });
    const run = await ended(await call('runJob', { params: { job: 'forum-post' } }));
    const shown = await eventually(async () => {
      const one = await call('showRun', { params: { run: run.id } });
      return one.deliveries.filter((each) => each.state === 'delivered').length === 2 ? one : null;
    }, LONG);
    expect(shown.deliveries[2]).toMatchObject({ state: 'waiting', says: expect.stringContaining('A folder has the name') });
    const last = seen.at(-1);
    expect([seen.length, new Set(seen.map((one) => one.headers['webhook-id'])).size]).toEqual([2, 1]);
    expect((new Webhook(secret, { format: 'raw' }).verify(last?.body ?? '', last?.headers ?? {}) as object[]).length).toBe(70);
    expect(
      gunzipSync(readFileSync(join(output, 'archive', 'forum-post-1.ndjson.gz'.replace('.gz', ''))))
        .toString()
        .trim()
        .split('\n'),
    ).toHaveLength(70);
    expect(JSON.stringify(await call('showJob', { params: { job: 'forum-post' } }))).not.toContain(secret);
    receiver.close();
  });
});

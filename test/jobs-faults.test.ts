import type { ServerResponse } from 'node:http';
import { parse } from 'csv-parse/sync';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import type { Run } from '../src/api/jobs.ts';
import { freePort, type PrivateMariadb, startPrivateMariadb } from '../src/service/database/private-mariadb.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { type PlainApi, plainProvider, startApi } from './support/plain-api.ts';

/** Runs against an API of ours that fails, changes and counts as it is told to, with the service and the database killed in between. */
const LONG = 120_000;
const [folder, masterKey, databaseFolder] = [newFolder(), newMasterKey(), newFolder()];
let [database, service, api, token, port, databasePort] = [] as unknown as [PrivateMariadb, ServiceUnderTest, PlainApi, string, number, number];
let answer: (url: URL, response: ServerResponse) => object | undefined;
const call: ApiClient = ((...parts: Parameters<ApiClient>) => apiClient({ baseUrl: service.url, token })(...parts)) as ApiClient;
const start = () => startService({ databaseUrl: database.url, masterKey, folder, port, environment: { RUSTY_KETTLE_LEASE_MS: '4000' } });
const restart = async () => {
  await service.kill();
  service = await start();
};
const ended = (id: string): Promise<Run> =>
  eventually(async () => {
    const seen = await call('showRun', { params: { run: id } }).catch(() => null); // the service may be down just now
    return seen && ['done', 'failed'].includes(seen.state) ? seen : null;
  }, LONG);
const csv = async (path: string): Promise<Record<string, string>[]> =>
  parse(await (await fetch(`${service.url}${path}`, { headers: { authorization: `Bearer ${token}` } })).text(), { columns: true });
const runJob = async (job: string) => ended((await call('runJob', { params: { job } })).id);
const LIST = { method: 'GET' as const, path: '/rows' };

beforeAll(async () => {
  [port, databasePort] = [await freePort(), await freePort()];
  database = await startPrivateMariadb({ folder: databaseFolder, port: databasePort });
  service = await start();
  token = (await signIn(service)).token;
  api = await startApi((url, response) => answer(url, response));
  await plainProvider(call, 'ledger', api.port);
}, LONG);
afterAll(async () => {
  await service?.stop();
  api?.server.close();
  await database?.stop();
  for (const one of [folder, databaseFolder]) removeFolder(one);
});

const STYLES = {
  cursor: { style: 'cursor', items: '/rows', next: '/cursor', parameter: 'cursor', total: '/total', id: '/id' },
  offset: { style: 'offset', items: '/rows', parameter: 'from', total: '/total', id: '/id' },
  keyset: { style: 'keyset', items: '/rows', parameter: 'after', next: '/id', id: '/id' },
} as const;
const FAULTS = ['kill', 'unavailable', 'limited', 'broken'] as const;

/** Rows 0 to `count`, `size` a page; each fault befalls one request, by its number. */
function world(count: number, size: number, faults: ReadonlyMap<number, (typeof FAULTS)[number]>, kill: () => void): typeof answer {
  let requests = 0;
  return (url, response) => {
    requests += 1;
    const fault = faults.get(requests);
    if (fault === 'kill') kill();
    if (fault === 'unavailable') return void response.writeHead(503).end();
    if (fault === 'limited') return void response.writeHead(429, { 'retry-after': '1' }).end();
    if (fault === 'broken') return void response.writeHead(200, { 'content-type': 'application/json', 'content-length': '900' }).end('{"rows":[{"id":');
    const at = (name: string) => url.searchParams.get(name);
    const from = at('after') === null ? Number(at('cursor') ?? at('from') ?? 0) : Number(at('after')) + 1;
    const rows = Array.from({ length: Math.max(0, Math.min(size, count - from)) }, (_none, place) => ({ id: from + place, note: `row ${from + place}` }));
    return { rows, cursor: from + rows.length < count ? String(from + rows.length) : null, total: count };
  };
}

test('any list, page size, style and faults, killed at any page: the result is the list, each record once', { timeout: LONG * 4 }, async () => {
  let made = 0;
  await fc.assert(
    fc.asyncProperty(
      fc.constantFrom(...Object.values(STYLES)),
      fc.integer({ min: 1, max: 400 }),
      fc.integer({ min: 20, max: 90 }),
      fc.uniqueArray(fc.tuple(fc.integer({ min: 1, max: 8 }), fc.constantFrom(...FAULTS)), { maxLength: 3, selector: ([at]) => at }),
      async (paging, count, size, faults) => {
        let restarted: Promise<void> | null = null;
        answer = world(count, size, new Map(faults), () => {
          restarted = (restarted ?? Promise.resolve()).then(restart);
        });
        made += 1;
        const job = `random-${made}`;
        await call('addJob', { body: { name: job, connection: 'ledger', call: LIST, paging } });
        const run = await ended((await call('runJob', { params: { job } })).id);
        await restarted;
        expect(run).toMatchObject({ state: 'done', records: count, doubles: 0 });
        expect((await csv(`/data/${job}/latest.csv`)).map((row) => Number(row.id))).toEqual(Array.from({ length: count }, (_none, id) => id));
      },
    ),
    { numRuns: 6, endOnFailure: true },
  );
});

test('the database gone in the middle of a run: it goes on where it was, and nothing is collected twice', { timeout: LONG * 2 }, async () => {
  let stopped: Promise<unknown> | null = null;
  const rows = world(300, 20, new Map(), () => undefined);
  answer = (url, response) => {
    if (url.searchParams.get('cursor') === '100') stopped ??= database.stop();
    return rows(url, response);
  };
  await call('addJob', { body: { name: 'gap', connection: 'ledger', call: LIST, paging: STYLES.cursor } });
  const { id } = await call('runJob', { params: { job: 'gap' } });
  await eventually(async () => stopped !== null, LONG, 'the fifth page');
  await stopped;
  await eventually(async () => !(await fetch(`${service.url}/readyz`)).ok, LONG, 'the service to notice');
  database = await startPrivateMariadb({ folder: databaseFolder, port: databasePort });
  expect(await ended(id)).toMatchObject({ state: 'done', records: 300, doubles: 0, completeness: { verdict: 'complete' } });
  expect(new Set((await csv('/data/gap/latest.csv')).map((row) => row.id)).size).toBe(300);
});

test('records without an id are kept and counted, and the verdict names them', { timeout: LONG }, async () => {
  answer = () => ({ rows: [{ id: 1 }, { name: 'no id' }, { name: 'none either' }, { id: 1 }], total: 3, cursor: null });
  await call('addJob', { body: { name: 'lacking', connection: 'ledger', call: LIST, paging: STYLES.cursor } });
  const run = await runJob('lacking');
  expect(run).toMatchObject({ state: 'done', records: 3, doubles: 1 });
  expect(run.completeness?.evidence.map((one) => one.says).join(' ')).toContain('2 records lack the identifying field');
  expect(await csv('/data/lacking/latest.csv')).toHaveLength(3);
});

test('two lists: the one that is chosen is recognized, and its paging is kept with the saved call', { timeout: LONG }, async () => {
  const lists = { rows: [{ id: 1 }, { id: 2 }, { id: 3 }], notes: [{ id: 'a' }], next_cursor: null };
  answer = () => lists;
  const params = { connection: 'ledger' };
  await call('saveCall', { params, body: { name: 'notes', call: LIST } });
  const body = { saved: 'notes' };
  const found = await call('recognizePaging', { params, body: { ...body, list_at: '/notes' } });
  expect(found).toMatchObject({ declared: null, declared_by: null, lists: [{ at: '/rows' }, { at: '/notes' }] });
  const paging = found.guesses[0]?.plan;
  expect(paging).toMatchObject({ items: '/notes' });
  const run = await ended((await call('collect', { params, body: { ...body, ...(paging ? { paging } : {}) } })).id);
  expect(run.records).toBe(1);
  expect(await call('recognizePaging', { params, body })).toMatchObject({ declared: paging, declared_by: 'saved_call' });
  await call('saveCall', { params, body: { name: 'notes', call: LIST, says: 'Changed elsewhere' } }); // and stays
  expect(await ended((await call('collect', { params, body })).id)).toMatchObject({ records: 1 });
});

test('an older run that is resumed never replaces a newer result; old runs go, what the result needs stays', { timeout: LONG }, async () => {
  const add = { connection: 'ledger', call: LIST, paging: STYLES.cursor, keep_runs: 2 };
  await call('addJob', { body: { ...add, name: 'kept' } });
  answer = (_url, response) => void response.writeHead(403).end('{"error":"not yours"}');
  const first = await runJob('kept');
  expect(first).toMatchObject({ number: 1, state: 'failed', problem: { code: 'PAGE_FAILED' } });
  answer = () => ({ rows: [{ id: 2 }], cursor: null, total: 1 });
  expect(await runJob('kept')).toMatchObject({ number: 2, state: 'done' });
  answer = () => ({ rows: [{ id: 1 }], cursor: null, total: 1 });
  await call('resumeRun', { params: { run: first.id } });
  expect(await ended(first.id)).toMatchObject({ number: 1, state: 'done' });
  expect(await csv('/data/kept/latest.csv')).toMatchObject([{ id: '2' }]);

  await call('addJob', { body: { ...add, name: 'chain', since: { kind: 'ids' }, result: 'append' } });
  for (let id = 1; id <= 4; id += 1) {
    answer = () => ({ rows: Array.from({ length: id }, (_none, at) => ({ id: at + 1 })), cursor: null, total: id });
    await runJob('chain');
    if (id < 4) await runJob('kept');
  }
  await restart(); // whoever starts tidies up
  const numbers = async (job: string) => (await call('listRuns', { params: { job }, query: {} })).items.map((one) => one.number);
  await eventually(async () => (await numbers('kept')).length === 2, LONG);
  expect(await numbers('chain')).toHaveLength(4);
  expect((await csv('/data/chain/latest.csv')).map((row) => row.id)).toEqual(['1', '2', '3', '4']);
});

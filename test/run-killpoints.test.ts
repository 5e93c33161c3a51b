import { afterAll, beforeAll, expect, test } from 'vitest';
import { apiClient } from '../src/api/client.ts';
import type { BodyOf } from '../src/api/operations.ts';
import { freePort } from '../src/service/database/private-mariadb.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { testProgram } from '../testing/test-programs.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, agree, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** A service killed at each step of a run: whoever comes next finishes it, and no record is missing or doubled. */
const LIMIT_MS = 60_000;
let [service, standin, port, folder, options, token] = [] as unknown as [
  ServiceUnderTest,
  StandinUnderTest,
  number,
  string,
  { databaseUrl: string; masterKey: string },
  string,
];
const call = () => apiClient({ baseUrl: service.url, token });
const serve = (environment: Record<string, string>, run?: string[]) =>
  startService({ ...options, folder, port, environment: { RUSTY_KETTLE_LEASE_MS: '4000', ...environment }, ...(run ? { run } : {}) });

beforeAll(async () => {
  standin = await startUnderTest('berthline', 3600);
  [port, folder, options] = [await freePort(), newFolder(), { databaseUrl: await newDatabase(), masterKey: newMasterKey() }];
  service = await serve({});
  const signedIn = await signIn(service);
  token = signedIn.token;
  await call()('addProvider', { body: { document: standin.definitionText } });
  await addClient(call(), standin, 'desk', { provider: 'berthline', placeholders: { region: 'north' } });
  await call()('addConnection', { body: { name: 'quay', provider: 'berthline', client: 'desk', scopes: ['bookings.read', 'profile'] } });
  await agree(call(), 'quay');
  const list: Omit<BodyOf<'addJob'>, 'name'> = { connection: 'quay', call: { method: 'GET', path: '/bookings' }, formats: ['csv', 'ndjson'] };
  await call()('addJob', { body: { ...list, name: 'list' } });
  await call()('addJob', { body: { ...list, name: 'slices', call: { method: 'GET', path: '/history' }, range: { days: 150 } } });
  await service.stop();
}, 60_000);
afterAll(async () => {
  await service.stop();
  await standin.stop();
  removeFolder(folder);
});

test.each([
  ['before_page', 3, 'list', 1312],
  ['after_discard', 1, 'slices', 2870],
  ['after_wait', 0, 'list', 1312],
  ['after_file', 0, 'list', 1312],
  ['after_finish', 0, 'list', 1312],
] as const)('killed %s (after %i times), job %s', { timeout: LIMIT_MS * 2 }, async (point, after, job, records) => {
  service = await serve({ KILL_AT: point, KILL_AFTER: String(after) }, testProgram('killed-run'));
  if (point === 'after_wait') await standin.order('faults', { at: 'api', kind: 'status', status: 429, retry_after_seconds: 3 });
  const dies = new Promise((resolve) => service.process.once('exit', resolve));
  const { id } = await call()('runJob', { params: { job } });
  await dies;
  service = await serve({});
  const run = await eventually(async () => {
    const seen = await call()('showRun', { params: { run: id } });
    return seen.state === 'done' || seen.state === 'failed' ? seen : null;
  }, LIMIT_MS);
  expect(run).toMatchObject({ state: 'done', records, doubles: 0, completeness: { verdict: 'complete' } });
  const ids = async (format: string) =>
    (await (await fetch(`${service.url}/data/${job}/latest.${format}`, { headers: { authorization: `Bearer ${token}` } })).text())
      .trim()
      .split('\n')
      .slice(format === 'csv' ? 1 : 0)
      .map((line) => (format === 'csv' ? (line.split(',')[0] ?? '') : (JSON.parse(line) as { id: string }).id));
  for (const format of ['csv', 'ndjson']) {
    const found = await ids(format);
    expect([format, found.length, new Set(found).size]).toEqual([format, records, records]);
  }
  expect((await call()('showJob', { params: { job } })).latest).toMatchObject({ run: run.number, records });
  await service.stop();
});

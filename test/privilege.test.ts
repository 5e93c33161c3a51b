import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { openSeeder } from '../testing/seed.ts';
import { newFolder, newMasterKey, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Privilege at a glance: what is needed, by whom, and on whose account it depends. */
let [service, standin, call] = [] as unknown as [ServiceUnderTest, StandinUnderTest, ApiClient];
const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
beforeAll(async () => {
  standin = await startEelgrass(3_600);
  service = await startService({ databaseUrl, masterKey });
  call = await signIn(service);
  await addEelgrass(call, standin);
  for (const name of ['sailings', 'tides', 'never-consented']) {
    await addConnection(call, name);
    if (name !== 'never-consented') await agree(call, name);
  }
  await call('saveCall', {
    params: { connection: 'tides' },
    body: { name: 'tables', call: { method: 'GET', path: '/tables', query: [], headers: [], body: null } },
  });
  await call('addJob', { body: { name: 'nightly', connection: 'tides', call: { method: 'GET', path: '/tables' } } });
  const { caller_id, key } = await call('addCaller', { body: { name: 'board', connections: ['sailings', 'tides'] } });
  expect((await fetchToken(service.url, caller_id, key, `${service.url}/connections/sailings`)).status).toBe(200);
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  removeFolder(service.folder);
});

test('scopes that nothing needs, certain only where no token was fetched; a permission that is not used; the person on whom it depends', async () => {
  const seen = await eventually(async () => {
    const shown = await call('showPrivilege');
    return shown.connections.find((one) => one.name === 'sailings')?.callers.length ? shown : null;
  }, 30_000);
  const of = (name: string) => seen.connections.find((one) => one.name === name);
  expect(of('sailings')).toMatchObject({ callers: ['board'], jobs: [], unneeded_known: false });
  expect(of('tides')).toMatchObject({
    callers: [],
    jobs: ['nightly'],
    unneeded: ['calendars.read'],
    unneeded_known: true,
    power: 'read',
    width: 'one_account',
  });
  expect(seen.callers.map((one) => [one.opens, one.tokens, one.could])).toEqual([
    ['sailings', 1, 'Only tokens in 35 days: permit tokens only.'],
    ['tides', 0, 'Not used in 35 days: withdraw it.'],
  ]);
  const { account } = of('tides') ?? {};
  expect(seen.dependents).toEqual([{ account, provider: 'eelgrass', connections: ['sailings', 'tides'], jobs: ['nightly'], callers: ['board'] }]);
  expect(seen.clients).toMatchObject([{ name: 'eelgrass/timetable', connections: 3 }]);
});

test('an export has every connection, also those that the page leaves out', async () => {
  const seeder = await openSeeder(databaseUrl, masterKey);
  const life = { issuedAt: Date.now(), expiresAt: Date.now() + 3_600_000, nextAt: Date.now() + 3_600_000 };
  const many = Array.from({ length: 2_100 }, (_, at) => ({ name: `many-${at}`, access: 'a', refresh: 'r', ...life }));
  await seeder.add({ provider: 'eelgrass', client: 'timetable' }, many);
  await seeder.close();
  const shown = await call('showPrivilege');
  expect([shown.connections.length, shown.connections_total]).toEqual([2_000, 2_103]);
  const [home, folder] = [newFolder(), newFolder()];
  await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home, input: PASSWORD });
  const file = join(folder, 'privilege.csv');
  expect((await rk(['--url', service.url, 'privilege', 'export', '--to', file], { home })).code).toBe(0);
  const rows = readFileSync(file, 'utf8').trim().split('\n');
  expect(rows[0]?.split(',').slice(0, 4)).toEqual(['connection', 'client', 'environment', 'privilege']);
  expect(new Set(rows.slice(1).map((row) => row.split(',')[0])).size).toBe(2_103);
  const table = await rk(['--url', service.url, 'privilege', 'show'], { home });
  expect([table.code, table.out]).toEqual([0, expect.stringMatching(/CONNECTION\s+CAN\s+REACHES/)]);
  expect((await call('listHistory', { query: { kind: 'privilege_exported' } })).items[0]?.says).toContain('2103');
  for (const one of [home, folder]) removeFolder(one);
});

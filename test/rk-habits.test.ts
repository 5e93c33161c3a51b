import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { PASSWORD, RK, rk as run, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { addClient, addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

let [service, standin, notchboard, call]: [ServiceUnderTest, StandinUnderTest, StandinUnderTest, ApiClient & { token: string }] = [] as never;
const rk = (...args: string[]) => run(args, { home: service.folder });

beforeAll(async () => {
  [standin, notchboard] = await Promise.all([startEelgrass(3600), startUnderTest('notchboard', 3600)]);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await addEelgrass(call, standin);
  await call('addProvider', { body: { document: notchboard.definitionText } });
  await addClient(call, notchboard, 'office', { provider: 'notchboard' });
  for (const name of ['tides', 'sailings']) await addConnection(call, name);
  await addConnection(call, 'forum', ['read', 'keep'], 'office', 'notchboard');
  await run(['sign-in', '--url', service.url, '--name', 'marit'], { home: service.folder, input: PASSWORD });
});
afterAll(async () => {
  await service?.stop();
  for (const one of [standin, notchboard]) await one?.stop();
});

test('rk connection open --way device --no-wait prints the code, as JSON too', async () => {
  const shown = await rk('connection', 'open', 'forum', '--way', 'device', '--no-wait');
  expect([shown.code, shown.out]).toEqual([0, expect.stringMatching(/Code +\S{4,}/)]);
  const asJson = await rk('--output', 'json', 'connection', 'open', 'forum', '--way', 'device', '--no-wait');
  expect(JSON.parse(asJson.out)).toMatchObject({
    way: 'device',
    device: { user_code: expect.stringMatching(/\S{4,}/), page: expect.stringContaining('http') },
  });
});

test('options with several values take both forms, and a pipe that closes early is no failure', async () => {
  for (const [name, ...options] of [
    ['one-form', '--connection', 'tides', 'sailings'],
    ['other-form', '--connection', 'tides', '--connection', 'sailings'],
  ]) {
    expect((await rk('caller', 'add', name ?? '', ...options)).code).toBe(0);
    expect((await call('showCaller', { params: { caller: name ?? '' } })).connections).toEqual(['sailings', 'tides']);
  }
  const scopes = await rk('connection', 'add', 'both', '--client', 'eelgrass/timetable', '--scope', 'tables.read', '--scope', 'offline_access');
  expect([scopes.code, (await call('showConnection', { params: { connection: 'both' } })).scopes_requested]).toEqual([0, ['tables.read', 'offline_access']]);
  const piped = `set -o pipefail; "${process.execPath}" "${RK}" --output json activity list --limit 500 | head -c 5`;
  const { stdout, stderr } = await promisify(execFile)('bash', ['--norc', '-c', piped], { env: { PATH: process.env.PATH, XDG_CONFIG_HOME: service.folder } });
  expect([stdout, stderr]).toEqual(['{\n  "', '']);
});

test('a password is changed and other sessions are signed out by rk', async () => {
  const changed = await run(['operator', 'password'], { home: service.folder, input: `${PASSWORD}\nharbour-light-10\n` });
  expect([changed.code, changed.out]).toEqual([0, expect.stringContaining('Password changed. 1 other session signed out.')]);
  expect((await rk('operator', 'end-sessions', '--yes')).out).toContain('No other sessions.');
  const back = await run(['operator', 'password'], { home: service.folder, input: `harbour-light-10\n${PASSWORD}\n` });
  expect(back.code).toBe(0);
  call = await signIn(service);
});

test('who consented is read again when the API that tells it answers later', async () => {
  await standin.order('faults', { at: 'userinfo', kind: 'status', status: 403, times: 1 });
  const { outcome } = await agree(call, 'tides');
  expect([outcome.phase, outcome.account]).toEqual(['done', null]);
  await call('probeConnection', { params: { connection: 'tides' }, body: {} });
  expect((await call('showConnection', { params: { connection: 'tides' } })).account).toBe('marit.holm@saltmarsh.example');
});

test('a provider whose metadata lists client_credentials has service accounts, also where its definition does not name them', async () => {
  const document = standin.definitionText
    .replace(/^name: .*$/m, 'name: drafted')
    .replace('grant_types_supported: [authorization_code, refresh_token]', 'grant_types_supported: [authorization_code, refresh_token, client_credentials]');
  await call('addProvider', { body: { document } });
  const added = await rk('client', 'add', 'drafted', 'robot', '--type', 'service_account');
  expect([added.code, (await call('showClient', { params: { provider: 'drafted', client: 'robot' } })).type]).toEqual([0, 'service_account']);
});

test('the expiration date of a secret is set and changed afterwards; a key ID is rejected where there is no key', async () => {
  const params = { provider: 'eelgrass', client: 'timetable' };
  const secret = async () => (await call('showClient', { params })).secrets[0];
  const id = (await secret())?.id ?? '';
  for (const [ends, expected] of [
    ['2037-03-31', '2037-03-31T00:00:00.000Z'],
    ['none', null],
  ] as const) {
    expect((await rk('client', 'secret', 'change', 'eelgrass/timetable', id, '--expires', ends, '--label', 'autumn')).code).toBe(0);
    expect(await secret()).toMatchObject({ ends_at: expected, label: 'autumn', id });
  }
  const { items } = await call('listHistory', { query: { subject: 'client:eelgrass/timetable', kind: 'secret_changed' } });
  expect(items.map((one) => one.says)).toContain('Changed label, expiration date of a secret.');
  const change = (body: object) => call('changeSecret', { params: { ...params, secret: id }, body });
  await expect(change({ key_id: 'x' })).rejects.toMatchObject({ problem: { places: [{ path: 'key_id' }] } });
  await expect(change({ ends_at: '2020-01-01T00:00:00.000Z' })).rejects.toMatchObject({ problem: { places: [{ path: 'ends_at' }] } });
});

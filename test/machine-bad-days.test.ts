import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { freePort, type PrivateMariadb, startPrivateMariadb } from '../src/service/database/private-mariadb.ts';
import { HEARD_MS, newFolder, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, untilInstant } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';

/** Two replicas over a database of their own, which can be stopped. */
const [folder, masterKey, databaseFolder] = [newFolder(), newMasterKey(), newFolder()];
let [port, databasePort]: [number, number] = [0, 0];
let [database, standin, service, call]: [PrivateMariadb, StandinUnderTest, ServiceUnderTest, ApiClient] = [] as never;
const start = () => startService({ databaseUrl: database.url, masterKey, folder, port });
const startDatabase = () => startPrivateMariadb({ folder: databaseFolder, port: databasePort });
const show = async (connection: string) => call('showConnection', { params: { connection } });
const refreshed = async () => (await standin.counters()).refreshes.reduce((sum, one) => sum + one.refreshes, 0);
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

beforeAll(async () => {
  [port, databasePort] = [await freePort(), await freePort()];
  [database, standin] = await Promise.all([startDatabase(), startEelgrass(6)]);
  service = await start();
  call = await signIn(service);
  await addEelgrass(call, standin);
});
afterAll(async () => {
  if (database) database = await startDatabase(); // a test that failed may have left it stopped, and a stop waits for it
  await service?.stop();
  await standin?.stop();
  await database?.stop();
  for (const one of [folder, databaseFolder]) removeFolder(one);
});

test('kill -9 at random moments: after each restart the connections work, and no person is needed', async () => {
  const names = ['k1', 'k2', 'k3', 'k4'];
  for (const name of names) {
    await addConnection(call, name);
    expect((await agree(call, name)).outcome.phase).toBe('done');
  }
  const { caller_id, key } = await call('addCaller', { body: { name: 'killed', connections: names } });
  for (let round = 0; round < 5; round += 1) {
    // Renewals are held at the provider now and then, so that some kills strike between the request and its answer.
    if (round % 2 === 0) await standin.order('faults', { at: 'token', kind: 'hold_answer', delay_ms: 700, times: 4 });
    await pause(2_500 + Math.random() * 2_500);
    await service.kill();
    await standin.clearFaults();
    service = await start();
    const before = await Promise.all(names.map(async (name) => (await show(name)).renewals));
    await eventually(
      async () => (await Promise.all(names.map(async (name, at) => (await show(name)).renewals > (before[at] ?? 0)))).every(Boolean),
      25_000,
      `renewals after kill ${round + 1}`,
    );
  }
  for (const name of names) {
    expect(await show(name)).toMatchObject({ state: 'working' });
    expect((await fetchToken(service.url, caller_id, key, `${service.url}/connections/${name}`)).status).toBe(200);
  }
  expect((await standin.counters()).counters.reuse).toBeUndefined(); // no spent token was used after its grace
  for (const connection of names) await call('removeConnection', { params: { connection } }); // their renewals would meet the faults of the next tests
}, 240_000);

test('the database gone for 20 s with an answer in flight: it is kept in memory, said to be unsaved, issued, and saved when the database is back', async () => {
  await addConnection(call, 'outage');
  await standin.order('lives', { access_seconds: 60 });
  expect((await agree(call, 'outage')).outcome.phase).toBe('done');
  const { caller_id, key } = await call('addCaller', { body: { name: 'outage', connections: ['outage'] } });
  const ask = () => fetchToken(service.url, caller_id, key);
  expect((await ask()).status).toBe(200);
  const [before, first] = [await show('outage'), (await ask()).body.access_token];

  const spent = await refreshed();
  await standin.order('faults', { at: 'token', kind: 'hold_answer', delay_ms: 2_000, times: 1 });
  const renewal = call('renewConnection', { params: { connection: 'outage' } }).catch((error: unknown) => error);
  await eventually(async () => (await refreshed()) === spent + 1, 10_000, 'the provider has spent the refresh token');
  await database.stop();
  const goneAt = Date.now();
  await eventually(
    async () => {
      const { status, body } = await ask();
      expect(status).toBe(200);
      return body.access_token !== first;
    },
    10_000,
    'a token issuance of the unsaved answer',
  );
  await eventually(async () => (await fetch(`${service.url}/readyz`)).status === 503, 5_000, 'not ready');
  expect((await fetch(`${service.url}/healthz`)).status).toBe(200);
  expect(service.output()).toContain('waits in memory for the database');
  while (Date.now() - goneAt < 20_000) {
    expect((await ask()).status).toBe(200);
    await pause(1_000);
  }
  database = await startDatabase();
  await renewal;
  await eventually(async () => (await fetch(`${service.url}/readyz`)).ok);
  await eventually(async () => (await show('outage')).renewals === before.renewals + 1, 15_000, 'the save');
  expect(await show('outage')).toMatchObject({ state: 'working', failures: 0 });
  expect((await call('showStatus')).renewals.unsaved).toBe(0);
  expect((await call('renewConnection', { params: { connection: 'outage' } })).renewals).toBe(before.renewals + 2); // the refresh token that was saved is the right one
}, 120_000);

test('a graceful stop lets a renewal in flight finish and save', async () => {
  const [before, spent] = [(await show('outage')).renewals, await refreshed()];
  await standin.order('faults', { at: 'token', kind: 'hold_answer', delay_ms: 1_500, times: 1 });
  void call('renewConnection', { params: { connection: 'outage' } }).catch(() => undefined);
  await eventually(async () => (await refreshed()) === spent + 1, 10_000, 'the renewal is in flight');
  expect(await service.stop()).toBe(0);
  service = await start();
  expect(await show('outage')).toMatchObject({ state: 'working', renewals: before + 1 });
});

test('a wrong master key, or none, refuses to start and names both ids; a second owner of the folder is rejected', async () => {
  const attempt = (options: object) =>
    startService({ databaseUrl: database.url, masterKey, folder: newFolder(), ...options }).then(
      () => 'started',
      (error: Error) => error.message,
    );
  expect(await attempt({ masterKey: newMasterKey() })).toMatch(/does not belong to this database.*wants the key [0-9a-f]{16}; the key given is [0-9a-f]{16}/s);
  expect(await attempt({ environment: { RUSTY_KETTLE_MASTER_KEY: '' } })).toContain('the master key must be given');
  expect(await attempt({ folder })).toContain('Another running service owns this data folder');
  expect(await attempt({ publicUrl: 'http://kettle.example' })).toContain('must be https');
  expect(await attempt({ environment: { RUSTY_KETTLE_PROT: '1' } })).toContain('There is no setting RUSTY_KETTLE_PROT');
});

test('two replicas over one database renew each token once, and each issues what the other renewed', async () => {
  await standin.order('lives', { access_seconds: 4 });
  const second = await startService({ databaseUrl: database.url, masterKey, publicUrl: service.url });
  try {
    const names = ['r1', 'r2', 'r3', 'r4', 'r5'];
    for (const name of names) {
      await addConnection(call, name);
      await agree(call, name);
    }
    const { caller_id, key } = await call('addCaller', { body: { name: 'replicas', connections: names } });
    const at = async () => ({
      refreshed: await refreshed(),
      renewed: (await Promise.all((await call('listConnections')).items.map((one) => one.renewals))).reduce((sum, one) => sum + one, 0),
    });
    const before = await at();
    const fewRenewed = async () => (await at()).renewed - before.renewed <= 15;
    for (const endsAt = Date.now() + 15_000; Date.now() < endsAt || (Date.now() < endsAt + 60_000 && (await fewRenewed())); await pause(100)) {
      const name = names[Math.floor(Math.random() * names.length)] ?? 'r1';
      const answers = await Promise.all(
        [service, second].flatMap((replica) => [1, 2, 3].map(() => fetchToken(replica.url, caller_id, key, `${service.url}/connections/${name}`))),
      );
      for (const answer of answers) expect(answer.status).toBe(200);
    }
    // One request to the provider for each renewal saved, in a moment without a renewal in flight.
    const after = await eventually(async () => {
      const [one, two] = [await at(), await at()];
      return one.refreshed === two.refreshed && two.refreshed - before.refreshed === two.renewed - before.renewed ? two : null;
    });
    expect(after.renewed - before.renewed).toBeGreaterThan(15);
    const { replicas } = await call('showStatus');
    expect(replicas.filter((one) => one.alive).length).toBeGreaterThanOrEqual(2);

    const resource = `${service.url}/connections/r1`;
    expect((await call('pauseConnection', { params: { connection: 'r1' } })).state).toBe('paused');
    expect((await fetchToken(service.url, caller_id, key, resource)).body).toMatchObject({
      error: 'invalid_target',
      error_description: expect.stringContaining('paused'),
    });
    await eventually(async () => (await fetchToken(second.url, caller_id, key, resource)).status === 400, HEARD_MS, 'the other replica hears of the pause');
    await expect(call('callConnection', { params: { connection: 'r1' }, body: { path: '/tables' } })).rejects.toMatchObject({
      problem: { code: 'CONNECTION_PAUSED' },
    });
    const paused = await show('r1');
    expect(Date.parse(paused.next_renewal_at ?? '') - Date.now()).toBeGreaterThan(86_400_000); // only kept active
    const resumed = await call('resumeConnection', { params: { connection: 'r1' } });
    expect([resumed.state, resumed.renewals > paused.renewals]).toEqual(['working', true]); // renewed first
    expect(Date.parse(resumed.next_renewal_at ?? '')).toBeLessThan(Date.parse(resumed.life?.expires_at ?? '')); // and from now on in time
    await eventually(async () => (await fetchToken(second.url, caller_id, key, resource)).status === 200, HEARD_MS, 'the other replica hears of the resume');

    await call('removeCaller', { params: { caller: 'replicas' } });
    await eventually(
      async () => (await fetchToken(second.url, caller_id, key, `${service.url}/connections/r1`)).status === 401,
      HEARD_MS,
      'the other replica hears of it',
    );
  } finally {
    expect(await second.stop()).toBe(0);
  }
}, 120_000);

test('many at once for one expired token cause one request to the provider', async () => {
  await standin.order('lives', { access_seconds: 600 });
  await addConnection(call, 'crowd');
  await standin.order('lives', { access_seconds: 1 });
  await service.stop();
  service = await startService({ databaseUrl: database.url, masterKey, folder, port, environment: { RUSTY_KETTLE_POLL_MS: '60000' } }); // the worker sleeps: only issued tokens renew
  call = await signIn(service);
  await agree(call, 'crowd', { account: 'eg-2001' });
  const { caller_id, key } = await call('addCaller', { body: { name: 'crowd', connections: ['crowd'] } });
  await standin.order('lives', { access_seconds: 600 });
  await untilInstant((await show('crowd')).life?.expires_at ?? '');
  const count = async () => (await standin.counters()).refreshes.filter((one) => one.account === 'eg-2001').reduce((sum, one) => sum + one.refreshes, 0);
  const before = await count();
  const answers = await Promise.all(Array.from({ length: 100 }, () => fetchToken(service.url, caller_id, key)));
  expect(answers.map((one) => one.status)).toEqual(answers.map(() => 200));
  expect(new Set(answers.map((one) => one.body.access_token)).size).toBe(1);
  expect(await count()).toBe(before + 1);
});

import { execFile } from 'node:child_process';
import { setTimeout as sleep } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../../src/api/client.ts';
import { freePort } from '../../src/service/database/private-mariadb.ts';
import { openDatabase } from '../../src/service/store/database.ts';
import { newFolder, newMasterKey, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { testProgram } from '../../testing/test-programs.ts';
import { eventually, untilInstant } from '../../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from '../support/harbour.ts';
import { newDatabase } from '../support/new-database.ts';

/** Several replicas over one database, and what must be said to one installation among several. */
const CROWD = fileURLToPath(new URL('../support/crowd.ts', import.meta.url));
const [masterKey, folders] = [newMasterKey(), [newFolder(), newFolder(), newFolder()]];
const replicas: ServiceUnderTest[] = [];
let [standin, call, databaseUrl] = [] as unknown as [StandinUnderTest, ApiClient & { token: string }, string];
let port = 0;
const first = () => replicas[0] as ServiceUnderTest;
/** Ten thousand sockets on two cores: a token request may take its time, and a replica too busy for its heartbeat is not dead. */
const environment = { RUSTY_KETTLE_DEADLINE_MS: '10000', RUSTY_KETTLE_LEASE_MS: '15000', RUSTY_KETTLE_SILENT_MS: '10000' };
const startFirst = () => startService({ databaseUrl, masterKey, port, folder: folders[0] as string, environment });
const show = (name: string) => call('showConnection', { params: { connection: name } });
const renew = (name: string) => call('renewConnection', { params: { connection: name } });

beforeAll(async () => {
  standin = await startEelgrass(3600);
  [databaseUrl, port] = [await newDatabase(), await freePort()];
  replicas[0] = await startFirst();
  call = await signIn(first());
  await addEelgrass(call, standin);
  for (const name of ['one', 'two', 'three', 'four', 'five']) {
    await addConnection(call, name);
    await agree(call, name);
  }
});
afterAll(async () => {
  for (const replica of replicas) await replica.stop();
  await standin.stop();
  for (const folder of folders) removeFolder(folder);
});

test('10,000 issued tokens at once for one expired connection, over three replicas, cause one request to the provider', { timeout: 120_000 }, async () => {
  for (const folder of folders.slice(replicas.length))
    replicas.push(await startService({ databaseUrl, masterKey, publicUrl: first().url, folder, environment }));
  const { revision } = await show('one');
  await call('changeConnection', { params: { connection: 'one' }, body: { revision, policy: 'on_demand' } });
  await standin.order('lives', { access_seconds: 2 });
  await renew('one');
  await standin.order('lives', { access_seconds: 3600 });
  // A token of an hour that expired: a lifetime of 2 s would allow its renewal no more than 5 s, which a crowd may use up.
  const database = openDatabase(databaseUrl, 1);
  await database.write('UPDATE renewals SET issued_at = issued_at - INTERVAL 1 HOUR WHERE expires_at < UTC_TIMESTAMP(3) + INTERVAL 1 MINUTE');
  await database.close();
  await untilInstant((await show('one')).life?.expires_at ?? '');
  const { caller_id, key } = await call('addCaller', { body: { name: `crowd-${Date.now()}`, connections: ['one'] } });
  const before = (await standin.counters()).counters['token.refresh_token.ok'] ?? 0;
  await standin.order('faults', { at: 'token', kind: 'hold_answer', delay_ms: 1_500 });
  const body = new URLSearchParams({ grant_type: 'client_credentials', client_id: caller_id, client_secret: key }).toString();
  const args = ['--import', 'tsx', CROWD, '10000', body, ...replicas.map((replica) => replica.url)];
  const { stdout } = await promisify(execFile)(process.execPath, args, { timeout: 90_000 });
  expect(JSON.parse(stdout)).toEqual({ how: { 200: 10_000 }, tokens: 1 });
  expect((await standin.counters()).counters['token.refresh_token.ok']).toBe(before + 1);
});

test('a replica dies with its answer spilled: its folder is adopted, the answer is saved, and nobody waits for it any more', async () => {
  await expect(call('adoptReplica', { body: { folder: '/nowhere' } })).rejects.toMatchObject({ problem: { code: 'NOT_FOUND' } });
  await expect(call('adoptReplica', { body: { folder: folders[1] as string } })).rejects.toMatchObject({ problem: { code: 'FOLDER_OWNED' } });
  const home = newFolder();
  const dying = newFolder();
  const struck = await startService({ databaseUrl, masterKey, publicUrl: first().url, folder: dying, run: [...testProgram('killed'), 'spill_renamed'] });
  const died = new Promise((resolve) => struck.process.once('exit', resolve));
  const { renewals } = await show('two');
  const asked = await signIn(struck);
  // A worker of another replica may claim the row first: then the one that is to die is asked again.
  for (let tries = 0, gone = false; !gone && tries < 40; tries += 1) {
    void asked('renewConnection', { params: { connection: 'two' } }).catch(() => undefined);
    gone = await Promise.race([died.then(() => true), sleep(1_000).then(() => false)]);
  }
  await died;
  await expect(call('adoptReplica', { body: { folder: dying } })).rejects.toMatchObject({ problem: { code: 'REPLICA_ALIVE' } });
  const asOperator = { RUSTY_KETTLE_URL: first().url };
  await rk(['sign-in', '--name', 'marit'], { home, environment: asOperator, input: 'harbour-light-9\n' });
  // It is taken for dead once it was silent long enough.
  const adopted = await eventually(async () => {
    const tried = await rk(['replica', 'adopt', dying, '--output', 'json'], { home, environment: asOperator });
    return tried.code === 0 ? tried : null;
  });
  expect(JSON.parse(adopted.out)).toMatchObject({ answers_saved: 1 });
  // Within the grace another replica may have renewed already: then what was spilled is put by, and the current token verified.
  const kept = await eventually(async () => ((await show('two')).state === 'working' ? show('two') : null));
  expect(kept.renewals).toBeGreaterThan(renewals);
  expect((await renew('two')).renewals).toBeGreaterThan(kept.renewals); // what was kept is what the provider honours
  const listed = await rk(['replica', 'list'], { home, environment: asOperator });
  expect(listed.out).toMatch(/stopped/);
  for (const folder of [dying, home]) removeFolder(folder);
});

test('three rotating grants rejected for no known reason: everything spendable is held, on every replica, until an operator owns it', async () => {
  await eventually(async () => {
    const { items } = await call('listHistory', { query: { limit: 200, renewals: 'true' } });
    return items.some((entry) => entry.kind === 'renewed');
  });
  const database = openDatabase(databaseUrl, 1);
  await database.write("DELETE FROM history WHERE kind = 'renewed'"); // what went well just before does not count in this test
  await database.close();
  await standin.order('withdraw', {});
  for (const name of ['three', 'four', 'five']) {
    await renew(name);
    await eventually(async () => (await show(name)).state === 'action_needed', 10_000, `${name} rejected for good`);
  }
  const held = await eventually(async () => {
    const { installation } = await call('showStatus');
    return installation.held ? installation : null;
  });
  expect(held.why).toContain('second installation');
  await agree(call, 'three'); // consent is not held: it spends nothing that another could hold
  const { renewals } = await show('three');
  await expect(renew('three')).rejects.toMatchObject({ problem: { code: 'INSTALLATION_HELD' } });
  expect((await show('three')).renewals).toBe(renewals);
  const { caller_id, key } = await call('addCaller', { body: { name: 'calm', connections: ['three'] } });
  const second = replicas[1] as ServiceUnderTest;
  expect((await fetchToken(second.url, caller_id, key)).status).toBe(200); // a good token is still issued
  expect((await call('ownInstallation')).held).toBe(false);
  await eventually(async () => ((await renew('three').catch(() => null))?.renewals ?? 0) > renewals || null, 40_000, 'a renewal after the hold');
}, 90_000);

test('a database that moved to another server goes on where the data folder knows all its saves; with a new folder it is held at the start, and says why', async () => {
  await first().stop();
  const database = openDatabase(databaseUrl, 1);
  const move = () => database.write("UPDATE installations SET fingerprint = 'elsewhere'");
  await move();
  replicas[0] = await startFirst();
  expect(first().output()).not.toContain('RENEWALS ARE HELD');
  await first().stop();
  await move();
  folders[0] = newFolder();
  replicas[0] = await startFirst();
  const home = newFolder();
  const asOperator = { RUSTY_KETTLE_URL: first().url };
  await rk(['sign-in', '--name', 'marit'], { home, environment: asOperator, input: 'harbour-light-9\n' });
  const shown = await rk(['installation', 'show'], { home, environment: asOperator });
  expect(shown.out).toMatch(/on hold since[\s\S]*another server[\s\S]*rk installation own/);
  expect((await rk(['status'], { home, environment: asOperator })).out).toContain('rk installation own');
  expect((await rk(['installation', 'own'], { home, environment: asOperator })).code).not.toBe(0); // asks first, and nobody answers
  expect((await rk(['installation', 'own', '--yes'], { home, environment: asOperator })).out).toContain('go on');
  const [row] = await database.select<{ fingerprint: string; held: number }>('SELECT fingerprint, held FROM installations');
  expect([row?.held, row?.fingerprint]).toEqual([0, expect.stringMatching(/^[0-9a-f]{64}$/)]);
  await database.close();
  removeFolder(home);
});

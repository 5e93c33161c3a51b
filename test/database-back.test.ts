import { execFileSync } from 'node:child_process';
import { setTimeout as sleep } from 'node:timers/promises';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { newMasterKey, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startBerthline, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** The database goes back to what it was a while ago; providers count each second use of a refresh token. */
const LIFE_SECONDS = 4;
const STRICT = ['strict-1', 'strict-2'];
const GRACE = ['grace-1', 'grace-2'];
const ALL = [...STRICT, ...GRACE];

let [strict, grace]: [StandinUnderTest, StandinUnderTest] = [] as never;
beforeAll(async () => {
  [strict, grace] = [await startBerthline(LIFE_SECONDS), await startEelgrass(LIFE_SECONDS)];
});
afterAll(async () => {
  await strict?.stop();
  await grace?.stop();
});

const client = (databaseUrl: string): { args: string[]; name: string } => {
  const { hostname, port, username, password, pathname } = new URL(databaseUrl);
  return { args: [`--host=${hostname}`, `--port=${port}`, `--user=${username}`, `--password=${decodeURIComponent(password)}`], name: pathname.slice(1) };
};
const dump = (databaseUrl: string): Buffer => {
  const { args, name } = client(databaseUrl);
  return execFileSync('mariadb-dump', ['--no-defaults', ...args, '--single-transaction', '--hex-blob', name], { maxBuffer: 200_000_000 });
};
const load = (databaseUrl: string, input: string | Buffer): void => {
  const { args, name } = client(databaseUrl);
  execFileSync('mariadb', ['--no-defaults', ...args, name], { input });
};
/** As a large dump is loaded: its tables come one after the other, with minutes in between, and are of different times meanwhile. */
async function loadSlowly(databaseUrl: string, input: Buffer): Promise<void> {
  const head = input.toString('latin1').split(/^(?=DROP TABLE)/m)[0] ?? '';
  for (const part of input.toString('latin1').split(/^(?=DROP TABLE IF EXISTS `(?:marks|renewals|replicas|tokens)`)/m)) {
    load(databaseUrl, Buffer.from(part.startsWith(head) ? part : head + part, 'latin1'));
    await sleep(2_000);
  }
}

interface Harbour {
  databaseUrl: string;
  masterKey: string;
  service: ServiceUnderTest;
  call: ApiClient;
  caller: { caller_id: string; key: string };
}

/** Four connections that are renewed every three seconds or so. */
async function harbour(environment: Record<string, string> = {}): Promise<Harbour> {
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  const service = await startService({ databaseUrl, masterKey, environment });
  const call = await signIn(service);
  await call('addProvider', { body: { document: strict.definitionText } });
  await addClient(call, strict, 'berths', { provider: 'berthline', placeholders: { region: 'north' } });
  await addEelgrass(call, grace);
  for (const name of STRICT) await addConnection(call, name, ['bookings.read', 'profile'], 'berths', 'berthline');
  for (const name of GRACE) await addConnection(call, name);
  for (const name of ALL) expect((await agree(call, name)).outcome.phase).toBe('done');
  const caller = await call('addCaller', { body: { name: 'board', connections: ALL } });
  return { databaseUrl, masterKey, service, call, caller };
}

const renewals = async (call: ApiClient): Promise<number> => {
  let sum = 0;
  for (const name of ALL) sum += (await call('showConnection', { params: { connection: name } })).renewals;
  return sum;
};
const renewed = async (standins: StandinUnderTest[], more: number): Promise<void> => {
  const count = async () => {
    let sum = 0;
    for (const one of standins) for (const { refreshes } of (await one.counters()).refreshes) sum += refreshes;
    return sum;
  };
  const before = await count();
  await eventually(async () => (await count()) >= before + more, 60_000, `${more} more renewals`);
};
const reuses = async (): Promise<number> => {
  let sum = 0;
  for (const one of [strict, grace]) {
    const { counters } = await one.counters();
    sum += (counters.reuse ?? 0) + (counters.reuse_in_grace ?? 0);
  }
  return sum;
};

/** All work, and go on being renewed; nothing was spent twice. */
async function allWell({ service, call, caller }: Harbour, names = ALL): Promise<void> {
  await eventually(async () => (await call('showStatus')).installation.held === false, 60_000, 'the end of the hold');
  await renewed([strict, grace], 8);
  for (const name of names) {
    await eventually(async () => (await call('showConnection', { params: { connection: name } })).state === 'working', 30_000, name);
    expect((await fetchToken(service.url, caller.caller_id, caller.key, `${service.url}/connections/${name}`)).status).toBe(200);
  }
  expect(await reuses()).toBe(0);
  const { items } = await call('listHistory', { query: { subject: 'installation', limit: 20 } });
  expect(items.map((one) => one.kind)).toEqual(expect.arrayContaining(['database_went_back', 'losses_put_back']));
  expect(items.find((one) => one.kind === 'losses_put_back')?.says).toMatch(/tokens were restored/);
}

test('a dump is loaded back, table by table, while the service runs: nothing outdated is spent, what was lost comes back, renewals go on', async () => {
  const all = await harbour();
  try {
    const early = dump(all.databaseUrl);
    // What a provider and a program have since then must not be lost either; what was retired stays so.
    const { call, caller, service } = all;
    const [first] = (await call('showCaller', { params: { caller: 'board' } })).keys;
    const { key } = await call('addKey', { params: { caller: 'board' }, body: { label: 'second' } });
    await call('retireKey', { params: { caller: 'board', key: first?.id ?? '' } });
    const params = { provider: 'eelgrass', client: 'timetable' };
    await call('addSecret', { params, body: { secret: 'entered-after-the-dump-1', take_as_is: true } });
    await call('revokeConnection', { params: { connection: 'grace-2' } });
    await renewed([strict, grace], 8);
    await loadSlowly(all.databaseUrl, early);
    await allWell({ ...all, caller: { ...caller, key } }, ['strict-1', 'strict-2', 'grace-1']);
    expect((await fetchToken(service.url, caller.caller_id, caller.key, `${service.url}/connections/grace-1`)).status).toBe(401);
    expect((await call('showClient', { params })).secrets).toHaveLength(2);
    // Revoked means so, also where the database does not know it any more.
    expect((await fetchToken(service.url, caller.caller_id, key, `${service.url}/connections/grace-2`)).status).not.toBe(200);
  } finally {
    await all.service.stop();
  }
});

test('a dump is loaded back while the service is stopped: the start notices it', async () => {
  const all = await harbour();
  const early = dump(all.databaseUrl);
  await renewed([strict, grace], 8);
  const before = await renewals(all.call);
  await all.service.stop();
  load(all.databaseUrl, early);
  const { url, folder } = all.service;
  const service = await startService({ ...all, folder, port: Number(new URL(url).port) });
  try {
    await allWell({ ...all, service });
    expect(await renewals(all.call)).toBeGreaterThan(before);
  } finally {
    await service.stop();
  }
});

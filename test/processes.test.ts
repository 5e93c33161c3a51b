import { spawn } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';
import { request } from 'node:http';
import { join } from 'node:path';
import { text } from 'node:stream/consumers';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { newFolder, RK, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Several processes that serve one port: one service to whoever uses it, replicas among themselves. */
const FIGURES = 'a-token-for-figures-only';
let [service, call, standin] = [] as unknown as [ServiceUnderTest, ApiClient, StandinUnderTest];
let board: { caller_id: string; key: string };
/** Beginning with the supervisor's first log line: process IDs by `event`. */
const pids = (event: string): number[] =>
  service
    .output()
    .split('\n')
    .filter((line) => line.startsWith('{'))
    .map((line) => JSON.parse(line) as { pid: number; event: string })
    .filter((one) => one.event === event)
    .map((one) => one.pid);
/** One that ended and that nobody has buried yet is dead. */
const isAlive = (pid: number): boolean => existsSync(`/proc/${pid}/stat`) && !/\) Z /.test(readFileSync(`/proc/${pid}/stat`, 'utf8'));

/** Over a connection of its own, so that another process may take it. */
const ask = (path: string, options: { method?: string; headers?: Record<string, string>; body?: string } = {}): Promise<{ status: number; body: string }> =>
  new Promise((resolve, reject) => {
    const asked = request(`${service.url}${path}`, { agent: false, method: options.method ?? 'GET', headers: options.headers ?? {} }, (answer) =>
      text(answer).then((body) => resolve({ status: answer.statusCode ?? 0, body }), reject),
    );
    // A connection that was handed to a process as it was killed is answered by nobody.
    asked.setTimeout(5_000, () => asked.destroy(new Error('no answer')));
    asked.once('error', reject);
    asked.end(options.body);
  });
const token = () =>
  ask('/oauth/token', {
    method: 'POST',
    headers: {
      authorization: `Basic ${Buffer.from(`${board.caller_id}:${board.key}`).toString('base64')}`,
      'content-type': 'application/x-www-form-urlencoded',
    },
    body: new URLSearchParams({ grant_type: 'client_credentials', resource: `${service.url}/connections/sailings` }).toString(),
  });
const figure = async (line: string): Promise<number | null> => {
  const { body } = await ask('/metrics', { headers: { authorization: `Bearer ${FIGURES}` } });
  const found = body.split('\n').find((one) => one.startsWith(`${line} `));
  return found === undefined ? null : Number(found.slice(line.length));
};
const isAllThere = async (): Promise<boolean> =>
  (await call('listReplicas')).items.filter((one) => one.alive).length === 3 && (await figure('process_max_fds')) !== null;

beforeAll(async () => {
  standin = await startEelgrass(600);
  service = await startService({
    databaseUrl: await newDatabase(),
    environment: { RUSTY_KETTLE_PROCESSES: '3', RUSTY_KETTLE_METRICS_TOKEN: FIGURES },
  });
  call = await signIn(service);
  await eventually(isAllThere);
  await addEelgrass(call, standin);
  await addConnection(call, 'sailings');
  await agree(call, 'sailings');
  board = await call('addCaller', { body: { name: 'board', connections: ['sailings'] } });
}, 120_000);
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  if (service) removeFolder(service.folder);
});

test('every process answers, and whichever is asked for figures has those of all', async () => {
  for (let n = 0; n < 12; n += 1) expect((await token()).status).toBe(200);
  for (let n = 0; n < 6; n += 1) expect((await ask('/api/v1/status')).status).toBe(401);
  expect(new Set(pids('http.request')).size).toBe(3);
  for (let n = 0; n < 3; n += 1) {
    expect(await figure('rusty_kettle_uses_total{outcome="token"}')).toBe(12);
    expect(await figure('rusty_kettle_activity_total{kind="service_started"}')).toBe(3);
    expect(await figure('rusty_kettle_connections{state="working"}')).toBe(1);
    expect(await figure('process_cpu_seconds_total')).toBeGreaterThan(0);
  }
});

test('a process that is killed is started again, and the others go on', async () => {
  const [killed = 0] = pids('service.ready').slice(-1);
  process.kill(killed, 'SIGKILL');
  await eventually(async () => (await token()).status === 200);
  await eventually(async () => pids('processes.ended').length === 1 && pids('service.ready').length === 4);
  expect(pids('service.ready').filter(isAlive)).toHaveLength(3);
  for (let n = 0; n < 6; n += 1) expect((await token()).status).toBe(200);
});

test('a signal to all of them at once, as a service manager sends it, stops them in order; nothing is left', async () => {
  const all = pids('service.ready');
  for (const pid of all.filter(isAlive)) process.kill(pid, 'SIGTERM');
  expect((await token()).status).toBe(200); // signals are the supervisor's
  expect(await service.stop()).toBe(0);
  expect(all.filter(isAlive)).toEqual([]);
  expect(pids('service.stopped')).toHaveLength(3);
});

test('with a private database: it outlives the process that started it, and goes with the last one; a supervisor that is killed takes all along', async () => {
  const folder = newFolder();
  const environment = { RUSTY_KETTLE_PROCESSES: '2', RUSTY_KETTLE_DATABASE_URL: undefined as never, RUSTY_KETTLE_MASTER_KEY: undefined as never };
  service = await startService({ databaseUrl: '', folder, environment });
  const database = (): number => (JSON.parse(readFileSync(join(folder, 'database.json'), 'utf8')) as { pid: number }).pid;
  const replicas = async () => (await call('listReplicas')).items.filter((one) => one.alive).length;
  try {
    call = await signIn(service);
    await eventually(async () => (await replicas()) === 2);
    const [first = 0] = pids('service.ready');
    const server = database();
    process.kill(first, 'SIGKILL');
    await eventually(async () => pids('service.ready').length === 3 && (await call('listReplicas')).items.length >= 2);
    expect([database(), isAlive(server)]).toEqual([server, true]);
    await service.kill(); // the supervisor alone
    await eventually(async () => pids('service.ready').filter(isAlive).length === 0);
    service = await startService({ databaseUrl: '', folder, environment, port: Number(new URL(service.url).port) });
    await eventually(async () => pids('service.ready').length === 2);
    expect(await service.stop()).toBe(0);
    expect([pids('service.ready').filter(isAlive), isAlive(server), existsSync(join(folder, 'database.json'))]).toEqual([[], false, false]);
  } finally {
    removeFolder(folder);
  }
});

test('what keeps the first one from starting is said once, with the same exit code', async () => {
  const started = async (processes: string) => {
    const folder = newFolder();
    const child = spawn(process.execPath, [RK, 'serve'], {
      env: {
        PATH: process.env.PATH,
        RUSTY_KETTLE_PROCESSES: processes,
        RUSTY_KETTLE_DATA_FOLDER: folder,
        RUSTY_KETTLE_DATABASE_URL: await newDatabase(),
        RUSTY_KETTLE_MASTER_KEY: 'too-short',
        RUSTY_KETTLE_PORT: '65123',
        NO_COLOR: '1',
      },
    });
    const [said, code] = await Promise.all([text(child.stderr), new Promise<number | null>((resolve) => child.once('exit', resolve))]);
    removeFolder(folder);
    return { said, code };
  };
  const [one, several] = [await started('1'), await started('2')];
  expect(one.code).not.toBe(0);
  expect(several).toEqual(one);
});

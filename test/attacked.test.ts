import { spawn } from 'node:child_process';
import { request } from 'node:http';
import { type AddressInfo, connect, createServer, type Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { newFolder, newMasterKey, PASSWORD, RK, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { newDatabase } from './support/new-database.ts';

/** What a stranger, a caller or the author of a document can do to the service; bounded, on loopback. */
let [service, call]: [ServiceUnderTest, ApiClient & { token: string }] = [] as never;
let [databaseUrl, masterKey] = ['', newMasterKey()];
let board: { caller_id: string; key: string };
let watcher = '';
const json = (body: unknown, headers: Record<string, string> = {}): RequestInit => ({
  method: 'POST',
  body: typeof body === 'string' ? body : JSON.stringify(body),
  headers: { 'content-type': 'application/json', ...headers },
});
const post = (path: string, body: unknown, headers?: Record<string, string>) => fetch(`${service.url}${path}`, json(body, headers));
const operatorPost = (path: string, body: unknown, headers: Record<string, string> = {}) =>
  post(path, body, { authorization: `Bearer ${call.token}`, ...headers });
const statuses = async (tries: Promise<Response>[]): Promise<Record<number, number>> => {
  const counts: Record<number, number> = {};
  for (const { status } of await Promise.all(tries)) counts[status] = (counts[status] ?? 0) + 1;
  return counts;
};
const token = (id: string, key: string) =>
  fetch(`${service.url}/oauth/token`, { method: 'POST', body: new URLSearchParams({ grant_type: 'client_credentials', client_id: id, client_secret: key }) });

beforeAll(async () => {
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl, masterKey });
  call = await signIn(service);
  const { url } = await call('inviteOperator', { body: { name: 'watcher', role: 'viewer' } });
  const anyone = apiClient({ baseUrl: service.url });
  await anyone('joinOperator', { body: { ticket: url.split('/').at(-1) ?? '', password: PASSWORD } });
  ({ token: watcher = '' } = await anyone('signIn', { body: { name: 'watcher', password: PASSWORD, keeps: 'token' } }));
  board = await call('addCaller', { body: { name: 'board', connections: [] } });
});
afterAll(() => service.stop());

test('600 tickets that are none hash nothing, and 200 guesses at once are not all verified; whoever was here before gets in meanwhile', async () => {
  const { device } = await apiClient({ baseUrl: service.url })('signIn', { body: { name: 'marit', password: PASSWORD, keeps: 'token' } });
  const guesses = await statuses(Array.from({ length: 200 }, (_, index) => post('/api/v1/session', { name: 'marit', password: `guess-${index}-guess` })));
  expect(Object.keys(guesses).sort()).toEqual(['401', '429']);
  expect(guesses[401]).toBeLessThanOrEqual(30);
  // The account is not locked: only strangers wait, and its own device is known. The wait ends by the clock, so it is looked at first.
  const stranger = await post('/api/v1/session', { name: 'marit', password: PASSWORD, keeps: 'token' });
  expect([stranger.status, Number(stranger.headers.get('retry-after')) > 0]).toEqual([429, true]);
  const known = await post('/api/v1/session', { name: 'marit', password: PASSWORD, keeps: 'token', device });
  expect(known.status).toBe(200);
  const tickets = Array.from({ length: 600 }, () => post('/api/v1/operators/first', { ticket: 'x'.repeat(32), name: 'eve', password: 'harbour-dark-99' }));
  const first = await statuses(tickets);
  expect(Object.keys(first).every((status) => ['410', '429'].includes(status))).toBe(true);
  // What strangers do is counted, not stored.
  const { items } = await call('listHistory', { query: {} });
  expect(items.filter((one) => one.kind === 'sign_in_failed').length).toBeLessThanOrEqual(2);
});

test('a right key passes whoever guessed before; wrong ones are slowed, and ids that are none are rejected unlooked', async () => {
  const wrong = await Promise.all(Array.from({ length: 40 }, () => token(board.caller_id, 'x'.repeat(43))));
  expect(wrong.every((answer) => answer.status === 401)).toBe(true);
  expect(wrong.filter((answer) => answer.headers.has('retry-after')).length).toBeGreaterThan(20);
  expect(await (await token(board.caller_id, board.key)).json()).not.toMatchObject({ error: 'invalid_client' });
  const long = await Promise.all(Array.from({ length: 50 }, () => token(`rkc_${'y'.repeat(15_000)}`, 'x')));
  // Not counted, not kept: no limit ever answers.
  expect(long.every((answer) => answer.status === 401 && !answer.headers.has('retry-after'))).toBe(true);
});

test('a changed password ends the other sessions, and the old one is good for nothing', async () => {
  const other = await startService({ databaseUrl: await newDatabase() });
  try {
    const [mine, elsewhere] = [await signIn(other), await signIn(other)];
    const next = 'harbour-light-10';
    await expect(mine('changePassword', { body: { current: 'not-it-at-all', password: next } })).rejects.toMatchObject({ problem: { code: 'PASSWORD_WRONG' } });
    expect(await mine('changePassword', { body: { current: PASSWORD, password: next } })).toEqual({ ended: 1 });
    await expect(elsewhere('showSession')).rejects.toMatchObject({ problem: { status: 401 } });
    const anonymous = apiClient({ baseUrl: other.url });
    await expect(anonymous('signIn', { body: { name: 'marit', password: PASSWORD, keeps: 'token' } })).rejects.toMatchObject({
      problem: { code: 'SIGN_IN_WRONG' },
    });
    await anonymous('signIn', { body: { name: 'marit', password: next, keeps: 'token' } });
    expect(await mine('endOtherSessions')).toEqual({ ended: 1 });
    expect(await mine('endOtherSessions')).toEqual({ ended: 0 });
  } finally {
    await other.stop();
  }
});

test('live pages are shared by account: whoever opens all there may be leaves room for the others', async () => {
  const closing = new AbortController();
  const opened = (bearer = '') => fetch(`${service.url}/api/v1/events`, { headers: { authorization: `Bearer ${bearer}` }, signal: closing.signal });
  const counts = await statuses(Array.from({ length: 60 }, () => opened(watcher)));
  expect(counts).toEqual({ 200: 20, 429: 40 });
  expect((await opened(call.token)).status).toBe(200);
  closing.abort();
});

test('a back-channel sign-out without a form is a bad request, not an error of ours', async () => {
  for (const init of [{ method: 'POST' }, json({ logout_token: 'x' }), { method: 'POST', body: 'x', headers: { 'content-type': 'text/plain' } }])
    expect([400, 404, 415]).toContain((await fetch(`${service.url}/sign-in/back-channel`, init)).status);
});

test.each<[string, () => Promise<Response>, number]>([
  ['a content encoding that does not exist', () => operatorPost('/api/v1/callers', '{}', { 'content-encoding': 'squeezed' }), 415],
  ['a content encoding that the body has not', () => operatorPost('/api/v1/callers', '{}', { 'content-encoding': 'gzip' }), 400],
  ['one\u2019s own data folder, adopted', () => operatorPost('/api/v1/replicas/adopt', { folder: service.folder }), 409],
])('%s is said to be wrong, and is no error of ours', async (_name, request, status) => {
  const answer = await request();
  expect([answer.status, await answer.json()]).toEqual([status, expect.objectContaining({ remedy: expect.stringMatching(/\w/) })]);
});

test('a port that is taken ends the start at once: an exit code, and one line that names the port', async () => {
  const holder = createServer();
  await new Promise<void>((resolve) => holder.listen(0, '127.0.0.1', resolve));
  const { port } = holder.address() as AddressInfo;
  const child = spawn(process.execPath, [RK, 'serve'], {
    env: {
      PATH: process.env.PATH,
      RUSTY_KETTLE_DATA_FOLDER: newFolder(),
      RUSTY_KETTLE_DATABASE_URL: await newDatabase(),
      RUSTY_KETTLE_MASTER_KEY: newMasterKey(),
      RUSTY_KETTLE_PORT: String(port),
    },
  });
  let said = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (part) => (said += part));
  try {
    expect(await new Promise((resolve) => child.once('close', resolve))).toBe(1);
    expect(said.split('\n').filter((line) => line.includes(`127.0.0.1:${port}`))).toHaveLength(1);
    expect(said.split('\n').length).toBeLessThan(20);
    expect(said).toContain('What to do');
  } finally {
    holder.close();
  }
});

/** A request whose body is not whole yet: the service has it, and waits. */
async function begun(url: string): Promise<{ socket: Socket; answer: Promise<string> }> {
  const { hostname, port } = new URL(url);
  const socket = connect({ host: hostname, port: Number(port) });
  let got = '';
  socket.on('data', (part) => (got += part));
  const answer = new Promise<string>((resolve) => {
    for (const event of ['close', 'error'] as const) socket.once(event, () => resolve(got));
  });
  await new Promise((resolve) => socket.once('connect', resolve));
  const body = `grant_type=client_credentials&client_id=${board.caller_id}&client_secret=${'x'.repeat(43)}`;
  socket.write(
    `POST /oauth/token HTTP/1.1\r\nhost: ${hostname}\r\ncontent-type: application/x-www-form-urlencoded\r\ncontent-length: ${body.length + 2}\r\n\r\n${body}`,
  );
  return { socket, answer };
}

type Outcome = 'answered' | 'refused' | string;

/** A connection of its own for every request, one after the other, until none is taken any more. Anything but an answer or a refusal is a broken one. */
async function newcomer(url: string, seen: Outcome[]): Promise<void> {
  const visit = () =>
    new Promise<Outcome>((resolve) => {
      const asked = request(`${url}/livez`, { agent: false }, (answer) => {
        answer.resume();
        answer.once('close', () => resolve(answer.complete ? 'answered' : 'cut'));
      });
      asked.once('error', (error: NodeJS.ErrnoException) => resolve(error.code === 'ECONNREFUSED' ? 'refused' : `${error.code}`));
      asked.end();
    });
  for (let turn = 0; turn < 100_000; turn += 1) {
    const outcome = await visit();
    seen.push(outcome);
    if (outcome === 'refused') return;
    await sleep(1);
  }
}

// Also with several processes, where one accepts for the others. `npm run long` plays ten rounds.
const ROUNDS = Array.from({ length: Number(process.env.DRAIN_ROUNDS ?? 1) }, () => [1, 2]).flat();
test.concurrent.each(ROUNDS)(
  'SIGTERM breaks nobody\u2019s request (processes: %i): what came is answered, the answer shows that the connection closes, and no new one is taken',
  async (processes) => {
    const ending = await startService({ databaseUrl, masterKey, environment: { RUSTY_KETTLE_PROCESSES: String(processes) } });
    const busy = await Promise.all(Array.from({ length: 40 }, () => begun(ending.url)));
    const seen: Outcome[] = [];
    const newcomers = Array.from({ length: 30 }, () => newcomer(ending.url, seen));
    await eventually(async () => seen.length > 200);
    const before = seen.length;
    const ended = ending.stop();
    await eventually(async () => seen.length > before + 100);
    for (const { socket } of busy) socket.write('&x');
    await Promise.all(newcomers);
    const answers = await Promise.all(busy.map(({ answer }) => answer));
    for (const answer of answers) {
      expect(answer).toMatch(/^HTTP\/1\.1 (401|429) /);
      expect(answer.toLowerCase()).toContain('connection: close');
    }
    expect(await ended).toBe(0);
    expect(seen.filter((outcome) => !['answered', 'refused'].includes(outcome))).toEqual([]);
  },
);

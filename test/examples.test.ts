import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { mkdtempSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { freePort } from '../src/service/database/private-mariadb.ts';
import { Browser, playAuthorization, registerAtStandin } from '../src/standins/visitor.ts';
import { makeCertificate } from '../testing/certificate.ts';
import { removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, type StandinUnderTest, startBerthline, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';
import { OperatorBrowser } from './support/tool.ts';

/** What stands in examples/, run as it is: ordinary tools and languages that know nothing of us. Nothing is skipped. */
const EXAMPLES = fileURLToPath(new URL('../examples/', import.meta.url));
const RUN = new Set<string>();
let [service, call] = [] as unknown as [ServiceUnderTest, ApiClient];
const at = {} as Record<'eelgrass' | 'berthline' | 'wharfpost' | 'ledgerfin' | 'deckhail' | 'oakum', StandinUnderTest>;
const folder = mkdtempSync(join(tmpdir(), 'rk-examples-'));

interface Ended {
  code: number | null;
  out: string;
}
function start(
  program: string,
  file: string,
  environment: Record<string, string>,
  args: string[] = [],
): { child: ChildProcess; output(): string; ended: Promise<Ended> } {
  RUN.add(file);
  const child = spawn(program, [join(EXAMPLES, file), ...args], { env: { PATH: process.env.PATH, ...environment }, stdio: ['ignore', 'pipe', 'pipe'] });
  let out = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (part) => (out += part));
  return { child, output: () => out, ended: new Promise((resolve) => child.once('close', (code) => resolve({ code, out }))) };
}
const run = (program: string, file: string, environment: Record<string, string>, args: string[] = []) => start(program, file, environment, args).ended;
const tokenUrl = () => `${service.url}/oauth/token`;
const caller = (name: string, connections: string[]) => call('addCaller', { body: { name, connections } });
const relay = (connection: string, made: { caller_id: string; key: string }) => ({
  RELAY_URL: `${service.url}/relay/${connection}`,
  CALLER_ID: made.caller_id,
  CALLER_KEY: made.key,
});
const client = (made: { caller_id: string; key: string }) => ({ TOKEN_URL: tokenUrl(), CLIENT_ID: made.caller_id, CLIENT_SECRET: made.key });

beforeAll(async () => {
  [at.eelgrass, at.berthline] = [await startEelgrass(600), await startBerthline(600)];
  for (const name of ['wharfpost', 'ledgerfin', 'deckhail', 'oakum'] as const) at[name] = await startUnderTest(name, name === 'deckhail' ? 12 : 600);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await addEelgrass(call, at.eelgrass);
  for (const name of ['berthline', 'wharfpost', 'ledgerfin', 'deckhail', 'oakum'] as const)
    await call('addProvider', { body: { document: at[name].definitionText } });
  await addConnection(call, 'sailings');
  await agree(call, 'sailings');
  await addClient(call, at.berthline, 'desk', { provider: 'berthline', placeholders: { region: 'north' } });
  await addConnection(call, 'berths', ['bookings.read', 'profile'], 'desk', 'berthline');
  await agree(call, 'berths');
  await addClient(call, at.wharfpost, 'counter', { provider: 'wharfpost' });
  await call('addConnection', {
    body: { name: 'parcels', provider: 'wharfpost', client: 'counter', scopes: ['parcels'], placeholders: { account: '40017788' } },
  });
  const certificate = await makeCertificate('books');
  const draft = await call('addClient', { body: { provider: 'ledgerfin', name: 'posting', placeholders: { tenant: 'lf204816' } } });
  const there = await registerAtStandin(draft.registration_page ?? '', 'Posting', draft.redirect_uri, { certificate: certificate.certificate });
  const params = { provider: 'ledgerfin', client: 'posting' };
  await call('changeClient', { params, body: { revision: draft.revision, client_id: there.id, method: 'private_key_jwt' } });
  await call('addSecret', { params, body: { kind: 'certificate', secret: certificate.pem } });
  await addConnection(call, 'ledger', ['books.read', 'books.post'], 'posting', 'ledgerfin');
  for (const name of ['parcels', 'ledger']) {
    const opened = await call('openConnection', { params: { connection: name } });
    await eventually(async () => (await call('showConsent', { params: { consent: opened.id } })).phase === 'done');
  }
  const { id } = await addClient(call, at.deckhail, 'deck', { provider: 'deckhail', type: 'desktop' });
  const deck = at.deckhail.store.state.clients[id];
  if (deck) deck.serviceUser = { name: 'Deck', role: 'Announcer' };
  await addConnection(call, 'announcements', ['hear', 'offline_access'], 'deck', 'deckhail');
  await agree(call, 'announcements');
});
afterAll(async () => {
  await service?.stop();
  for (const one of Object.values(at)) await one.stop();
  removeFolder(service.folder);
  rmSync(folder, { recursive: true, force: true });
});

test('curl in cron, through the relay; the key stands in no argument', async () => {
  const made = await caller('parcels-waiting', ['parcels']);
  expect(await run('sh', 'parcels-waiting.sh', relay('parcels', made))).toEqual({ code: 0, out: expect.stringMatching(/^\d+ parcels wait\n$/) });
  expect(await run('sh', 'parcels-waiting.sh', { ...relay('parcels', made), CALLER_KEY: 'wrong' })).toMatchObject({
    code: 22,
    out: expect.stringContaining('caller id or its key is wrong'),
  });
});

test('a shell script that fetches a token and calls the API itself, with its only connection or one that it names', async () => {
  const API_URL = `http://127.0.0.1:${at.eelgrass.port}/v1/tables`;
  expect((await run('sh', 'token-in-shell.sh', { ...client(await caller('shell', ['sailings'])), API_URL })).out).toContain('Sailings this week');
  const two = client(await caller('shell-two', ['sailings', 'berths']));
  expect((await run('sh', 'token-in-shell.sh', { ...two, API_URL, SCOPE: 'connection:sailings' })).code).toBe(0);
  expect(await run('sh', 'token-in-shell.sh', { ...two, API_URL })).toMatchObject({ code: 22, out: expect.stringContaining('several connections') });
});

test('Python\u2019s standard library', async () => {
  const environment = {
    ...client(await caller('berth-report', ['berths', 'sailings'])),
    SCOPE: 'connection:berths',
    API_URL: `http://127.0.0.1:${at.berthline.port}/v1`,
  };
  const ended = await run('python3', 'berth-report.py', environment);
  expect(ended).toEqual({ code: 0, out: expect.stringMatching(/^north-1: \d+\nnorth-2: \d+\nnorth-3: \d+\n$/) });
  expect(execFileSync('python3', ['-S', '-c', 'import sys; print(sys.version_info >= (3, 9))']).toString().trim()).toBe('True'); // nothing beside the standard library is on its path
});

test('Node.js: a board that fetches tokens, and a nightly job that relays', async () => {
  const board = start(process.execPath, 'timetable-board.mjs', {
    ...client(await caller('board', ['sailings'])),
    API_URL: `http://127.0.0.1:${at.eelgrass.port}/v1/tables/sailings/rows?limit=2`,
    EVERY_MS: '200',
  });
  await eventually(async () => (board.output().match(/next:/g)?.length ?? 0) >= 3);
  board.child.kill('SIGTERM');
  expect((await board.ended).out).toContain('0 failures');
  expect((await run(process.execPath, 'nightly-ledger.mjs', relay('ledger', await caller('nightly', ['ledger'])))).out).toMatch(/^201 .*Fares of the day/);
});

test('a scheduler\u2019s form that has boxes for token URL, id, secret and scope, and no other', async () => {
  const made = await caller('scheduler', ['sailings', 'berths']);
  const file = join(folder, 'form.json');
  const form = { token_url: tokenUrl(), client_id: made.caller_id, client_secret: made.key, call: `http://127.0.0.1:${at.eelgrass.port}/v1/tables` };
  for (const filled of [
    { ...form, scope: 'connection:sailings' },
    { ...form, token_url: `${tokenUrl()}/sailings` },
    { ...form, token_url: `${tokenUrl()}/sailings`, scope: '' },
  ]) {
    writeFileSync(file, JSON.stringify(filled));
    expect(await run(process.execPath, 'scheduled-form.mjs', {}, [file])).toMatchObject({ code: 0, out: expect.stringMatching(/^200 /) });
  }
});

test('a tool that only knows \u201csign in\u201d: at sign-in, through renewals that end its token each time, and on from the refresh token that it kept', {
  timeout: 120_000,
}, async () => {
  const redirect_uris = ['http://127.0.0.1/signed-in'];
  const made = await call('addCaller', { body: { name: 'deck-announcer', connections: ['announcements'], redirect_uris } });
  const settings = {
    ...client(made),
    AUTHORIZATION_URL: `${service.url}/oauth/authorize`,
    API_URL: `http://127.0.0.1:${at.deckhail.port}/1/announcements`,
    KEEP: join(folder, 'kept.json'),
    EVERY_MS: '250',
  };
  const first = start(process.execPath, 'deck-announcer.mjs', settings);
  const address = await eventually(async () => /^open (\S+)$/m.exec(first.output())?.[1]);
  const browser = await new OperatorBrowser(service.url).signIn();
  await (await fetch(await browser.answerSignIn(address, 'announcements'))).text();
  const { renewals } = await call('showConnection', { params: { connection: 'announcements' } });
  await eventually(async () => (await call('showConnection', { params: { connection: 'announcements' } })).renewals >= renewals + 2, 60_000);
  first.child.kill('SIGTERM');
  expect(await first.ended).toMatchObject({
    code: 0,
    out: expect.stringMatching(/signed in\n[\s\S]*heard: Departure in five minutes\.\n[\s\S]* 0 failures, [1-9]\d* renewals/),
  });
  const again = await run(process.execPath, 'deck-announcer.mjs', { ...settings, CALLS: '2' });
  expect(again).toMatchObject({ code: 0, out: expect.not.stringContaining('open ') });
});

test('a portal whose members connect their own accounts, and receivers of its events in two languages', { timeout: 120_000 }, async () => {
  await addClient(call, at.oakum, 'crew', { provider: 'oakum' });
  await call('addConnection', { body: { name: 'crew-id', shared: true, provider: 'oakum', client: 'crew', scopes: ['view.certificates'] } });
  const PORT = String(await freePort());
  const made = await call('addCaller', {
    body: { name: 'crew-portal', title: 'Crew portal', connections: ['crew-id'], redirect_uris: [`http://127.0.0.1:${PORT}/done`] },
  });
  const settings = { SERVICE_URL: service.url, CONNECTION: 'crew-id', CALLER_ID: made.caller_id, CALLER_KEY: made.key, PORT };
  const portal = start(process.execPath, 'crew-portal.mjs', settings);
  const listening = (one: { output(): string }) => eventually(async () => /listening on (\S+)/.exec(one.output())?.[1]);
  const address = await listening(portal);
  await call('permitCaller', { params: { caller: 'crew-portal' }, body: { connection: 'crew-id', people: 'manage' } });
  const SIGNING_SECRET = `whsec_${Buffer.from('a-signing-secret-of-some-length').toString('base64')}`;
  const receivers = [start(process.execPath, 'events-receiver.mjs', { SIGNING_SECRET }), start('python3', 'events_receiver.py', { SIGNING_SECRET })];
  const [first, second] = await Promise.all(receivers.map(listening));
  const send = (url = '') => call('setEventReceiver', { params: { caller: 'crew-portal' }, body: { url, signing_secret: SIGNING_SECRET } });
  await send(first);
  // The member: from the portal's page to the registry and back.
  const browser = new Browser();
  const link = (await browser.fetch(`${address}/members/member-17/connect`, new URLSearchParams())).location ?? '';
  const page = (await browser.fetch(link)).location ?? '';
  const away = (await browser.fetch(`${page}/start`, new URLSearchParams())).location ?? '';
  await playAuthorization(away, { account: 'eg-1042', password: 'low-tide' }, browser);
  const back = (await browser.fetch((await browser.fetch(`${page}/wait`)).location ?? '')).location ?? '';
  expect(back).toContain(`${address}/done?code=`);
  const member = (await browser.fetch(back)).location ?? '';
  expect((await browser.fetch(member)).body).toMatch(/Registry id <strong>C7731K42<.*Basic safety/);
  expect((await browser.fetch(back)).status).toBe(502); // a code works once
  await eventually(async () => receivers[0]?.output().includes('person.consented member-17'));
  await send(second);
  const forged = await fetch(second ?? '', {
    method: 'POST',
    body: '{"type":"person.disconnected","subject":"member-17"}',
    headers: { 'webhook-id': 'x', 'webhook-timestamp': String(Math.floor(Date.now() / 1000)), 'webhook-signature': 'v1,AAAA' },
  });
  expect([forged.status, (await fetch(first ?? '', { method: 'POST', body: '{}' })).status]).toEqual([401, 401]);
  // The member disconnects, and the portal's page shows it.
  await call('disconnectPerson', { params: { connection: 'crew-id' }, body: { person: 'member-17' } });
  await eventually(async () => (await browser.fetch(member)).body.includes('not connected') || null);
  await eventually(async () => receivers[1]?.output().includes('person.disconnected member-17'));
  for (const one of [portal, ...receivers]) one.child.kill('SIGTERM');
  for (const one of [portal, ...receivers]) await one.ended;
});

test('every example is run here; the alert rules by the test of metrics', () => {
  expect([...RUN, 'alerts.yaml'].sort()).toEqual(readdirSync(EXAMPLES).sort());
});

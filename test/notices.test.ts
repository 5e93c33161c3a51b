import { chmodSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Webhook } from 'standardwebhooks';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import type { Notice } from '../src/api/notices.ts';
import { freePort } from '../src/service/database/private-mariadb.ts';
import { type Mailbox, startMailbox } from '../testing/mailbox.ts';
import { openSeeder, type Seeder } from '../testing/seed.ts';
import { newFolder, newMasterKey, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, agree, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Two replicas see the same causes; people are told once, by mail, webhook and program; what is fixed is closed and said. */
const DAY_MS = 86_400_000;
const MANY = 5_000;
const LONG = 90_000;
/** As the reference library takes it where nobody says otherwise. */
const SECRET = `whsec_${Buffer.from('of-the-harbour-office-0001').toString('base64')}`;
interface Hook {
  headers: Record<string, string>;
  body: string;
}
let [first, second, call, standin, mailbox, seeder] = [] as unknown as [
  ServiceUnderTest,
  ServiceUnderTest,
  ApiClient & { token: string },
  StandinUnderTest,
  Mailbox,
  Seeder,
];
let scripts = '';
const hooks: Hook[] = [];
/** What the receiver of events answers next; none left: 204. */
const answers: { status: number; headers?: Record<string, string> }[] = [];
/** A token endpoint that takes any refresh token, while it is up. */
const endpoint = { up: true, calls: 0 };
const servers: Server[] = [];
let [hookUrl, tokenUrl] = ['', ''];

async function listen(handle: Parameters<typeof createServer>[1]): Promise<string> {
  const server = createServer(handle as never);
  servers.push(server);
  const port = await freePort();
  await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
  return `http://127.0.0.1:${port}`;
}

beforeAll(async () => {
  mailbox = await startMailbox();
  hookUrl = await listen((request, response) => {
    let body = '';
    request.on('data', (part) => (body += part));
    request.on('end', () => {
      const { status, headers } = answers.shift() ?? { status: 204 };
      if (status === 204) hooks.push({ headers: request.headers as Record<string, string>, body });
      response.writeHead(status, headers).end();
    });
  });
  tokenUrl = await listen((request, response) => {
    endpoint.calls += 1;
    request.resume();
    if (!endpoint.up) return void response.writeHead(503).end();
    const token = { access_token: `a.${endpoint.calls}`, refresh_token: `r.${endpoint.calls}`, token_type: 'Bearer', expires_in: 3600 };
    response.setHeader('content-type', 'application/json').end(JSON.stringify(token));
  });
  scripts = mkdtempSync(join(tmpdir(), 'rk-scripts-'));
  writeFileSync(join(scripts, 'keep'), `#!/bin/sh\ncat >> ${join(scripts, 'kept')}\necho >> ${join(scripts, 'kept')}\nenv > ${join(scripts, 'environment')}\n`);
  writeFileSync(join(scripts, 'fails'), '#!/bin/sh\nexit 3\n');
  for (const name of ['keep', 'fails']) chmodSync(join(scripts, name), 0o755);
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  const environment = {
    RUSTY_KETTLE_NOTICE_SECONDS: '3',
    RUSTY_KETTLE_SMTP_URL: mailbox.url,
    RUSTY_KETTLE_MAIL_FROM: 'Saltmarsh Ferries <kettle@saltmarsh.example>',
    RUSTY_KETTLE_SCRIPTS_FOLDER: scripts,
    RUSTY_KETTLE_APPROVAL_CHECK_SECONDS: '2',
  };
  standin = await startUnderTest('eelgrass', 3600);
  first = await startService({ databaseUrl, masterKey, environment });
  call = await signIn(first);
  second = await startService({ databaseUrl, masterKey, environment, publicUrl: first.url, folder: newFolder() });
  seeder = await openSeeder(databaseUrl, masterKey);
  await call('addProvider', { body: { document: standin.definitionText } });
  await addClient(call, standin, 'timetable');
  const elsewhere = standin.definitionText
    .replace('name: eelgrass', 'name: tidewire')
    .replace('title: Eelgrass', 'title: Tidewire')
    .replace(/token_endpoint: .*/, `token_endpoint: ${tokenUrl}/token`);
  await call('addProvider', { body: { document: elsewhere } });
  await addClient(call, standin, 'crowd', { provider: 'tidewire' });
}, 180_000);
afterAll(async () => {
  await seeder?.close();
  await Promise.all([first?.stop(), second?.stop()]);
  await standin?.stop();
  await mailbox?.stop();
  for (const server of servers) server.close();
  for (const one of [first, second]) if (one) removeFolder(one.folder);
  rmSync(scripts, { recursive: true, force: true });
});

const open = async (): Promise<Notice[]> => (await call('listNotices', { query: {} })).items;
const until = <T>(find: () => Promise<T | null | undefined | false>, what: string) => eventually(async () => (await find()) || null, LONG, what);
const subjects = () => mailbox.received.map((mail) => mail.subject);
const client = { provider: 'eelgrass', client: 'timetable' };

test('storm: a provider dies under 5,000 connections: one notice, one mail, one all-clear, on two replicas', async () => {
  const now = Date.now();
  const life = { issuedAt: now - 60_000, expiresAt: now + DAY_MS, nextAt: now + DAY_MS };
  const seeded = Array.from({ length: MANY }, (_none, n) => ({ ...life, name: `boat-${n}`, access: `a${n}`, refresh: `r${n}` }));
  await seeder.add({ provider: 'tidewire', client: 'crowd' }, seeded);
  await seeder.settled();
  await until(async () => (await open()).length === 0, 'nothing of the seeding is open');
  await call('addChannel', { body: { kind: 'mail', name: 'ops', to: ['ops@saltmarsh.example'], rule: { severities: { warning: 'now' } } } });
  await call('addChannel', {
    body: { kind: 'webhook', name: 'board', url: hookUrl, signing_secret: SECRET, rule: { severities: { warning: 'now', info: 'now' } } },
  });
  endpoint.up = false;
  await seeder.database.write(
    'UPDATE renewals r JOIN clients c ON c.id = r.client_id SET r.next_at = UTC_TIMESTAMP(3), r.expires_at = UTC_TIMESTAMP(3) + INTERVAL 20 SECOND WHERE c.name = $1',
    ['crowd'],
  );
  const opened = await until(async () => (await open()).find((one) => one.connections > 500), 'the notice counts them');
  expect(await open()).toHaveLength(1);
  expect(opened).toMatchObject({ kind: 'connections', severity: 'warning', subject: 'provider:tidewire', title: expect.stringMatching(/^Tidewire/) });
  await until(async () => mailbox.received.length === 1 && hooks.length === 1, 'both channels are told');
  expect(mailbox.received[0]?.text).toMatch(/^Auto-Submitted: auto-generated\r?$/m); // RFC 3834: no absence note comes back
  endpoint.up = true;
  await seeder.database.write('UPDATE renewals SET next_at = UTC_TIMESTAMP(3) WHERE failures > 0'); // not to wait for the back-off of each
  await until(async () => (await call('showStatus')).connections.working === MANY, 'all work again');
  await until(async () => (await open()).length === 0 && mailbox.received.length === 2 && hooks.length === 2, 'the all-clear');
  expect(subjects()).toEqual([`Warning: ${opened.title}`, `Fixed: ${opened.title}`].map((text) => expect.stringContaining(text)));
  const { items } = await call('listNotices', { query: { state: 'closed' } });
  expect(items.map((one) => [one.id, one.returns])).toEqual([[opened.id, 0]]);
  const told = (await call('showNotice', { params: { notice: opened.id } })).deliveries;
  expect(told.map((one) => `${one.channel} ${one.event} ${one.state}`).sort()).toEqual([
    'board closed sent',
    'board opened sent',
    'ops closed sent',
    'ops opened sent',
  ]);
}, 240_000);

test('an event by webhook is a CloudEvent, signed, with one link and no secret', () => {
  const [one] = hooks as [Hook];
  const event = new Webhook(SECRET).verify(one.body, one.headers) as Record<string, unknown>;
  expect(event).toMatchObject({
    specversion: '1.0',
    id: one.headers['webhook-id'],
    source: first.url,
    type: 'notice.opened',
    subject: 'provider:tidewire',
    data: { severity: 'warning', url: expect.stringMatching(/\/#\/notices\/[0-9a-f-]{36}$/) },
  });
  expect(() => new Webhook(SECRET).verify(one.body.replace('warning', 'info'), one.headers)).toThrow();
});

test('a secret that expires is told with its date, once; acknowledging keeps it open, a new secret closes it', async () => {
  await addConnection(call, 'sailings', ['tables.read', 'profile', 'offline_access'], 'timetable', 'eelgrass');
  await agree(call, 'sailings');
  const [secret] = (await call('showClient', { params: client })).secrets;
  const before = mailbox.received.length;
  await call('changeSecret', { params: { ...client, secret: secret?.id ?? '' }, body: { ends_at: new Date(Date.now() + 5 * DAY_MS).toISOString() } });
  const notice = await until(async () => (await open()).find((one) => one.kind === 'upcoming'), 'the notice of the date');
  expect(notice).toMatchObject({
    severity: 'action',
    title: 'Client secret of eelgrass/timetable expires',
    command: 'rk client secret add eelgrass/timetable',
    connections: 1,
  });
  await until(async () => mailbox.received.length > before, 'the mail');
  expect(await call('acknowledgeNotice', { params: { notice: notice.id } })).toMatchObject({ state: 'open', acknowledged_by: 'marit' });
  expect(await call('assignNotice', { params: { notice: notice.id }, body: { to: 'marit' } })).toMatchObject({ assigned_to: 'marit' });
  await expect(call('assignNotice', { params: { notice: notice.id }, body: { to: 'nobody' } })).rejects.toMatchObject({ problem: { code: 'NOT_FOUND' } });
  const past = new Date(Date.now() - 1000).toISOString();
  await expect(call('snoozeNotice', { params: { notice: notice.id }, body: { until: past } })).rejects.toMatchObject({ problem: { code: 'INPUT_INVALID' } });
  await call('addSecret', { params: client, body: { secret: (await addClient(call, standin, 'spare', { provider: 'eelgrass' })).secret } });
  await until(async () => !(await open()).some((one) => one.id === notice.id), 'the new secret closes it');
  await expect(call('acknowledgeNotice', { params: { notice: notice.id } })).rejects.toMatchObject({ problem: { detail: 'The notice is closed.' } });
  await until(async () => subjects().at(-1)?.includes('Fixed: Client secret of eelgrass/timetable'), 'the mail that it is fixed');
}, 180_000);

test('a mail server that refuses for a while, a webhook that answers 500 and a redirect: retried, nothing lost, nothing twice; a broken channel is a notice', async () => {
  const [mails, events] = [mailbox.received.length, hooks.length];
  mailbox.refusals.push({ code: 451 }); // greylisted
  answers.push({ status: 500 }, { status: 302, headers: { location: 'http://127.0.0.1:9/' } });
  const [secret] = (await call('showClient', { params: { provider: 'tidewire', client: 'crowd' } })).secrets;
  const params = { provider: 'tidewire', client: 'crowd', secret: secret?.id ?? '' };
  await call('changeSecret', { params, body: { ends_at: new Date(Date.now() + 3 * DAY_MS).toISOString() } });
  await until(async () => (await call('showChannel', { params: { channel: 'board' } })).failing_since !== null, 'the webhook fails');
  await until(async () => (await open()).some((one) => one.title === 'The channel board does not take notices'), 'the broken channel is told in the console');
  await until(async () => (await call('listChannels', {})).items.every((one) => one.failing_since === null), 'both take it in the end');
  await until(async () => !(await open()).some((one) => one.kind === 'delivery'), 'its notice is closed');
  const titles = hooks.slice(events).map((one) => (JSON.parse(one.body) as { data: { title: string } }).data.title);
  expect(titles.filter((title) => title.startsWith('Client secret of tidewire'))).toHaveLength(1);
  expect(
    subjects()
      .slice(mails)
      .filter((subject) => subject.includes('Client secret of tidewire')),
  ).toHaveLength(1);
  await call('changeSecret', { params, body: { ends_at: null } });
  await until(async () => (await open()).length === 0, 'nothing is open any more');
}, 180_000);

test('410: it will never take it; what it did not take is sent again when someone says so', async () => {
  answers.push({ status: 410 });
  expect(await call('testChannel', { params: { channel: 'board' } })).toEqual({ done: false, says: 'The application answered 410: it no longer takes this.' });
  expect(await call('testChannel', { params: { channel: 'board' } })).toMatchObject({ done: true });
  answers.push({ status: 410 });
  const [secret] = (await call('showClient', { params: client })).secrets.filter((one) => one.state !== 'retired');
  for (const one of (await call('showClient', { params: client })).secrets)
    await call('changeSecret', { params: { ...client, secret: one.id }, body: { ends_at: new Date(Date.now() + 4 * DAY_MS).toISOString() } }).catch(
      () => undefined,
    );
  await until(async () => (await call('showChannel', { params: { channel: 'board' } })).deliveries.some((one) => one.state === 'failed'), 'given up at once');
  const before = hooks.length;
  expect(await call('replayChannel', { params: { channel: 'board' } })).toEqual({ sent_again: 1 });
  await until(async () => hooks.length > before, 'sent again');
  await call('changeSecret', { params: { ...client, secret: secret?.id ?? '' }, body: { ends_at: null } });
  await until(async () => (await open()).length === 0, 'nothing is open any more');
}, 180_000);

test('a program gets the event on its standard input and nothing of the environment; a failing one is told', async () => {
  await call('addChannel', { body: { kind: 'script', name: 'local', script: 'keep', rule: {} } });
  expect(await call('testChannel', { params: { channel: 'local' } })).toMatchObject({ done: true });
  expect(JSON.parse(readFileSync(join(scripts, 'kept'), 'utf8'))).toMatchObject({ type: 'notice.opened', data: { title: 'Test of the channel local' } });
  expect(readFileSync(join(scripts, 'environment'), 'utf8')).not.toContain('RUSTY_KETTLE');
  const change = async (script: string) =>
    call('changeChannel', { params: { channel: 'local' }, body: { revision: (await call('showChannel', { params: { channel: 'local' } })).revision, script } });
  await change('fails');
  expect(await call('testChannel', { params: { channel: 'local' } })).toEqual({ done: false, says: 'The program fails ended with 3.' });
  for (const script of ['../keep', '/bin/sh', '.hidden', 'a b']) await expect(change(script)).rejects.toMatchObject({ problem: { code: 'INPUT_INVALID' } });
  await change('absent');
  expect((await call('testChannel', { params: { channel: 'local' } })).says).toContain('does not exist');
  await call('removeChannel', { params: { channel: 'local' } });
  await until(async () => (await open()).length === 0, 'the notice of a channel that failed is closed');
}, 120_000);

test('rk: channels and notices, as people and as programs see them', async () => {
  const home = newFolder();
  expect((await rk(['sign-in', '--url', first.url, '--name', 'marit'], { home, input: PASSWORD })).code).toBe(0);
  const run = (...args: string[]) => rk(args, { home, environment: { RUSTY_KETTLE_URL: first.url } });
  const added = await run('channel', 'add', 'night', '--to', 'night@saltmarsh.example', '--zone', 'Europe/Oslo', '--quiet', '22:00-07:00', '--warning', 'off');
  expect([added.code, added.out]).toEqual([0, expect.stringMatching(/Quiet hours +22:00 to 07:00/)]);
  const listed = JSON.parse((await run('channel', 'list', '--output', 'json')).out) as { items: { name: string; rule: unknown }[] };
  expect(listed.items.find((one) => one.name === 'night')?.rule).toEqual({
    severities: { action: 'now', warning: 'off', info: 'digest' },
    labels: [],
    zone: 'Europe/Oslo',
    digest_at: '08:00',
    quiet: { from: '22:00', to: '07:00' },
  });
  expect((await run('channel', 'change', 'night', '--quiet', 'none', '--disable')).out).toMatch(/Quiet hours +none[\s\S]*Enabled +no/);
  const wrong = await run('channel', 'add', 'odd', '--to', 'nobody', '--zone', 'Mars/Olympus');
  expect([wrong.code, wrong.err]).toEqual([1, expect.stringContaining('Europe/Oslo')]);
  expect((await run('notice', 'list')).out).toContain('No notices.');
  expect((await run('notice', 'list', '--closed')).out).toContain('Client secret of eelgrass/timetable');
  expect((await run('channel', 'remove', 'night', '--yes')).code).toBe(0);
  expect(JSON.stringify(await call('listChannels', {})) + first.output() + second.output()).not.toContain(SECRET);
  removeFolder(home);
});

import { randomBytes } from 'node:crypto';
import { createServer } from 'node:tls';
import ICAL from 'ical.js';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { newRecordId } from '../src/core/identifiers.ts';
import { serverCertificateEnd } from '../src/service/outgoing/index.ts';
import { forecastStore } from '../src/service/store/forecast.ts';
import { makeCertificate } from '../testing/certificate.ts';
import { openSeeder, type Seeder } from '../testing/seed.ts';
import { newMasterKey, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** What is upcoming, out of a real database: dates of secrets, grants, people, keys, approvals; and the calendar that shows them. */
const DAY_MS = 86_400_000;
const inDays = (days: number): string => new Date(Date.now() + days * DAY_MS).toISOString();
let [service, call, standin, seeder] = [] as unknown as [ServiceUnderTest, ApiClient & { token: string }, StandinUnderTest, Seeder];
const client = { provider: 'eelgrass', client: 'timetable' };

beforeAll(async () => {
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  // Grants of this provider live for a year, however often they are renewed.
  standin = await startEelgrass(600, (text) => text.replace('dialect:', 'dialect:\n  absolute_life_seconds: 5184000'));
  service = await startService({ databaseUrl, masterKey });
  seeder = await openSeeder(databaseUrl, masterKey);
  call = await signIn(service);
  await addEelgrass(call, standin);
  await addConnection(call, 'sailings');
  await agree(call, 'sailings');
}, 120_000);
afterAll(async () => {
  await seeder?.close();
  await service?.stop();
  await standin?.stop();
  if (service) removeFolder(service.folder);
});
const upcoming = async (query: object = {}) => (await call('listUpcoming', { query })).items;
const rounded = (at: string): number => Math.round((Date.parse(at) - Date.now()) / DAY_MS);

test('a secret, a grant, people and a key: when, who, what breaks, and how to fix it', async () => {
  const [secret] = (await call('showClient', { params: client })).secrets;
  await call('changeSecret', { params: { ...client, secret: secret?.id ?? '' }, body: { ends_at: inDays(20) } });
  const board = await call('addCaller', { body: { name: 'board', connections: ['sailings'] } });
  await call('addKey', { params: { caller: 'board' }, body: { label: 'short', ends_at: inDays(5) } });
  await call('addJob', { body: { name: 'rows', connection: 'sailings', call: { method: 'GET', path: '/tables/sailings/rows' } } });
  const [own, ...rest] = await upcoming();
  expect(own).toMatchObject({
    kind: 'client_secret',
    what: 'Client secret of eelgrass/timetable',
    who: 'operator',
    certainty: 'known',
    breaks: { connections: 1, examples: ['sailings'], callers: ['board'], jobs: ['rows'] },
    page: '/providers/eelgrass/clients/timetable/credentials',
    command: 'rk client secret add eelgrass/timetable',
  });
  expect([rounded(own?.at ?? ''), rounded(own?.act_by ?? '')]).toEqual([20, 13]);
  expect(rest).toMatchObject([{ kind: 'grant', what: 'Grant of sailings (marit.holm@saltmarsh.example)', who: 'person', certainty: 'assumed' }]);
  expect(rounded(rest[0]?.at ?? '')).toBe(60);
  expect((await upcoming({ days: 30 })).map((one) => one.kind)).toEqual(['client_secret']);
  expect((await upcoming({ who: 'person' })).map((one) => one.kind)).toEqual(['grant']);
  // The other key of the caller lives on, until it is retired: then the short one is the last.
  const { keys } = await call('showCaller', { params: { caller: 'board' } });
  await call('retireKey', { params: { caller: 'board', key: keys.find((key) => key.label === 'first key')?.id ?? '' } });
  expect((await upcoming())[0]).toMatchObject({ kind: 'caller_key', what: 'Last key of the caller board (short)', breaks: { examples: ['sailings'] } });
  expect(board.caller).toBe('board');
  // A label of a connection finds its grant, and what else it depends on: the client's secret and the caller's key.
  const { revision } = await call('showConnection', { params: { connection: 'sailings' } });
  await call('changeConnection', { params: { connection: 'sailings' }, body: { revision, labels: ['ops'] } });
  const labeled = await eventually(async () => {
    const found = await upcoming({ label: 'ops' });
    return found.some((one) => one.kind === 'grant') ? found : null;
  });
  expect(labeled.map((one) => one.kind)).toEqual(['caller_key', 'client_secret', 'grant']);
  expect(await upcoming({ label: 'deck' })).toEqual([]);
});

test('people of one shared connection are one entry, and unused invitations another', async () => {
  await call('addConnection', { body: { name: 'crew', shared: true, ...client, scopes: ['tables.read', 'profile', 'offline_access'] } });
  for (const person of ['one', 'two']) {
    await call('invitePerson', { params: { connection: 'crew' }, body: { person, purpose: 'x', expires_in_hours: 24 * 9 } });
  }
  const [row] = await seeder.database.select<{ id: string }>("SELECT LOWER(HEX(id)) AS id FROM connections WHERE name = 'crew'");
  const sharedId = (row?.id ?? '').replace(/^(.{8})(.{4})(.{4})(.{4})/, '$1-$2-$3-$4-');
  const now = Date.now();
  const seeded = ['a', 'b', 'c'].map((key) => ({
    ...{ name: `crew@${key.repeat(16)}`, access: `a.${key}`, refresh: `r.${key}`, person: { sharedId, key } },
    ...{ issuedAt: now, expiresAt: now + 3_600_000, nextAt: now + DAY_MS },
  }));
  await seeder.add(client, seeded);
  await seeder.database.write(
    "UPDATE grants g JOIN connections k ON k.current_grant_id = g.id SET g.life_ends_at = UTC_TIMESTAMP(3) + INTERVAL 40 DAY WHERE k.name LIKE 'crew@%'",
  );
  await call('permitCaller', { params: { caller: 'board' }, body: { connection: 'crew', use: 'any' } });
  const found = await eventually(async () => ((await upcoming()).some((one) => one.key === 'people-crew-grant') ? upcoming() : null));
  expect(found.find((one) => one.key === 'people-crew-grant')).toMatchObject({
    what: 'Grants of 3 people of crew, the first',
    breaks: { connections: 3, examples: ['crew'], callers: ['board'] },
    command: 'rk person list crew',
  });
  expect(found.find((one) => one.kind === 'invitations')).toMatchObject({ what: '2 unused invitations to crew, the first' });
});

test('acting on the remedy takes the entry away', async () => {
  await call('addSecret', { params: client, body: { secret: (await addClient(call, standin, 'spare')).secret } });
  expect((await upcoming()).filter((one) => one.key.startsWith('secret-'))).toEqual([]); // a second secret without an end stands beside it
  await call('addKey', { params: { caller: 'board' }, body: { label: 'next', ends_at: null } });
  expect((await upcoming()).filter((one) => one.kind === 'caller_key')).toEqual([]);
});

test('free space is written down, and a disk that fills up is forecast; so is the certificate of the public address', async () => {
  const instance = (await call('listReplicas')).items[0]?.instance ?? '';
  const store = forecastStore(seeder.database);
  const level = (days: number, freeMb: number) => ({
    id: newRecordId(Date.now(), randomBytes(16)),
    instance,
    folder: '/data',
    at: Date.now() - days * DAY_MS,
    freeMb,
    totalMb: 100_000,
  });
  await store.addDiskLevels([level(4, 50_000), level(3, 40_000), level(2, 30_000), level(1, 20_000)]);
  expect((await upcoming()).find((one) => one.kind === 'disk')).toMatchObject({ what: 'Disk under /data', certainty: 'observed', who: 'operator' });
  const { pem, certificate } = await makeCertificate('kettle.localhost', { days: 20 });
  const server = createServer({ key: pem, cert: certificate });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as { port: number };
  expect(rounded(new Date((await serverCertificateEnd(`https://127.0.0.1:${port}`)) ?? 0).toISOString())).toBe(20);
  await new Promise((resolve) => server.close(resolve));
  expect(await serverCertificateEnd('https://127.0.0.1:1')).toBeNull();
  expect(await serverCertificateEnd('http://127.0.0.1:1')).toBeNull();
});

test('a job whose runs use up the quota of a day is forecast before it meets it', async () => {
  const forum = await startUnderTest('notchboard', 600, (text) => text.replace('most: 5000', 'most: 30'));
  try {
    await call('addProvider', { body: { document: forum.definitionText } });
    await addClient(call, forum, 'forum', { provider: 'notchboard' });
    await call('addConnection', { body: { name: 'forum', provider: 'notchboard', client: 'forum', scopes: ['read', 'keep'] } });
    await agree(call, 'forum', { account: 'eg-2001' });
    await call('addJob', {
      body: { name: 'threads', connection: 'forum', call: { method: 'GET', path: '/threads' }, schedule: { kind: 'every', minutes: 15 } },
    });
    const run = await call('runJob', { params: { job: 'threads' } });
    await eventually(async () => (await call('showRun', { params: { run: run.id } })).state === 'done');
    const found = await eventually(async () => (await upcoming()).find((one) => one.kind === 'quota') ?? null, 90_000);
    expect(found).toMatchObject({ what: expect.stringContaining('Quota of forum at'), breaks: { jobs: ['threads'] }, page: '/connections/forum/used-by' });
    expect(Date.parse(found.at) - Date.now()).toBeLessThan(2 * DAY_MS);
  } finally {
    await forum.stop();
  }
});

test('a calendar at a private address, which can be revoked', async () => {
  const { url, id } = await call('addCalendar', { body: { name: 'office' } });
  const answer = await fetch(url);
  expect([answer.status, answer.headers.get('content-type')]).toEqual([200, 'text/calendar; charset=utf-8']);
  const events = new ICAL.Component(ICAL.parse(await answer.text())).getAllSubcomponents('vevent').map((event) => new ICAL.Event(event));
  expect(events.map((event) => event.summary)).toContain('Grant of sailings (marit.holm@saltmarsh.example) expires');
  // What is dealt with is told as canceled, so that every calendar program removes it.
  await seeder.database.write("UPDATE grants g JOIN connections k ON k.current_grant_id = g.id SET g.life_ends_at = NULL WHERE k.name = 'sailings'");
  const again = new ICAL.Component(ICAL.parse(await (await fetch(url)).text())).getAllSubcomponents('vevent');
  const canceled = again.filter((event) => event.getFirstPropertyValue('status') === 'CANCELLED');
  expect(canceled.map((event) => [new ICAL.Event(event).summary, event.getFirstPropertyValue('sequence')])).toEqual([
    ['Grant of sailings (marit.holm@saltmarsh.example) expires', 1],
  ]);
  const json = (await (await fetch(url.replace('.ics', '.json'))).json()) as { items: { key: string }[] };
  expect(json.items.map((one) => one.key)).toEqual((await upcoming()).map((one) => one.key));
  expect((await call('listCalendars')).items).toMatchObject([{ name: 'office', created_by: 'marit', last_read_at: expect.any(String) }]);
  expect((await fetch(url.replace(/.{6}\.ics$/, 'xxxxxx.ics'))).status).toBe(404);
  const home = service.folder;
  await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home, input: PASSWORD });
  const shown = await rk(['upcoming', '--days', '70'], { home });
  expect(shown.err + shown.out).toContain('Disk under /data');
  await call('removeCalendar', { params: { calendar: id } });
  expect((await fetch(url)).status).toBe(404);
  expect(service.output()).not.toContain(url.split('/').at(-1)?.replace('.ics', ''));
});

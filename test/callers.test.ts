import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { openSeeder } from '../testing/seed.ts';
import { HEARD_MS, newFolder, newMasterKey, PASSWORD, removeFolder, rk as run, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, untilInstant } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Callers and the token endpoint in all its forms: a connection named by resource, scope or path, or not at all; keys with ends; usage. */
let [service, second, standin, call] = [] as unknown as [ServiceUnderTest, ServiceUnderTest, StandinUnderTest, ApiClient];
let [databaseUrl, masterKey] = ['', ''];
let [several, one]: { caller_id: string; key: string }[] = [];
const home = newFolder();
type Form = Record<string, string | undefined>;
async function ask(form: Form, options: { path?: string; as?: { caller_id: string; key: string } | undefined; url?: string } = {}) {
  const { caller_id, key } = options.as ?? (several as { caller_id: string; key: string });
  const fields = Object.entries({ grant_type: 'client_credentials', ...form }).filter((field): field is [string, string] => field[1] !== undefined);
  const response = await fetch(`${options.url ?? service.url}${options.path ?? '/oauth/token'}`, {
    method: 'POST',
    headers: { authorization: `Basic ${Buffer.from(`${caller_id}:${key}`).toString('base64')}` },
    body: new URLSearchParams(fields),
  });
  const text = await response.text();
  return { status: response.status, headers: response.headers, body: (text.startsWith('{') ? JSON.parse(text) : {}) as Record<string, string | number> };
}
const whose = (token: unknown) => standin.store.state.grants[standin.store.state.accessTokens[String(token)]?.grantId ?? '']?.sub;

beforeAll(async () => {
  standin = await startEelgrass(600);
  [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  service = await startService({ databaseUrl, masterKey });
  call = await signIn(service);
  second = await startService({ databaseUrl, masterKey, publicUrl: service.url });
  await addEelgrass(call, standin);
  for (const [name, account] of [
    ['sailings', 'eg-1042'],
    ['tides', 'eg-1077'],
    ['boats', 'eg-1042'],
  ] as const) {
    await addConnection(call, name);
    await agree(call, name, { account });
  }
  several = await call('addCaller', { body: { name: 'several', connections: ['sailings', 'tides'] } });
  one = await call('addCaller', { body: { name: 'one', connections: ['tides'] } });
});
afterAll(async () => {
  for (const each of [service, second]) await each?.stop();
  await standin?.stop();
  for (const folder of [service.folder, second.folder, home]) removeFolder(folder);
});

test.each([
  { name: 'by resource (RFC 8707)', form: (url: string): Form => ({ resource: `${url}/connections/tides` }) },
  { name: 'by audience', form: (url: string): Form => ({ audience: `${url}/connections/tides` }) },
  { name: 'by scope', form: (): Form => ({ scope: 'connection:tides' }) },
  { name: 'by the path', form: (): Form => ({}), path: '/oauth/token/tides' },
  { name: 'by the path, with a slash as some tools add it', form: (): Form => ({ scope: '' }), path: '/oauth/token/tides/' },
])('the connection is named $name', async ({ form, path }) => {
  const answer = await ask(form(service.url), path ? { path } : {});
  expect(answer).toMatchObject({ status: 200, body: { token_type: 'Bearer', scope: 'tables.read calendars.read profile offline_access' } });
  expect(whose(answer.body.access_token)).toBe('eg-1077');
  expect(Number(answer.body.expires_in)).toBeGreaterThan(500);
});

test('none is named where the caller has exactly one, in whatever empty boxes a tool sends along', async () => {
  for (const form of [{}, { scope: '' }, { resource: '', audience: '', scope: '' }]) expect((await ask(form, { as: one })).status).toBe(200);
});

test.each([
  { name: 'none of several', form: {}, error: 'invalid_target', says: 'several' },
  { name: 'another\u2019s, by resource', form: { resource: 'URL/connections/boats' }, error: 'invalid_target', says: 'no such connection' },
  { name: 'an unknown one, by resource', form: { resource: 'URL/connections/nothing' }, error: 'invalid_target', says: 'no such connection' },
  { name: 'another\u2019s, by scope', form: { scope: 'connection:boats' }, error: 'invalid_scope', says: 'no such connection' },
  { name: 'an unknown one, by scope', form: { scope: 'connection:nothing' }, error: 'invalid_scope', says: 'no such connection' },
  { name: 'a provider\u2019s scope', form: { scope: 'tables.read' }, error: 'invalid_scope', says: 'connection:NAME' },
  { name: 'another\u2019s, by path', form: {}, path: '/oauth/token/boats', error: 'invalid_target', says: 'no such connection' },
  { name: 'twice', form: { scope: 'connection:tides', resource: 'URL/connections/tides' }, error: 'invalid_request', says: 'once' },
  { name: 'by path and scope', form: { scope: 'connection:tides' }, path: '/oauth/token/tides', error: 'invalid_request', says: 'once' },
  { name: 'another grant type', form: { grant_type: 'password', scope: 'connection:tides' }, error: 'unsupported_grant_type', says: 'client_credentials' },
  { name: 'a lifetime that is no number', form: { scope: 'connection:tides', minimum_life: 'long' }, error: 'invalid_request', says: 'seconds' },
  { name: 'a lifetime longer than half of it', form: { scope: 'connection:tides', minimum_life: '400' }, error: 'invalid_request', says: '300 s' },
])('rejected: $name', async ({ form, path, error, says }) => {
  const filled = Object.fromEntries(Object.entries(form).map(([name, value]) => [name, value.replace('URL', service.url)]));
  const { status, body } = await ask(filled, path ? { path } : {});
  expect([status, body.error]).toEqual([400, error]);
  expect(body.error_description).toContain(says);
});

test('unknown and forbidden look alike, to the letter', async () => {
  const [forbidden, unknown] = [await ask({ scope: 'connection:boats' }), await ask({ scope: 'connection:nothing' })];
  expect(forbidden.body).toEqual(unknown.body);
});

test('minimum_life brings a token with that much left: renewed for it where it is older than half its lifetime, once', async () => {
  // On demand, so that nothing but a caller has it renewed; long enough for a machine that is busy with other things.
  const { revision } = await call('showConnection', { params: { connection: 'boats' } });
  await call('changeConnection', { params: { connection: 'boats' }, body: { revision, policy: 'on_demand' } });
  await standin.order('lives', { access_seconds: 20 });
  const { renewals } = await call('renewConnection', { params: { connection: 'boats' } });
  const renewed = async () => (await call('showConnection', { params: { connection: 'boats' } })).renewals - renewals;
  const long = await call('addCaller', { body: { name: 'long', connections: ['boats'] } });
  expect(Number((await ask({ minimum_life: '8' }, { as: long })).body.expires_in)).toBeGreaterThanOrEqual(8);
  expect(await renewed()).toBe(0); // it had that much
  await eventually(async () => Number((await ask({}, { as: long })).body.expires_in) <= 8);
  expect(await renewed()).toBe(0);
  const answers = await Promise.all(Array.from({ length: 10 }, () => ask({ minimum_life: '10' }, { as: long })));
  for (const answer of answers) expect([answer.status, Number(answer.body.expires_in) >= 9]).toEqual([200, true]);
  expect(await renewed()).toBe(1);
  await standin.order('lives', { access_seconds: 600 });
});

test('a token path of a caller\u2019s own is answered for that caller alone, and may not meet one of ours', async () => {
  await call('changeCaller', { params: { caller: 'one' }, body: { token_path: '/Harbour/oauth2/v2.0/token' } });
  const own = { path: '/Harbour/oauth2/v2.0/token' };
  await eventually(async () => (await ask({}, { ...own, as: one })).status === 200, HEARD_MS);
  expect(await ask({}, own)).toMatchObject({ status: 400, body: { error_description: expect.stringContaining('another caller') } });
  await eventually(async () => (await ask({}, { ...own, as: one, url: second.url })).status === 200, HEARD_MS);
  for (const token_path of [
    '/api/v1/token',
    '/OAuth/token',
    '/relay/x',
    '/oauth/authorize',
    '/connections/x',
    '/a/../api',
    '/.well-known/x',
    '/assets/x',
    '/x/',
    'x',
    '/a b',
    '/%61pi',
    '/healthz',
  ])
    await expect(call('changeCaller', { params: { caller: 'several' }, body: { token_path } }), token_path).rejects.toMatchObject({
      problem: { code: 'INPUT_INVALID', places: [{ path: 'token_path' }] },
    });
  await expect(call('changeCaller', { params: { caller: 'several' }, body: { token_path: own.path } })).rejects.toMatchObject({
    problem: { places: [{ why: 'The caller one has it.' }] },
  });
  await call('changeCaller', { params: { caller: 'one' }, body: { token_path: null } });
  await eventually(async () => (await ask({}, { ...own, as: one })).status === 404, HEARD_MS);
});

test('several keys are valid at once; one ends by its date, one when it is retired, on every replica', async () => {
  const ends_at = new Date(Date.now() + 8_000).toISOString();
  const brief = { ...several, ...(await call('addKey', { params: { caller: 'several' }, body: { label: 'brief', ends_at } })) } as {
    caller_id: string;
    key: string;
  };
  const lasting = await call('addKey', { params: { caller: 'several' }, body: { label: 'lasting' } });
  const works = async (key: string, url = service.url) =>
    (await ask({ scope: 'connection:tides' }, { as: { caller_id: several?.caller_id ?? '', key }, url })).status === 200;
  await eventually(async () => (await works(brief.key)) && (await works(lasting.key)) && (await works(several?.key ?? '')));
  await untilInstant(ends_at);
  await eventually(async () => !(await works(brief.key)), HEARD_MS);
  expect(await works(lasting.key)).toBe(true);
  const { keys } = await call('showCaller', { params: { caller: 'several' } });
  await call('retireKey', { params: { caller: 'several', key: keys.find((key) => key.label === 'lasting')?.id ?? '' } });
  await eventually(async () => !(await works(lasting.key)) && !(await works(lasting.key, second.url)), HEARD_MS);
  expect(await works(several?.key ?? '')).toBe(true);
  await expect(call('addKey', { params: { caller: 'several' }, body: { ends_at: '2020-01-01T00:00:00.000Z' } })).rejects.toMatchObject({
    problem: { code: 'INPUT_INVALID' },
  });
});

test('who used what and when: by caller, connection and minute; who uses this, what may this use, and what stops when it ends', async () => {
  for (let times = 0; times < 3; times += 1) await ask({ scope: 'connection:sailings' });
  await fetch(`${service.url}/relay/sailings/tables`, { headers: { authorization: `Bearer ${several?.caller_id}.${several?.key}` } });
  const used = await eventually(async () => {
    const caller = await call('showCaller', { params: { caller: 'several' } });
    return caller.uses.some((use) => use.connection === 'sailings' && use.relayed === 1) ? caller : null;
  });
  const use = used.uses.find((each) => each.connection === 'sailings');
  expect(use).toMatchObject({ tokens: 3, relayed: 1, refused: 0 });
  expect(use?.minutes).toHaveLength(60);
  expect(use?.minutes.reduce((sum, n) => sum + n, 0)).toBe(4);
  const { items } = await call('listUsage', { query: { caller: 'several', connection: 'sailings' } });
  expect(items.reduce((sum, line) => sum + line.count, 0)).toBe(4);
  expect((await call('showConnection', { params: { connection: 'sailings' } })).callers_last_used).toEqual([
    {
      caller: 'several',
      at: expect.any(String),
      says: 'tokens and relay',
      tokens_last_hour: 3,
      relayed_last_hour: 1,
      refused_last_hour: 0,
      relay: expect.anything(),
    },
  ]);
  const rk = (...args: string[]) => run(['--url', service.url, ...args], { home });
  await run(['--url', service.url, 'sign-in', '--name', 'marit'], { home, input: PASSWORD });
  expect((await rk('caller', 'remove', 'several')).err).toMatch(/In the last day it used: sailings \(.*\), tides/);
  expect((await rk('caller', 'withdraw', 'several', 'sailings')).err).toContain('Used in the last day: sailings');
  expect((await rk('caller', 'usage', 'several', '--connection', 'sailings')).out).toMatch(/sailings +relayed +1/);
  expect(
    (await rk('caller', 'permit', 'several', '--label', 'harbour', '--use', 'relay', '--method', 'get', '--path', '/tables/**', '--share', '20')).out,
  ).toContain('label harbour (no connection has it): relay only, GET, /tables/**, at most 20 % of the quota');
  expect((await rk('caller', 'setup', 'several')).err).toContain('--connection sailings or tides');
  const sheet = await rk('caller', 'setup', 'several', '--connection', 'tides', '--kind', 'token_url');
  for (const part of [`${service.url}/oauth/token`, several?.caller_id ?? '', 'connection:tides', '(a key of this caller']) expect(sheet.out).toContain(part);
});

test('a caller sees its own connections, and the calls that someone saved with them as it may make them; nothing of others', async () => {
  const own = async (path: string, as = several) =>
    fetch(`${service.url}/api/v1/own/connections${path}`, { headers: { authorization: `Bearer ${as?.caller_id}.${as?.key}` } });
  const { base_url } = await call('offeredCalls', { params: { connection: 'boats' } });
  const shared = { method: 'GET' as const, query: [{ name: 'since', value: '{since}' }], headers: [], body: null };
  for (const [name, path] of [
    ['rows', '/tables/{table}/rows'],
    ['dates', `${base_url}/calendars`],
  ] as const)
    await call('saveCall', { params: { connection: 'boats' }, body: { name, call: { ...shared, path }, parameters: [{ name: 'table', value: 'fleet' }] } });
  const reader = await call('addCaller', { body: { name: 'reader', connections: ['tides'] } });
  await call('permitCaller', { params: { caller: 'reader' }, body: { connection: 'boats', use: 'relay', methods: ['GET'], paths: ['/tables/**'] } });
  expect(await (await own('', reader)).json()).toEqual({
    items: [
      expect.objectContaining({
        name: 'boats',
        intent: 'active',
        consented: true,
        says: 'relay only, GET, /tables/**',
        resource: null,
        relay_url: `${service.url}/relay/boats`,
      }),
      expect.objectContaining({ name: 'tides', says: 'tokens and relay', resource: `${service.url}/connections/tides`, apis: ['tables'] }),
    ],
  });
  expect(await (await own('/boats/calls', reader)).json()).toMatchObject({
    items: [
      { name: 'dates', permitted: false, curl: expect.stringContaining(`'${service.url}/relay/boats/calendars?since={since}'`) },
      { name: 'rows', permitted: true, saved_by: 'marit', curl: expect.stringContaining('/relay/boats/tables/fleet/rows?since={since}') },
    ],
  });
  const refused = await Promise.all(
    ['/boats/calls', '/nowhere/calls'].map(async (path) => (await own(path)).json() as Promise<{ code: string; detail: string }>),
  );
  expect(refused.map(({ code, detail }) => [code, detail.replace(/called .*/, '')])).toEqual(Array(2).fill(['NOT_PERMITTED', 'several has no connection ']));
  const withKey = { headers: { authorization: `Bearer ${reader.caller_id}.${reader.key}` } };
  for (const path of ['/api/v1/connections', '/api/v1/callers', '/api/v1/connections/boats/calls'])
    expect((await fetch(`${service.url}${path}`, withKey)).status).toBe(401);
  expect(
    (await fetch(`${service.url}/api/v1/own/connections`, { headers: { authorization: `Bearer ${(call as ApiClient & { token: string }).token}` } })).status,
  ).toBe(401);
});

test('a caller of many connections: lists name the first of them and count the rest; nothing that it may use is left out where it matters', async () => {
  const as = await call('addCaller', { body: { name: 'fleet' } });
  const seeder = await openSeeder(databaseUrl, masterKey);
  const now = Date.now();
  const life = { issuedAt: now, expiresAt: now + 3_600_000, nextAt: now + 3_000_000 };
  const names = Array.from({ length: 60 }, (_none, at) => `boat-${String(at).padStart(2, '0')}`);
  await seeder.add(
    { provider: 'eelgrass', client: 'timetable' },
    names.map((name) => ({ name, access: `a.${name}`, refresh: `r.${name}`, ...life })),
    'fleet',
  );
  await seeder.database.write("INSERT INTO connection_labels (connection_id, label) SELECT id, 'hull' FROM connections WHERE name LIKE 'boat-%'");
  await seeder.database.write(
    "INSERT INTO usage_minutes (caller_id, connection_id, minute, outcome, count) SELECT c.id, k.id, UTC_TIMESTAMP(3) - INTERVAL 2 HOUR, 'token', 7 FROM callers c JOIN connections k WHERE c.name = 'fleet' AND k.name = 'boat-59'",
  );
  await seeder.close();
  await call('permitCaller', { params: { caller: 'fleet' }, body: { label: 'hull', use: 'relay' } });
  const fleet = await call('showCaller', { params: { caller: 'fleet' } });
  expect([fleet.connections, fleet.connections_total, fleet.permissions.length]).toEqual([names.slice(0, 50), 60, 61]);
  expect(fleet.permissions.at(-1)).toMatchObject({ label: 'hull', covers: names.slice(0, 50), covers_total: 60 });
  expect([fleet.uses_total, fleet.uses]).toEqual([1, [expect.objectContaining({ connection: 'boat-59', labels: ['hull'], tokens: 7 })]]);
  const rk = (...args: string[]) => run(['--url', service.url, ...args], { home });
  await run(['--url', service.url, 'sign-in', '--name', 'marit'], { home, input: PASSWORD });
  expect((await rk('caller', 'list')).out).toContain('boat-06, boat-07 and 52 more');
  expect((await rk('caller', 'withdraw', 'fleet', 'hull')).err).toContain('Used in the last day: boat-59'); // by its label, though it is not among the first
  expect((await rk('caller', 'setup', 'fleet', '--connection', 'boat-59', '--kind', 'token_url')).out).toContain('connection:boat-59');
  expect((await call('listSetupInstructions', { params: { caller: 'fleet' }, query: { connection: 'boat-59' } })).items.length).toBeGreaterThan(3);
  // One connection changes: it alone is read again, on each replica, and the others go on.
  const status = async (name: string, url: string) => (await ask({ scope: `connection:${name}` }, { as, url })).status;
  for (const { url } of [service, second]) expect(await status('boat-07', url)).toBe(200);
  await call('pauseConnection', { params: { connection: 'boat-07' } });
  await call('removeConnection', { params: { connection: 'boat-08' } });
  for (const { url } of [service, second]) {
    await eventually(async () => (await status('boat-07', url)) === 400 && (await status('boat-08', url)) === 400, HEARD_MS);
    expect(await status('boat-09', url)).toBe(200);
  }
  const { id } = fleet.permissions.find((one) => one.connection === 'boat-03') as { id: string };
  expect((await call('withdrawPermission', { params: { caller: 'fleet', permission: id } })).permissions.length).toBe(59);
});

test('cut off alone: a caller that is removed is rejected everywhere, and the others go on', async () => {
  await call('removeCaller', { params: { caller: 'one' } });
  await eventually(async () => (await ask({}, { as: one })).status === 401 && (await ask({}, { as: one, url: second.url })).status === 401, HEARD_MS);
  expect((await ask({ scope: 'connection:tides' })).status).toBe(200);
});

import { spawn } from 'node:child_process';
import { createServer } from 'node:net';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import type { ConsentOutcome } from '../src/api/connections.ts';
import type { BodyOf } from '../src/api/operations.ts';
import { Browser, playAuthorization, playDevice, playOpened, registerAtStandin } from '../src/standins/visitor.ts';
import { makeCertificate } from '../testing/certificate.ts';
import { PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, fetchToken, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Every way in which an agreement comes, at every stand-in that has it: from the first word to a call that works and a renewal. */
const NAMES = ['eelgrass', 'berthline', 'ledgerfin', 'wharfpost', 'piermaster', 'bosunry', 'notchboard', 'oakum', 'deckhail'] as const;
type Name = (typeof NAMES)[number];
const at = {} as Record<Name, StandinUnderTest>;
const clients = {} as Record<Name, { id: string; secret: string }>;
let [service, call] = [] as unknown as [ServiceUnderTest, ApiClient];
const SCOPES: Record<Name, string[]> = {
  eelgrass: ['openid', 'tables.read', 'profile', 'offline_access'],
  berthline: ['bookings.read', 'profile'],
  ledgerfin: ['books.read'],
  wharfpost: ['parcels'],
  piermaster: ['staff.read'],
  bosunry: ['rosters:read', 'whoami', 'offline_access'],
  notchboard: ['read', 'keep'],
  oakum: ['view.certificates'],
  deckhail: ['hear', 'offline_access'],
};
const PLACEHOLDERS: Partial<Record<Name, Record<string, string>>> = {
  berthline: { region: 'north' },
  ledgerfin: { tenant: 'lf204816' },
  piermaster: { audience: 'pm:dir:staff' },
};

beforeAll(async () => {
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  expect((await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home: service.folder, input: PASSWORD })).code).toBe(0);
  for (const provider of NAMES) {
    at[provider] = await startUnderTest(provider, 3600);
    await call('addProvider', { body: { document: at[provider].definitionText } });
    clients[provider] = await addClient(call, at[provider], 'office', { provider, ...(PLACEHOLDERS[provider] && { placeholders: PLACEHOLDERS[provider] }) });
  }
}, 120_000);
afterAll(async () => {
  await service.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
});
const show = (connection: string) => call('showConnection', { params: { connection } });
const finished = (consent: string): Promise<ConsentOutcome> =>
  eventually(async () => {
    const seen = await call('showConsent', { params: { consent } });
    return seen.phase === 'done' || seen.phase === 'failed' ? seen : null;
  }, 30_000);
let count = 0;
async function connection(provider: Name, more: Partial<BodyOf<'addConnection'>> = {}): Promise<string> {
  count += 1;
  const name = `${provider}-${count}`;
  const placeholders: Record<string, string> = provider === 'wharfpost' ? { account: '40017788' } : {};
  await call('addConnection', { body: { name, provider, client: 'office', scopes: SCOPES[provider], placeholders, ...more } });
  return name;
}
/** It works: a call, and where it can be renewed, a renewal and another call. */
async function lives(name: string): Promise<void> {
  expect(await call('probeConnection', { params: { connection: name }, body: {} })).toMatchObject({ status: 200 });
  const before = await show(name);
  if (before.next_renewal_at === null) return;
  expect((await call('renewConnection', { params: { connection: name } })).renewals).toBe(before.renewals + 1);
  expect(await call('probeConnection', { params: { connection: name } })).toMatchObject({ status: 200 });
}
const bring = (consent: string, pasted: string) => call('answerConsent', { params: { consent }, body: { pasted } });

test.each(['eelgrass', 'berthline', 'bosunry', 'notchboard', 'oakum'] as const)('code by redirect: %s', async (provider) => {
  const name = await connection(provider);
  const opened = await call('openConnection', { params: { connection: name } });
  expect([opened.way, (await show(name)).ways[0]]).toEqual(['redirect', 'redirect']);
  expect(await show(name)).toMatchObject({ open_consent: { id: opened.id, phase: 'offered' } });
  await playOpened(opened, bring);
  expect(await finished(opened.id)).toMatchObject({
    phase: 'done',
    problem: null,
    refresh_token: true,
    first_call: { status: 200 },
  });
  await lives(name);
});

test.each(['eelgrass', 'berthline', 'bosunry', 'notchboard', 'oakum', 'deckhail'] as const)('code pasted back by hand: %s', async (provider) => {
  const name = await connection(provider);
  const opened = await call('openConnection', { params: { connection: name }, body: { way: 'pasted' } });
  const waiting = await call('showConsent', { params: { consent: opened.id } }); // found again after a reload
  expect(waiting).toMatchObject({ phase: 'started', wants_pasted: true, authorization_url: opened.authorization_url });
  const { endedAt } = await playAuthorization(opened.authorization_url ?? '', { stopBeforeCallback: true });
  await bring(opened.id, endedAt);
  expect(await finished(opened.id)).toMatchObject({ phase: 'done', way: 'pasted' });
  await lives(name);
});

test('a pasted address of another consent, a bare code and another operator\u2019s paste are rejected', async () => {
  const name = await connection('eelgrass');
  const [one, other] = [
    await call('openConnection', { params: { connection: name }, body: { way: 'pasted' } }),
    await call('openConnection', { params: { connection: name }, body: { way: 'pasted' } }),
  ];
  const { endedAt } = await playAuthorization(one.authorization_url ?? '', { stopBeforeCallback: true });
  await expect(bring(other.id, endedAt)).rejects.toMatchObject({ problem: { detail: expect.stringContaining('another consent') } });
  await expect(bring(one.id, new URL(endedAt).searchParams.get('code') ?? '')).rejects.toMatchObject({
    problem: { detail: expect.stringContaining('A code alone') },
  });
  await expect(bring(one.id, 'https://somewhere.example/')).rejects.toMatchObject({ problem: { remedy: expect.stringContaining('whole address') } });
  await bring(one.id, endedAt);
  expect((await finished(one.id)).phase).toBe('done');
});

/** `rk` as a program that goes on while someone does something elsewhere. */
function startRk(args: string[]): { said(words: RegExp): Promise<string>; ended: Promise<{ code: number | null; out: string }> } {
  const child = spawn(process.execPath, [fileURLToPath(new URL('../dist/cli/main.js', import.meta.url)), ...args], {
    env: { PATH: process.env.PATH, XDG_CONFIG_HOME: service.folder, NO_COLOR: '1' },
    stdio: ['pipe', 'pipe', 'pipe'],
  });
  let [out, err] = ['', ''];
  child.stdout.on('data', (part) => (out += part));
  child.stderr.on('data', (part) => (err += part));
  return {
    said: (words) => eventually(async () => words.exec(err)?.[1] ?? null, 20_000, `rk says ${words}`),
    ended: new Promise((resolve) => child.once('close', (code) => resolve({ code, out }))),
  };
}

test.each([
  { name: 'at its registered port', taken: false },
  { name: 'at another port, where that is taken (RFC 8252 §7.3)', taken: true },
])('loopback redirect to rk on the engineer\u2019s machine: Deckhail, $name', async ({ taken }) => {
  const name = await connection('deckhail');
  const { redirect_uri: registered } = await call('showClient', { params: { provider: 'deckhail', client: 'office' } });
  expect(registered).toMatch(/^http:\/\/127\.0\.0\.1:2\d{4}\/oauth\/callback\/deckhail\/office$/);
  const squatter = taken ? createServer().listen(Number(new URL(registered).port), '127.0.0.1') : null;
  const run = startRk(['connection', 'open', name]);
  const address = await run.said(/Open in a browser on this machine: (\S+)/);
  expect(new URL(address).searchParams.get('redirect_uri') === registered).toBe(!taken);
  const { endedAt } = await playAuthorization(address, { stopBeforeCallback: true });
  const page = await new Browser().fetch(endedAt);
  expect([page.status, page.body.includes('The answer has arrived')]).toEqual([200, true]);
  expect(await run.ended).toMatchObject({ code: 0, out: expect.stringMatching(/First call\s+GET .*: 200/) });
  squatter?.close();
  await lives(name);
});

test('device code: Notchboard, polled as often as it allows, found again after a reload, and by rk', async () => {
  const name = await connection('notchboard');
  const opened = await call('openConnection', { params: { connection: name }, body: { way: 'device' } });
  const { device } = await call('showConsent', { params: { consent: opened.id } });
  expect(device).toMatchObject({ user_code: expect.stringMatching(/^[A-Z]{4}-[A-Z]{4}$/), interval_seconds: 1 });
  await eventually(async () => (await at.notchboard.counters()).counters['token.urn:ietf:params:oauth:grant-type:device_code.authorization_pending']);
  expect(await playDevice(device?.page ?? '', device?.user_code ?? '')).toContain('continues automatically');
  expect(await finished(opened.id)).toMatchObject({ phase: 'done', way: 'device', first_call: { status: 200 }, account: { id: 'eg-1042' } });
  expect(Object.keys((await at.notchboard.counters()).counters)).not.toContain('token.urn:ietf:params:oauth:grant-type:device_code.slow_down');
  expect((await show(name)).grant_kind).toBe('device_code');
  await lives(name);
  const again = startRk(['connection', 'open', name, '--way', 'device', '--end-oldest']);
  const page = await again.said(/open (http\S+) and enter/);
  const code = await again.said(/enter the code (\S+)/);
  await playDevice(page, code);
  expect(await again.ended).toMatchObject({ code: 0, out: expect.stringContaining('Refresh token') });
});

test('code printed by the provider\u2019s console: Piermaster', async () => {
  const name = await connection('piermaster');
  const opened = await call('openConnection', { params: { connection: name } });
  expect(opened.way).toBe('printed');
  const made = await fetch(`http://127.0.0.1:${at.piermaster.port}/standin/printed-codes`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ client_id: clients.piermaster.id, account: 'eg-1042' }),
  });
  await call('giveCode', { params: { consent: opened.id }, body: { code: ((await made.json()) as { code: string }).code } });
  expect(await finished(opened.id)).toMatchObject({ phase: 'done', refresh_token: true });
  await lives(name);
});

test.each(['ledgerfin', 'wharfpost'] as const)('client credentials: %s', async (provider) => {
  const name = await connection(provider, { grant_type: 'client_credentials' });
  const opened = await call('openConnection', { params: { connection: name } });
  expect([opened.by_itself, (await finished(opened.id)).phase]).toEqual([true, 'done']);
  expect((await show(name)).lifetime).toMatchObject({
    verdict: 'lives',
    lines: expect.arrayContaining([expect.objectContaining({ what: 'account', says: expect.stringContaining('Not tied to a user account') })]),
  });
  await lives(name);
});

test('JWT bearer: Ledgerfin, a service account in the name of an account, renewed without anybody', async () => {
  const certificate = await makeCertificate('service');
  const draft = await call('addClient', { body: { provider: 'ledgerfin', name: 'service', placeholders: PLACEHOLDERS.ledgerfin ?? {} } });
  const there = await registerAtStandin(draft.registration_page ?? '', 'Service', draft.redirect_uri, { certificate: certificate.certificate });
  const params = { provider: 'ledgerfin', client: 'service' };
  const body = { name: 'books-as', provider: 'ledgerfin', client: 'service', scopes: ['books.read'], grant_type: 'jwt_bearer' as const };
  await call('changeClient', { params, body: { revision: 1, client_id: there.id } });
  await expect(call('addConnection', { body: { ...body, expected_account: 'deck.office@saltmarsh.example' } })).rejects.toMatchObject({
    problem: { places: [{ path: 'grant_type', why: expect.stringContaining('private_key_jwt') }] },
  });
  const { revision } = await call('showClient', { params });
  await call('changeClient', { params, body: { revision, method: 'private_key_jwt' } });
  await call('addSecret', { params, body: { kind: 'certificate', secret: certificate.pem } });
  await expect(call('addConnection', { body })).rejects.toMatchObject({ problem: { places: [{ path: 'expected_account' }] } });
  await call('addConnection', { body: { ...body, expected_account: 'deck.office@saltmarsh.example' } });
  const opened = await call('openConnection', { params: { connection: 'books-as' } });
  expect(await finished(opened.id)).toMatchObject({ phase: 'done', by_itself: true, first_call: { status: 200 } });
  await lives('books-as');
  const grants = Object.values(at.ledgerfin.store.state.grants).filter((grant) => grant.clientId === there.id);
  expect(grants).toMatchObject([{ sub: 'eg-2001', scopes: ['books.read'], refreshes: 2 }]);
});

const scriptToken = async (provider: Name, account = 'eg-1042'): Promise<string> => {
  const made = await fetch(`http://127.0.0.1:${at[provider].port}/standin/script-tokens`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ client_id: clients[provider].id, account }),
  });
  return ((await made.json()) as { refresh_token: string }).refresh_token;
};

test.each(['eelgrass', 'berthline', 'bosunry', 'oakum', 'notchboard', 'deckhail'] as const)(
  'an imported refresh token from an old script: %s',
  async (provider) => {
    const name = await connection(provider, provider === 'eelgrass' ? { scopes: ['tables.read', 'profile'] } : {});
    const started = await call('importToken', { params: { connection: name }, body: { refresh_token: await scriptToken(provider) } });
    const outcome = await finished(started.id);
    expect(outcome).toMatchObject({ phase: 'done', way: 'imported', refresh_token: true, first_call: { status: 200 } });
    const rotates = provider !== 'bosunry' && provider !== 'oakum';
    expect(outcome.warnings[0]).toMatch(rotates ? /Stop the old script now/ : /old script would keep working/);
    expect(await show(name)).toMatchObject({ state: 'working', grant_kind: 'imported', renewals: 1 });
    await lives(name);
  },
);

test('a refresh token that is not good is rejected, by rk too; while the provider is down it is kept, and used once it was proved', async () => {
  const name = await connection('eelgrass', { scopes: ['tables.read', 'profile'] });
  const refused = await rk(['connection', 'import', name], { home: service.folder, input: 'r.of-nobody\n' });
  expect([refused.code, refused.err]).toEqual([7, expect.stringContaining('does not take this refresh token')]);
  expect(await show(name)).toMatchObject({ state: 'draft', standby: null });
  await at.eelgrass.order('faults', { at: 'token', kind: 'status', status: 500, times: 100 });
  const started = await call('importToken', { params: { connection: name }, body: { refresh_token: await scriptToken('eelgrass') } });
  const since = Date.now();
  await eventually(async () => Date.now() - since > 1_500); // it is tried meanwhile, in vain
  expect(await call('showConsent', { params: { consent: started.id } })).toMatchObject({ phase: 'verifying' });
  expect(await show(name)).toMatchObject({ state: 'draft' });
  await at.eelgrass.clearFaults();
  expect(await finished(started.id)).toMatchObject({ phase: 'done' });
  await lives(name);
});

test.each<[string, number, string, Name]>([
  ['invalid_client', 401, 'rejected the client', 'bosunry'],
  ['invalid_request', 400, 'rejected the renewal request', 'oakum'],
])('a token import that ends in %s is no trouble of the provider, and nobody is informed to stop the old script', async (error, status, title, provider) => {
  const name = await connection(provider);
  await at[provider].order('faults', { at: 'token', kind: 'oauth_error', status, error, times: 100 });
  const started = await call('importToken', { params: { connection: name }, body: { refresh_token: await scriptToken(provider) } });
  const outcome = await finished(started.id);
  expect(outcome).toMatchObject({ phase: 'failed', warnings: [], problem: { title: expect.stringContaining(title) } });
  expect(outcome.problem?.side).not.toBe('provider');
  await at[provider].clearFaults();
});

test('a static key: Berthline; callers are informed its header, and ask again within the hour', async () => {
  const name = await connection('berthline');
  await expect(call('setKey', { params: { connection: await connection('eelgrass') }, body: { key: 'abc' } })).rejects.toMatchObject({
    problem: { detail: expect.stringContaining('takes no static key') },
  });
  const { key } = (await (
    await fetch(`http://127.0.0.1:${at.berthline.port}/standin/keys`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: '{"account":"eg-1042"}',
    })
  ).json()) as { key: string };
  const given = await call('setKey', { params: { connection: name }, body: { key } });
  expect(given).toMatchObject({
    state: 'working',
    grant_kind: 'static_key',
    lifetime: { verdict: 'not_known', says: expect.stringContaining('Static API key') },
    life: null,
  });
  expect(JSON.stringify(given)).not.toContain(key);
  const caller = await call('addCaller', { body: { name: 'berth-report', connections: [name] } });
  const { body } = await fetchToken(service.url, caller.caller_id, caller.key);
  expect(body).toMatchObject({ access_token: key, expires_in: 3600, header_name: 'x-berth-key', header_word: '' });
  await lives(name);
});

test('OpenID Connect: nonce, a hint of the expected account, who signed in and what was opened; keys that change meanwhile are read again', async () => {
  const name = await connection('eelgrass', { expected_account: 'joss.tarrant@saltmarsh.example' });
  const opened = await call('openConnection', { params: { connection: name }, body: { way: 'pasted' } });
  const sent = new URL(opened.authorization_url ?? '').searchParams;
  expect([sent.get('nonce')?.length, sent.get('login_hint')]).toEqual([22, 'joss.tarrant@saltmarsh.example']);
  const signInPage = await new Browser().fetch(opened.authorization_url ?? '');
  expect(signInPage.body).toMatch(/value="eg-1077" checked/);
  at.eelgrass.store.state.signing = null; // the provider has a new key
  const { endedAt } = await playAuthorization(opened.authorization_url ?? '', { stopBeforeCallback: true, account: 'eg-1077' });
  await bring(opened.id, endedAt);
  expect(await finished(opened.id)).toMatchObject({
    phase: 'done',
    account: { id: 'eg-1077', label: 'joss.tarrant@saltmarsh.example' },
    opened: 'Saltmarsh Ferries',
  });
  const notch = await connection('notchboard', { expected_account: 'eg-1077' });
  const there = await call('openConnection', { params: { connection: notch }, body: { way: 'pasted' } });
  expect(new URL(there.authorization_url ?? '').searchParams.get('member_hint')).toBe('eg-1077');
  const berth = await call('openConnection', { params: { connection: await connection('berthline') }, body: { way: 'pasted' } });
  expect(new URL(berth.authorization_url ?? '').searchParams.get('resource')).toContain('api.north.berthline');
});

test('the organization agrees in advance: link, text, a look for the consent, and then the token', async () => {
  const draft = await call('addClient', {
    body: { provider: 'piermaster', name: 'phones', type: 'service_account', title: 'Phone list', placeholders: PLACEHOLDERS.piermaster ?? {} },
  });
  const there = await registerAtStandin(draft.registration_page ?? '', 'Phone list', draft.redirect_uri);
  const params = { provider: 'piermaster', client: 'phones' };
  await call('changeClient', { params, body: { revision: 1, client_id: there.id } });
  await call('addSecret', { params, body: { secret: there.secret } });
  await call('addConnection', { body: { name: 'phones', provider: 'piermaster', client: 'phones', scopes: ['staff.read', 'staff.phone'] } });
  const { admin_consent: needed } = await show('phones');
  expect(needed).toMatchObject({ scopes: ['staff.phone'], check: true, text: expect.stringContaining('Read telephone numbers') });
  expect(needed?.link).toContain(there.id);
  expect(await call('checkAdminConsent', { params: { connection: 'phones' } })).toMatchObject({ consented: false });
  const asked = await rk(['connection', 'admin-consent', 'phones'], { home: service.folder });
  expect(asked.out).toContain(needed?.link ?? '-');
  const browser = new Browser();
  expect((await browser.fetch(needed?.link ?? '')).body).toContain('Agree for the organization');
  expect((await browser.fetch(needed?.link ?? '', new URLSearchParams())).body).toContain('has consented');
  expect((await rk(['connection', 'admin-consent', 'phones', '--check'], { home: service.folder })).code).toBe(0);
  const opened = await call('openConnection', { params: { connection: 'phones' } });
  expect(await finished(opened.id)).toMatchObject({ phase: 'done', scopes: { granted: ['staff.read', 'staff.phone'] } });
  await lives('phones');
});

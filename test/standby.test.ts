import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import type { ConsentOutcome } from '../src/api/connections.ts';
import type { BodyOf } from '../src/api/operations.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { playOpened, registerAtStandin } from '../src/standins/visitor.ts';
import { ACCOUNTS } from '../src/standins/world.ts';
import { PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, fetchToken, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** One name, two grants: another account, a proof that fails, a key and OAuth, sandbox and live, and the end of it all. */
const NAMES = ['eelgrass', 'berthline', 'bosunry', 'notchboard', 'oakum', 'deckhail'] as const;
type Name = (typeof NAMES)[number];
const at = {} as Record<Name, StandinUnderTest>;
const clients = {} as Record<Name, { id: string; secret: string }>;
let [service, call, databaseUrl] = [] as unknown as [ServiceUnderTest, ApiClient, string];
const BASIC = ['tables.read', 'profile', 'offline_access'];

beforeAll(async () => {
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl, environment: { RUSTY_KETTLE_VERIFY_RENEWAL: 'on' } });
  call = await signIn(service);
  expect((await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home: service.folder, input: PASSWORD })).code).toBe(0);
  for (const provider of NAMES) {
    at[provider] = await startUnderTest(provider, 3600);
    await call('addProvider', { body: { document: at[provider].definitionText } });
    clients[provider] = await addClient(call, at[provider], 'office', { provider, ...(provider === 'berthline' && { placeholders: { region: 'north' } }) });
  }
}, 120_000);
afterAll(async () => {
  await service.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
});
const show = (connection: string) => call('showConnection', { params: { connection } });
const add = (name: string, provider: Name, scopes: string[], more: Partial<BodyOf<'addConnection'>> = {}) =>
  call('addConnection', { body: { name, provider, client: 'office', scopes, ...more } });
async function consent(connection: string, account = 'eg-1042', body: BodyOf<'openConnection'> = {}, untick: string[] = []): Promise<ConsentOutcome> {
  const opened = await call('openConnection', { params: { connection }, body });
  await playOpened(opened, (id, pasted) => call('answerConsent', { params: { consent: id }, body: { pasted } }), { account, untick });
  return eventually(async () => {
    const seen = await call('showConsent', { params: { consent: opened.id } });
    return seen.phase === 'done' || seen.phase === 'failed' ? seen : null;
  });
}
const decide = (connection: string, decision: 'use' | 'discard') => call('decideStandby', { params: { connection }, body: { decision } });
const callerOf = async (name: string, connection: string) => {
  const made = await call('addCaller', { body: { name, connections: [connection] } });
  return async () => (await fetchToken(service.url, made.caller_id, made.key)).body;
};

test('another account than last time: the former tokens stay in use until someone decides; discard, or use', async () => {
  await add('tables', 'eelgrass', BASIC);
  await consent('tables');
  const token = await callerOf('table-reader', 'tables');
  const former = (await token()).access_token;
  const other = await consent('tables', 'eg-1077');
  expect(other).toMatchObject({ phase: 'failed', decide: 'other_account', problem: { side: 'person', title: expect.stringContaining('joss.tarrant') } });
  expect(await show('tables')).toMatchObject({
    state: 'working',
    account: 'marit.holm@saltmarsh.example',
    standby: { why: 'other_account', account: 'joss.tarrant@saltmarsh.example', alive: true },
  });
  expect((await token()).access_token).toBe(former);
  expect((await decide('tables', 'discard')).says).toContain('joss.tarrant');
  expect(await show('tables')).toMatchObject({ standby: null, account: 'marit.holm@saltmarsh.example' });
  await consent('tables', 'eg-1077');
  expect(await decide('tables', 'use')).toMatchObject({ went_back: false, before: { status: 200 }, after: { status: 200 }, compared: { same: true } });
  expect(await show('tables')).toMatchObject({ state: 'working', standby: null, account: 'joss.tarrant@saltmarsh.example', callers: ['table-reader'] });
  expect((await token()).access_token).not.toBe(former);
});

test('the first consent by another account than expected is kept and not used; whoever uses it has named the expected one again', async () => {
  await add('first', 'eelgrass', BASIC, { expected_account: 'marit.holm@saltmarsh.example' });
  expect(await consent('first', 'eg-1077')).toMatchObject({ decide: 'other_account' });
  expect(await show('first')).toMatchObject({ state: 'action_needed', cause_key: 'undecided', account: null });
  expect((await call('showStatus')).groups.map((one) => one.cause_key)).toContain('undecided');
  const used = await rk(['connection', 'switch', 'first', '--yes'], { home: service.folder });
  expect([used.code, used.out]).toEqual([0, expect.stringContaining('joss.tarrant')]);
  expect(await show('first')).toMatchObject({ state: 'working', expected_account: 'joss.tarrant@saltmarsh.example' });
});

test('the same account for another organization: it is asked too', async () => {
  await add('opened', 'eelgrass', BASIC);
  expect(await consent('opened')).toMatchObject({ opened: 'Saltmarsh Ferries' });
  const marit = ACCOUNTS[0] as { organization: string };
  marit.organization = 'Heron Island Boats';
  expect(await consent('opened')).toMatchObject({
    decide: 'other_account',
    problem: { title: expect.stringContaining('Something else was opened: Heron Island Boats') },
  });
  marit.organization = 'Saltmarsh Ferries';
  await decide('opened', 'discard');
});

test('more scopes later: requested in place; unticked ones are named, with the callers they stop, and the connection goes on', async () => {
  await add('more', 'bosunry', ['rosters:read', 'whoami', 'offline_access'], { operations: ['list-rosters'] });
  await consent('more');
  await callerOf('roster-board', 'more');
  const { revision } = await show('more');
  await call('changeConnection', {
    params: { connection: 'more' },
    body: { revision, scopes: ['rosters:read', 'rosters:write', 'whoami', 'offline_access'], operations: ['list-rosters', 'change-roster'] },
  });
  expect((await show('more')).scopes_granted).toEqual(['rosters:read', 'whoami', 'offline_access']); // the tokens held now are not touched
  expect(await consent('more', 'eg-1042', {}, ['rosters:write'])).toMatchObject({ phase: 'done', scopes: { missing: ['rosters:write'] } });
  expect(await show('more')).toMatchObject({
    state: 'working',
    operations_lacking: ['change-roster'],
    scopes_missing: ['rosters:write'],
    callers: ['roster-board'],
  });
  await consent('more');
  expect(await show('more')).toMatchObject({ operations_lacking: [], scopes_missing: [], scopes_unused: [] });
});

test('tokens whose first call fails do not replace those that work; used anyway they go back automatically', async () => {
  await add('verified', 'eelgrass', BASIC);
  await consent('verified');
  const failed = await consent('verified', 'eg-1042', {}, ['tables.read']);
  expect(failed).toMatchObject({
    decide: 'not_verified',
    problem: { remedy: expect.stringContaining('leave the scope selected'), diagnosis: { cause: 'scope_unticked' } },
  });
  expect(await show('verified')).toMatchObject({ state: 'working', standby: { why: 'not_verified', proof: 'failed' } });
  await decide('verified', 'discard');
});

test('key to OAuth behind one name: prepared and verified beside the key, switched with the answers compared, and back', async () => {
  await add('berths', 'berthline', ['bookings.read', 'profile']);
  const order = { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"account":"eg-1042"}' };
  const { key } = (await (await fetch(`http://127.0.0.1:${at.berthline.port}/standin/keys`, order)).json()) as { key: string };
  const given = await rk(['connection', 'set-key', 'berths'], { home: service.folder, input: `${key}\n` });
  expect([given.code, given.out]).toEqual([0, expect.stringContaining('rk connection open berths --prepare')]);
  expect(given.out + given.err).not.toContain(key);
  const token = await callerOf('berth-report', 'berths');
  expect(await token()).toMatchObject({ access_token: key, header_name: 'x-berth-key' });
  expect(await consent('berths', 'eg-1042', { prepare: true })).toMatchObject({
    phase: 'done',
    decide: 'prepared',
    problem: null,
    first_call: { status: 200 },
  });
  expect((await token()).access_token).toBe(key); // nothing changes before the switch
  const switched = await call('decideStandby', { params: { connection: 'berths' }, body: { decision: 'use', path: '/bookings?page=1' } });
  expect(switched).toMatchObject({ compared: { same: true, differences: [] }, went_back: false, before: { status: 200 }, after: { status: 200 } });
  const now = await token();
  expect([now.header_name, now.access_token === key]).toEqual([undefined, false]);
  expect(await show('berths')).toMatchObject({
    state: 'working',
    grant_kind: 'authorization_code',
    standby: { why: 'former', kind: 'static_key', alive: true },
  });
  expect((await decide('berths', 'use')).says).toContain('the static key');
  expect((await token()).access_token).toBe(key);
  // A newer key takes the place of the key, and what was prepared goes on waiting.
  const newer = (await (await fetch(`http://127.0.0.1:${at.berthline.port}/standin/keys`, order)).json()) as { key: string };
  await call('setKey', { params: { connection: 'berths' }, body: { key: newer.key } });
  expect([(await token()).access_token, (await show('berths')).standby?.kind]).toEqual([newer.key, 'authorization_code']);
  // The API stops taking the tokens: the switch shows it and is undone automatically.
  at.berthline.store.state.accessTokens = {};
  const failed = await decide('berths', 'use');
  expect(failed).toMatchObject({ went_back: true, after: { status: 401, diagnosis: { verdict: 'token_refused' } }, compared: { same: false } });
  expect(failed.compared?.differences[0]).toBe('status: 200 before, 401 after');
  expect((await token()).access_token).toBe(newer.key);
});

test('from sandbox to live behind the same name: the sandbox stays in use until the live tokens are verified; name, callers and history stay', async () => {
  await addClient(call, at.notchboard, 'sandbox', { provider: 'notchboard', environment: 'sandbox' });
  await call('addConnection', { body: { name: 'forum', provider: 'notchboard', client: 'sandbox', scopes: ['read', 'keep'] } });
  await consent('forum');
  const token = await callerOf('forum-bot', 'forum');
  const sandbox = (await token()).access_token;
  const refusing = await call('openConnection', { params: { connection: 'forum' }, body: { client: 'office' } });
  await playOpened(refusing, () => Promise.reject(new Error('not requested')), { refuse: true });
  await eventually(async () => (await call('showConsent', { params: { consent: refusing.id } })).phase === 'failed');
  expect([await show('forum'), (await token()).access_token]).toMatchObject([{ client: 'sandbox', environment: 'sandbox' }, sandbox]);
  const moved = await consent('forum', 'eg-1042', { client: 'office' });
  expect(moved).toMatchObject({ phase: 'done', moves_to: 'office', first_call: { url: expect.stringMatching(/\/\/api(-2)?\.notchboard/) } });
  expect(await show('forum')).toMatchObject({ state: 'working', client: 'office', environment: 'live', callers: ['forum-bot'] });
  const live = await token();
  expect([live.access_token === sandbox, String(live.base_url)]).toEqual([false, expect.not.stringContaining('sandbox')]);
  const { items } = await call('listHistory', { query: { subject: 'connection:forum', limit: 50 } });
  expect(items.map((one) => one.kind)).toEqual(expect.arrayContaining(['connection_added', 'consented', 'moved']));
  await expect(call('openConnection', { params: { connection: 'forum' }, body: { client: 'nobody' } })).rejects.toMatchObject({
    problem: { code: 'NOT_FOUND' },
  });
  expect(await call('renewConnection', { params: { connection: 'forum' } })).toMatchObject({ state: 'working' });
});

test('from a rehearsal to the approved client', async () => {
  const draft = await call('addClient', { body: { provider: 'oakum', name: 'rehearsal', rehearsal_port: at.oakum.port } });
  const there = await registerAtStandin(draft.registration_page ?? '', 'Crew portal', draft.redirect_uri);
  const params = { provider: 'oakum', client: 'rehearsal' };
  await call('changeClient', { params, body: { revision: 1, client_id: there.id } });
  await call('addSecret', { params, body: { secret: there.secret } });
  await call('addConnection', { body: { name: 'crew', provider: 'oakum', client: 'rehearsal', scopes: ['view.certificates'] } });
  await consent('crew');
  expect(await show('crew')).toMatchObject({ rehearsal: true });
  expect(await consent('crew', 'eg-1042', { client: 'office' })).toMatchObject({ phase: 'done' });
  expect(await show('crew')).toMatchObject({ rehearsal: false, client: 'office', state: 'working' });
});

test('expiration and renewal One renewal verified where that costs nothing, what ends it first, and what was seen against what is believed', async () => {
  const lines = async (name: string) => Object.fromEntries((await show(name)).lifetime.lines.map((line) => [line.what, line]));
  expect((await show('tables')).lifetime).toMatchObject({ verdict: 'lives', may_verify_renewal: true });
  expect(await lines('tables')).toMatchObject({
    renewal: { verdict: 'good', says: expect.stringContaining('seen to work') },
    rotation: { verdict: 'good', says: expect.stringContaining('as the definition states') },
    account: { says: expect.stringContaining('joss.tarrant@saltmarsh.example, for Saltmarsh Ferries') },
  });
  // Strict about reuse: no renewal is made just to see it.
  expect((await show('berths')).lifetime).toMatchObject({ verdict: 'not_known', may_verify_renewal: false });
  await addClient(call, at.bosunry, 'listed', { provider: 'bosunry' });
  const { revision } = await call('showClient', { params: { provider: 'bosunry', client: 'listed' } });
  await call('changeClient', {
    params: { provider: 'bosunry', client: 'listed' },
    body: { revision, reach: 'listed', listed_accounts: ['marit.holm@saltmarsh.example'] },
  });
  await call('addConnection', { body: { name: 'three-days', provider: 'bosunry', client: 'listed', scopes: ['rosters:read', 'whoami', 'offline_access'] } });
  const outcome = await consent('three-days');
  expect(outcome.lifetime).toMatchObject({
    verdict: 'ends',
    says: expect.stringMatching(/listed accounts expires, in 2 days/),
    ends: [{ what: expect.stringContaining('listed accounts') }],
  });
  const [first] = outcome.lifetime?.ends ?? [];
  expect(Date.parse(first?.at ?? '') - Date.now()).toBeGreaterThan(2.9 * 86_400_000);
  // The definition is wrong about rotation: what was seen shows it.
  const provider = 'eelgrass-believed';
  await call('addProvider', {
    body: { document: at.eelgrass.definitionText.replace(/^name: .*$/m, `name: ${provider}`).replace('rotation: each_use', 'rotation: never') },
  });
  await addClient(call, at.eelgrass, 'office', { provider });
  await call('addConnection', { body: { name: 'believed', provider, client: 'office', scopes: BASIC } });
  await consent('believed');
  await eventually(async () => (await lines('believed')).rotation?.verdict === 'bad');
  expect((await lines('believed')).rotation).toMatchObject({
    says: expect.stringContaining('a new refresh token came'),
    remedy: expect.stringContaining('rotation'),
  });
});

test('capabilities are verified one by one; one with effects only where that is said', async () => {
  await add('deck', 'deckhail', ['hear', 'announce', 'offline_access']);
  await consent('deck');
  expect((await show('deck')).capabilities).toMatchObject([
    { name: 'reading', state: 'verified', effects: false },
    { name: 'writing', state: 'not_verified', effects: true, call: 'POST /announcements' },
  ]);
  await expect(call('probeConnection', { params: { connection: 'deck' }, body: { capability: 'writing' } })).rejects.toMatchObject({
    problem: { places: [{ path: 'effects' }] },
  });
  const done = await rk(['connection', 'verify', 'deck', '--capability', 'writing', '--yes'], { home: service.folder });
  expect([done.code, done.out]).toEqual([0, expect.stringContaining('201')]);
  expect((await show('deck')).capabilities[1]).toMatchObject({ state: 'verified', at: expect.any(String) });
  const live = await rk(['connection', 'lifetime', 'deck'], { home: service.folder });
  expect(live.out).toMatch(/writing\s+POST \/announcements: verified/);
});

test('the end: what uses it is listed; a provider that is down is informed again automatically, and everything here is discarded at once', async () => {
  await add('ending', 'eelgrass', BASIC);
  await consent('ending');
  const token = await callerOf('ender', 'ending');
  await token();
  await eventually(async () => (await show('ending')).callers_last_used[0]?.at, 15_000);
  expect((await show('ending')).callers_last_used).toMatchObject([{ caller: 'ender' }]);
  const asked = await rk(['connection', 'revoke', 'ending'], { home: service.folder, input: '' });
  expect([asked.code, asked.err]).toEqual([2, expect.stringMatching(/will get no more tokens: ender \(last used/)]);
  const grants = () => Object.values(at.eelgrass.store.state.grants).filter((grant) => grant.clientId === clients.eelgrass.id && !grant.withdrawn).length;
  const database = openDatabase(databaseUrl, 1);
  const untold = async () => (await database.select("SELECT grant_id FROM revocations WHERE connection_name = 'ending'")).length;
  const before = grants();
  await at.eelgrass.order('faults', { at: 'token', kind: 'status', status: 503, times: 2 });
  const answer = await call('revokeConnection', { params: { connection: 'ending' } });
  expect(answer).toMatchObject({ revoked_there: false, says: expect.stringContaining('retried automatically') });
  expect(await token()).toMatchObject({ error: 'invalid_grant' });
  expect(await show('ending')).toMatchObject({ state: 'revoked', revocation: { tries: 1, says: expect.stringContaining('503') } });
  expect(grants()).toBe(before);
  expect(await call('retryRevocation', { params: { connection: 'ending' } })).toMatchObject({ revoked_there: false });
  await call('removeConnection', { params: { connection: 'ending' } }); // what is left to tell outlives the connection
  await database.write("UPDATE revocations SET next_at = UTC_TIMESTAMP(3) WHERE connection_name = 'ending'"); // its time comes
  await eventually(async () => grants() === before - 1, 20_000, 'the provider is informed');
  await eventually(async () => (await untold()) === 0);
  await database.close();
  const { items } = await call('listHistory', { query: { subject: 'connection:ending', limit: 20 } });
  expect(items.map((one) => one.kind)).toEqual(expect.arrayContaining(['revoked', 'revocation_told', 'connection_removed']));
});

test('consent again ends the former grant at the provider where its definition states that this ends no other, and discarding tells it too', async () => {
  await add('again', 'eelgrass', BASIC);
  await consent('again');
  const alive = () => Object.values(at.eelgrass.store.state.grants).filter((grant) => grant.clientId === clients.eelgrass.id && !grant.withdrawn).length;
  const before = alive();
  await consent('again');
  await eventually(async () => alive() === before, 20_000, 'the replaced grant is ended at the provider');
  expect(await call('renewConnection', { params: { connection: 'again' } })).toMatchObject({ state: 'working' });
  const says = async () => (await call('listHistory', { query: { subject: 'connection:again', limit: 20 } })).items.map((one) => one.says).join('\n');
  expect(await says()).toContain('The previous grant is being revoked at the provider.');
  // Without that word the provider is not told: the new grant could end with the old one.
  const provider = 'eelgrass-careful';
  await call('addProvider', {
    body: {
      document: at.eelgrass.definitionText.replace(/^name: .*$/m, `name: ${provider}`).replace('revocation_ends: this_grant', 'revocation_ends: unknown'),
    },
  });
  await addClient(call, at.eelgrass, 'office', { provider });
  await call('addConnection', { body: { name: 'careful', provider, client: 'office', scopes: BASIC } });
  await consent('careful');
  const { counters } = await at.eelgrass.counters();
  await consent('careful');
  expect((await at.eelgrass.counters()).counters['revoke.ok']).toBe(counters['revoke.ok']);
  const { items } = await call('listHistory', { query: { subject: 'connection:careful', limit: 20 } });
  expect(items.some((one) => one.says.includes('was discarded here only'))).toBe(true);
});

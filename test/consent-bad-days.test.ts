import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { Browser, playConsent, registerAtStandin } from '../src/standins/visitor.ts';
import { type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, SCOPES, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

let [service, standin, call]: [ServiceUnderTest, StandinUnderTest, ApiClient] = [] as never;
let databaseUrl = '';
let registered: { id: string; secret: string };
const client = { provider: 'eelgrass', client: 'timetable' };
const show = (connection: string) => call('showConnection', { params: { connection } });
const enter = (secret: string, atOnce = false) => call('addSecret', { params: client, body: { secret, at_once: atOnce } });

beforeAll(async () => {
  standin = await startEelgrass(8);
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl });
  call = await signIn(service);
  registered = await addEelgrass(call, standin);
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
});

test('a wrong secret: named at the exchange, the client stops once, and the right one fixes it', async () => {
  await addConnection(call, 'wrong-secret');
  await enter('not-the-secret', true);
  const { outcome } = await agree(call, 'wrong-secret');
  expect(outcome).toMatchObject({
    phase: 'failed',
    problem: {
      side: 'client',
      title: expect.stringContaining('id or secret'),
      evidence: expect.stringContaining('HTTP 401, invalid_client'),
      remedy: expect.stringContaining('secret'),
    },
  });
  expect(await call('showClient', { params: client })).toMatchObject({ state: 'stopped', cause: expect.stringContaining('invalid_client') });
  await enter(registered.secret);
  expect((await call('showClient', { params: client })).state).toBe('ready'); // entered, and not verified before a request succeeds
  expect((await agree(call, 'wrong-secret')).outcome.phase).toBe('done');
});

test('a secret that goes bad later stops all connections of the client with one event, and they come back with the right one', async () => {
  for (const name of ['later-1', 'later-2']) {
    await addConnection(call, name);
    await agree(call, name);
  }
  await enter('not-the-secret', true);
  for (const name of ['later-1', 'later-2']) await eventually(async () => (await show(name)).state === 'action_needed', 20_000, `${name} stops`);
  expect(await show('later-1')).toMatchObject({ cause: expect.stringContaining('id or secret'), remedy: expect.stringContaining('secret') });
  const stops = (await call('listHistory', { query: { subject: 'client:eelgrass/timetable', limit: 100 } })).items.filter(
    (one) => one.kind === 'client_stopped',
  );
  expect(stops).toHaveLength(2); // one at the exchange of the test above, one now, however many connections
  await enter(registered.secret);
  for (const name of ['later-1', 'later-2']) await eventually(async () => (await show(name)).state === 'working', 20_000, `${name} works again`);
});

test('a wrong id or a redirect URI off by a slash: the provider stops on its own page, and we name the character', async () => {
  const draft = await call('addClient', { body: { provider: 'eelgrass', name: 'slash' } });
  const there = await registerAtStandin(standin.origin, 'Off by a slash', `${draft.redirect_uri}/`);
  const params = { provider: 'eelgrass', client: 'slash' };
  await call('changeClient', { params, body: { revision: draft.revision, client_id: there.id } });
  await call('addSecret', { params, body: { secret: there.secret } });
  await addConnection(call, 'slash', SCOPES, 'slash');
  const opened = await call('openConnection', { params: { connection: 'slash' } });
  const played = await playConsent(opened.start_url);
  expect(played.body).toContain('Redirect URI mismatch');
  expect(played.endedAt).toMatch(/\/authorize\?/);
  expect((await call('showConsent', { params: { consent: opened.id } })).phase).toBe('started');
  const verdict = await call('checkRedirectUri', { params, body: { registered: `${draft.redirect_uri}/` } });
  expect(verdict).toEqual({
    same: false,
    ours: draft.redirect_uri,
    shown: `${draft.redirect_uri}/`,
    says: 'The registered one has a slash too many at its end.',
    at: draft.redirect_uri.length,
  });

  const { revision } = await call('showClient', { params });
  await call('changeClient', { params, body: { revision, client_id: 'eelgrass-nobody' } });
  expect((await playConsent((await call('openConnection', { params: { connection: 'slash' } })).start_url)).body).toContain('Unknown client');
  await expect(call('changeClient', { params, body: { revision, client_id: 'x' } })).rejects.toMatchObject({
    problem: { code: 'REVISION_CONFLICT', status: 409 },
  });
});

test('a misspelt scope: named before it is sent, and explained when it was sent anyway', async () => {
  const body = { name: 'misspelt', provider: 'eelgrass', client: 'timetable', scopes: ['tables.raed', 'profile'] };
  await expect(call('addConnection', { body })).rejects.toMatchObject({
    problem: { code: 'INPUT_INVALID', places: [{ why: expect.stringContaining('tables.read') }] },
  });
  await call('addConnection', { body: { ...body, allow_unlisted_scopes: true } });
  const { outcome } = await agree(call, 'misspelt');
  expect(outcome.problem).toMatchObject({ evidence: expect.stringContaining('invalid_scope'), remedy: expect.stringMatching(/Did you mean .tables\.read/) });
});

test('a scope unticked: the connection works with what was granted, and what lacks is said', async () => {
  await addConnection(call, 'unticked');
  const { outcome } = await agree(call, 'unticked', { untick: ['calendars.read'] });
  expect(outcome).toMatchObject({ phase: 'done', scopes: { missing: ['calendars.read'] }, warnings: [expect.stringContaining('calendars.read')] });
  expect(await show('unticked')).toMatchObject({ state: 'working', scopes_missing: ['calendars.read'] });
});

test('the scope of the first call unticked: the answer of the call is shown, and the connection does not say working', async () => {
  await addConnection(call, 'unverified');
  const { outcome } = await agree(call, 'unverified', { untick: ['tables.read'] });
  expect(outcome.first_call).toMatchObject({ status: 403, body: expect.stringContaining('insufficient_scope') });
  expect(await show('unverified')).toMatchObject({ state: 'degraded', cause: expect.stringContaining('403') });
});

test('no refresh token came: a person is needed at once, and its access token is issued as long as it lives', async () => {
  await addConnection(call, 'no-refresh');
  const { outcome } = await agree(call, 'no-refresh', { untick: ['offline_access'] });
  expect(outcome).toMatchObject({ phase: 'done', refresh_token: false });
  expect(outcome.warnings[0]).toContain('No refresh token: the connection ends');
  expect(await show('no-refresh')).toMatchObject({ state: 'action_needed', cause: expect.stringContaining('no refresh token') });
  const { caller_id, key } = await call('addCaller', { body: { name: 'no-refresh', connections: ['no-refresh'] } });
  expect((await fetchToken(service.url, caller_id, key)).status).toBe(200);
  const over = await eventually(async () => {
    const answer = await fetchToken(service.url, caller_id, key);
    return answer.status === 400 ? answer : null;
  }, 15_000);
  expect(over.body).toMatchObject({ error: 'invalid_grant', error_uri: `${service.url}/#/connections/no-refresh` });
});

test('withdrawn at the provider: a person is needed, it is not retried for ever, and agreeing again fixes it under the same name', async () => {
  await addConnection(call, 'withdrawn');
  await agree(call, 'withdrawn', { account: 'eg-2001' });
  const { caller_id, key } = await call('addCaller', { body: { name: 'withdrawn', connections: ['withdrawn'] } });
  await standin.order('withdraw', { account: 'eg-2001' });
  await eventually(async () => (await show('withdrawn')).state === 'action_needed', 20_000);
  expect(await show('withdrawn')).toMatchObject({
    cause: expect.stringContaining('rejects the refresh token'),
    evidence: expect.stringContaining('invalid_grant'),
    remedy: expect.stringContaining('Reconnect'),
    next_renewal_at: null,
  });
  const asked = (await standin.counters()).counters['token.refresh_token.invalid_grant'];
  expect(asked).toBe(2); // asked once more, then never again
  await eventually(async () => (await fetchToken(service.url, caller_id, key)).status === 400, 10_000);
  expect((await standin.counters()).counters['token.refresh_token.invalid_grant']).toBe(2);
  expect((await call('showStatus')).attention[0]).toMatchObject({ state: 'action_needed' });

  expect((await agree(call, 'withdrawn', { account: 'eg-2001' })).outcome.phase).toBe('done');
  expect(await show('withdrawn')).toMatchObject({ state: 'working', callers: ['withdrawn'] });
  expect((await fetchToken(service.url, caller_id, key)).status).toBe(200);
  const kinds = (await call('listHistory', { query: { subject: 'connection:withdrawn', limit: 100 } })).items.map((one) => one.kind);
  expect(kinds).toEqual(expect.arrayContaining(['consented', 'action_needed', 'connection_added']));
});

test('another account than the one before, or than expected, does not replace anything', async () => {
  await addConnection(call, 'account');
  await agree(call, 'account', { account: 'eg-1042' });
  const { outcome } = await agree(call, 'account', { account: 'eg-1077' });
  expect(outcome.problem).toMatchObject({ side: 'person', title: expect.stringContaining('joss.tarrant@saltmarsh.example') });
  expect(await show('account')).toMatchObject({ state: 'working', account: 'marit.holm@saltmarsh.example' });
  const { revision } = await show('account');
  await call('changeConnection', { params: { connection: 'account' }, body: { revision, expected_account: 'joss.tarrant@saltmarsh.example' } });
  expect((await agree(call, 'account', { account: 'eg-1077' })).outcome.phase).toBe('done');
  expect((await show('account')).account).toBe('joss.tarrant@saltmarsh.example');
});

test('the person rejects', async () => {
  await addConnection(call, 'refused');
  expect((await agree(call, 'refused', { refuse: true })).outcome.problem).toMatchObject({
    side: 'person',
    evidence: expect.stringContaining('access_denied'),
  });
});

test('a callback is taken once, from the browser that started, while it is fresh, with the right state and issuer', async () => {
  await addConnection(call, 'callback');
  const opened = await call('openConnection', { params: { connection: 'callback' } });
  const browser = new Browser();
  const { endedAt: callback } = await playConsent(opened.start_url, { stopBeforeCallback: true }, browser);
  const stranger = await new Browser().fetch(callback);
  expect(stranger).toMatchObject({ status: 403, body: expect.stringContaining('another browser') });
  expect((await new Browser().fetch(opened.start_url)).status).toBe(410); // the link is one-time
  const forged = new URL(callback);
  forged.searchParams.set('state', 'x'.repeat(43));
  expect((await browser.fetch(forged.href)).status).toBe(410);

  expect(await browser.fetch(callback)).toMatchObject({ status: 303, location: `${service.url}/#/consents/${opened.id}` });
  const exchanged = async () => (await standin.counters()).counters['token.authorization_code.ok'];
  await eventually(async () => (await call('showConsent', { params: { consent: opened.id } })).phase === 'done');
  const before = await exchanged();
  expect(await browser.fetch(callback)).toMatchObject({ status: 303, location: `${service.url}/#/consents/${opened.id}` }); // a reload shows the outcome
  expect(await exchanged()).toBe(before);

  const mixedUp = await call('openConnection', { params: { connection: 'callback' } });
  const second = await playConsent(mixedUp.start_url, { stopBeforeCallback: true }, browser);
  const foreign = new URL(second.endedAt);
  foreign.searchParams.set('iss', 'https://id.other.example');
  await browser.fetch(foreign.href);
  expect((await call('showConsent', { params: { consent: mixedUp.id } })).problem).toMatchObject({ evidence: expect.stringContaining('issuer') });
});

test('a callback that comes too late is rejected, and the consent says that nothing came back', async () => {
  await addConnection(call, 'expired');
  const opened = await call('openConnection', { params: { connection: 'expired' } });
  const browser = new Browser();
  const { endedAt: callback } = await playConsent(opened.start_url, { stopBeforeCallback: true }, browser);
  const database = openDatabase(databaseUrl, 1);
  await database.write("UPDATE consents SET expires_at = UTC_TIMESTAMP(3) - INTERVAL 1 SECOND WHERE phase = 'started'"); // half an hour goes by
  await database.close();
  expect(await browser.fetch(callback)).toMatchObject({ status: 410, body: expect.stringContaining('too long ago') });
  expect(await call('showConsent', { params: { consent: opened.id } })).toMatchObject({
    phase: 'failed',
    problem: { title: expect.stringContaining('Nothing came back') },
  });
});

test('the landing page\u2019s data opens with the consent\u2019s cookie or a session, and with nothing else', async () => {
  await addConnection(call, 'landing');
  const opened = await call('openConnection', { params: { connection: 'landing' } });
  const browser = new Browser();
  await playConsent(opened.start_url, {}, browser);
  const address = `${service.url}/api/v1/consents/${opened.id}`;
  expect((await browser.fetch(address)).status).toBe(200);
  expect((await new Browser().fetch(address)).status).toBe(401);
  expect((await browser.fetch(`${service.url}/api/v1/connections/landing`)).status).toBe(401);
});

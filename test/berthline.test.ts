import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, staysFor, untilInstant } from '../testing/waiting.ts';
import { addClient, addConnection, agree, fetchToken, type StandinUnderTest, startBerthline } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** A strict provider in two regions, and what people see when renewals go wrong. */
const SCOPES = ['bookings.read', 'profile'];
const NORTH = { provider: 'berthline', placeholders: { region: 'north' } };
let [service, standin, call, registered] = [] as unknown as [ServiceUnderTest, StandinUnderTest, ApiClient, { id: string; secret: string }];
beforeAll(async () => {
  standin = await startBerthline(3600);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await call('addProvider', { body: { document: standin.definitionText } });
  registered = await addClient(call, standin, 'harbour', NORTH);
  for (const name of ['quay-a', 'quay-b', 'quay-c']) {
    await addConnection(call, name, SCOPES, 'harbour', 'berthline');
    await agree(call, name);
  }
});
afterAll(async () => {
  await service.stop();
  await standin.stop();
  removeFolder(service.folder);
});
const show = (name: string) => call('showConnection', { params: { connection: name } });
const renew = (name: string) => call('renewConnection', { params: { connection: name } }).catch(() => null); // rejected while a wait runs
const inState = (name: string, state: string) => eventually(async () => ((await show(name)).state === state ? show(name) : null), 20_000, `${name} ${state}`);

test('the region is requested, fills every address, and a client of one region is unknown in the other', async () => {
  const add = (name: string, placeholders: Record<string, string>) => call('addClient', { body: { provider: 'berthline', name, placeholders } });
  await expect(add('nowhere', {})).rejects.toMatchObject({ problem: { code: 'INPUT_INVALID', places: [{ path: 'placeholders.region' }] } });
  await expect(add('nowhere', { region: 'west' })).rejects.toMatchObject({ problem: { places: [{ why: expect.stringContaining('north, south') }] } });
  const south = await add('southern', { region: 'south' });
  expect(south.registration_page).toContain('id.south.berthline.localhost');
  const params = { provider: 'berthline', client: 'southern' };
  await call('changeClient', { params, body: { revision: south.revision, client_id: registered.id } });
  await call('addSecret', { params, body: { secret: registered.secret } });
  await addConnection(call, 'lost-in-the-south', SCOPES, 'southern', 'berthline');
  const { start_url } = await call('openConnection', { params: { connection: 'lost-in-the-south' } });
  const at = await fetch(start_url, { method: 'POST', redirect: 'manual' });
  expect(at.headers.get('location')).toContain('http://id.south.berthline.localhost');
  await call('removeConnection', { params: { connection: 'lost-in-the-south' } });
});

test('with the offline parameter a refresh token comes; its API answers for the region; pages are numbered, 200 each', async () => {
  expect(await show('quay-a')).toMatchObject({ state: 'working', has_refresh_token: true, account: 'marit.holm@saltmarsh.example', policy: 'always' });
  const answer = await call('callConnection', { params: { connection: 'quay-a' }, body: { path: '/bookings?page=3' } });
  expect(JSON.parse(answer.body)).toMatchObject({
    page: 3,
    pages: 7,
    total: 1312,
    bookings: expect.arrayContaining([expect.objectContaining({ region: 'north' })]),
  });
  const plain = await startBerthline(3600, (text) => text.replace('  offline_parameter: { name: stay, value: moored }\n', ''));
  await call('addProvider', { body: { document: plain.definitionText.replace('name: berthline', 'name: plainline') } });
  await addClient(call, plain, 'harbour', { ...NORTH, provider: 'plainline' });
  await addConnection(call, 'short-lived', SCOPES, 'harbour', 'plainline');
  const { outcome } = await agree(call, 'short-lived');
  expect([outcome.refresh_token, outcome.warnings.join(' ')]).toEqual([false, expect.stringContaining('No refresh token: the connection ends')]);
  await call('removeConnection', { params: { connection: 'short-lived' } });
  await plain.stop();
});

test('at risk: an answer of a strict provider is lost; it is waited for, shown, then said to be lost in flight', async () => {
  await standin.order('faults', { at: 'token', kind: 'cut_after' });
  await renew('quay-a');
  expect(await show('quay-a')).toMatchObject({ state: 'degraded', cause_key: 'at_risk', cause: expect.stringContaining('At risk') });
  const status = await call('showStatus');
  expect([status.connections.at_risk, status.groups]).toEqual([1, [expect.objectContaining({ cause_key: 'at_risk', count: 1, example: 'quay-a' })]]);
  const lost = await inState('quay-a', 'action_needed');
  expect(lost.cause_key).toBe('lost_in_flight');
  const { items } = await call('listAttempts', { params: { connection: 'quay-a' } });
  expect(items.map((one) => one.class)).toEqual(['refused_grant', 'refused_grant', 'unclear', 'tokens']); // the last: the exchange of the code
  expect(items[0]).toMatchObject({
    request: { method: 'POST', form: { grant_type: 'refresh_token', client_secret: expect.stringMatching(/^\[masked, \d+ characters\]$/) } },
    answer: { status: 400, body: { error: 'invalid_grant' } },
  });
  expect(JSON.stringify(items)).not.toContain(registered.secret);
  const past = await eventually(async () => {
    const { items: entries } = await call('listHistory', { query: { subject: 'connection:quay-a' } });
    return entries.some((entry) => entry.kind === 'action_needed') ? entries : null;
  });
  expect(past.filter((entry) => entry.data.class).map((entry) => entry.data.class)).toEqual(['refused_grant', 'refused_grant', 'unclear']);
  await agree(call, 'quay-a');
});

test('a client that is rejected is one cause with one remedy, whatever the number of its connections; the secret fixes them all', async () => {
  const params = { provider: 'berthline', client: 'harbour' };
  await call('addSecret', { params, body: { secret: 'not-the-secret', at_once: true } });
  await renew('quay-b');
  const { groups } = await eventually(async () => {
    const status = await call('showStatus');
    return status.groups.length > 0 ? status : null;
  });
  expect(groups).toEqual([
    expect.objectContaining({
      cause_key: 'client_refused',
      state: 'action_needed',
      count: 3,
      says: 'Berthline rejects the client berthline/harbour',
      evidence: expect.stringContaining('invalid_client'),
      remedy: expect.stringContaining('secret'),
    }),
  ]);
  await call('addSecret', { params, body: { secret: registered.secret } });
  for (const name of ['quay-a', 'quay-b', 'quay-c']) await inState(name, 'working');
});

test('patience is asked of the client: its other connections wait too, without a request', async () => {
  await standin.order('faults', { at: 'token', kind: 'status', status: 429, retry_after_seconds: 3 });
  const requests = async () => Object.entries((await standin.counters()).counters).reduce((sum, [name, n]) => sum + (name.startsWith('token.') ? n : 0), 0);
  await renew('quay-a');
  const before = await requests();
  const others = await Promise.all(['quay-b', 'quay-c'].map((name) => renew(name)));
  expect(others.every((one) => one?.cause_key === 'busy')).toBe(true);
  expect(await requests()).toBe(before);
  for (const name of ['quay-a', 'quay-b', 'quay-c']) await inState(name, 'working');
});

test('an endpoint that fails again and again is paused by the circuit breaker, then tried once, and everything comes back', async () => {
  await standin.order('faults', { at: 'token', kind: 'status', status: 503, times: 8 });
  const alone = await eventually(async () => {
    for (const name of ['quay-a', 'quay-b', 'quay-c']) await renew(name);
    const status = await call('showStatus');
    return status.endpoints.find((one) => one.paused_until !== null);
  }, 30_000);
  expect(alone?.origin).toBe(standin.origin);
  await standin.clearFaults();
  for (const name of ['quay-a', 'quay-b', 'quay-c'])
    await eventually(async () => ((await show(name)).state === 'working' ? true : renew(name).then(() => null)), 40_000, `${name} back`);
}, 120_000);

test('by policy: on demand is not renewed until a caller asks; paused is only kept active', async () => {
  const { revision } = await show('quay-c');
  const changed = await call('changeConnection', { params: { connection: 'quay-c' }, body: { revision, policy: 'on_demand' } });
  const days = (Date.parse(changed.next_renewal_at ?? '') - Date.now()) / 86_400_000;
  expect([changed.policy, days > 5 && days < 8]).toEqual(['on_demand', true]);
  await standin.order('lives', { access_seconds: 2 });
  expect((await renew('quay-c'))?.renewals).toBeGreaterThan(0);
  const { renewals, life } = await show('quay-c');
  await untilInstant(life?.expires_at ?? '');
  await staysFor(500, async () => (await show('quay-c')).renewals);
  const caller = await call('addCaller', { body: { name: 'berth-report', connections: ['quay-c'] } });
  expect((await fetchToken(service.url, caller.caller_id, caller.key)).status).toBe(200);
  expect((await show('quay-c')).renewals).toBe(renewals + 1);
  await standin.order('lives', { access_seconds: 3600 });
  const paused = await call('pauseConnection', { params: { connection: 'quay-b' } });
  expect(Date.parse(paused.next_renewal_at ?? '') - Date.now()).toBeGreaterThan(5 * 86_400_000);
  expect((await call('resumeConnection', { params: { connection: 'quay-b' } })).state).toBe('working');
});

import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { HEARD_MS, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, untilInstant } from '../testing/waiting.ts';
import { addClient, addConnection, agree, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Quotas: Wharfpost takes 45 calls a minute of a client, Notchboard 5,000 points a day with weights. Two replicas share what there is. */
const MINUTE = 60_000;
let [service, second, wharfpost, notchboard, call, callOther] = [] as unknown as [
  ServiceUnderTest,
  ServiceUnderTest,
  StandinUnderTest,
  StandinUnderTest,
  ApiClient & { token: string },
  ApiClient,
];
const callers = {} as Record<'ledger' | 'counter' | 'board', { caller_id: string; key: string }>;
const relay = (caller: keyof typeof callers, path: string, at = service, init: RequestInit = {}) =>
  fetch(`${at.url}/relay/${path}`, { ...init, headers: { authorization: `Bearer ${callers[caller].caller_id}.${callers[caller].key}`, ...init.headers } });
const left = async (connection: string, caller: string | null = null) =>
  (await call('showQuota', { params: { connection } })).items.find((item) => item.caller === caller)?.left;
/** Waits until so much of the running minute is left. */
const untilMinuteHas = async (ms: number) => {
  const rest = MINUTE - (Date.now() % MINUTE);
  if (rest < ms) await untilInstant(Date.now() + rest + 200);
};

beforeAll(async () => {
  wharfpost = await startUnderTest('wharfpost', 20);
  notchboard = await startUnderTest('notchboard', 600);
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  service = await startService({ databaseUrl, masterKey });
  call = await signIn(service);
  second = await startService({ databaseUrl, masterKey, publicUrl: service.url });
  callOther = apiClient({ baseUrl: second.url, token: call.token });
  for (const one of [wharfpost, notchboard]) await call('addProvider', { body: { document: one.definitionText } });
  await addClient(call, wharfpost, 'counter', { provider: 'wharfpost' });
  await addClient(call, notchboard, 'office', { provider: 'notchboard' });
  for (const name of ['parcels', 'parcels-too']) {
    await call('addConnection', { body: { name, provider: 'wharfpost', client: 'counter', scopes: ['parcels'], placeholders: { account: '40017788' } } });
    const opened = await call('openConnection', { params: { connection: name } });
    await eventually(async () => (await call('showConsent', { params: { consent: opened.id } })).phase === 'done');
  }
  await addConnection(call, 'forum', ['read', 'post', 'keep'], 'office', 'notchboard');
  await agree(call, 'forum');
  callers.ledger = await call('addCaller', { body: { name: 'ledger', connections: ['parcels', 'parcels-too'] } });
  callers.counter = await call('addCaller', { body: { name: 'counter' } });
  await call('permitCaller', { params: { caller: 'counter' }, body: { connection: 'parcels', use: 'relay', share: 20 } });
  callers.board = await call('addCaller', { body: { name: 'board', connections: ['forum'] } });
});
afterAll(async () => {
  for (const one of [service, second]) await one?.stop();
  for (const one of [wharfpost, notchboard]) await one?.stop();
  for (const one of [service, second]) removeFolder(one.folder);
});

test('near the limit calls get 429 with Retry-After before the provider reports no; two connections, two callers and two replicas share it; a share is capped', {
  timeout: 150_000,
}, async () => {
  await untilMinuteHas(45_000);
  const before = (await wharfpost.counters()).counters['api.ok'] ?? 0;
  // One fifth of 45 for the caller whose share is capped, whoever else has called or not.
  const capped = await Promise.all(Array.from({ length: 14 }, (_none, at) => relay('counter', 'parcels/parcels?limit=1', at % 2 ? service : second)));
  expect(capped.filter((answer) => answer.status === 200)).toHaveLength(9);
  const refused = capped.find((answer) => answer.status === 429);
  expect(Number(refused?.headers.get('retry-after'))).toBeGreaterThan(10);
  expect(await refused?.json()).toMatchObject({ code: 'QUOTA_USED_UP', remedy: expect.stringContaining('The call was not sent') });
  expect(await left('parcels', 'counter')).toBe(0);
  const rest = await Promise.all(
    Array.from({ length: 60 }, (_none, at) => relay('ledger', `${at % 3 ? 'parcels' : 'parcels-too'}/parcels?limit=1`, at % 2 ? service : second)),
  );
  const good = rest.filter((answer) => answer.status === 200).length;
  const { counters } = await wharfpost.counters();
  // What two replicas hold without using it may be left over, never more than what there is.
  expect(good).toBeGreaterThan(45 - 9 - 8);
  expect((counters['api.ok'] ?? 0) - before).toBeLessThanOrEqual(45);
  expect(counters['api.over_quota'] ?? 0).toBe(0);
  expect(rest.filter((answer) => answer.status === 429).length).toBe(60 - good);
  const outcome = await eventually(async () =>
    (await call('showCaller', { params: { caller: 'ledger' } })).uses.find((use) => use.connection === 'parcels' && use.refused > 0),
  );
  expect(outcome.relayed).toBeGreaterThan(0);
});

test('shortly before a window begins again calls wait automatically, and go through', { timeout: 150_000 }, async () => {
  await untilMinuteHas(20_000);
  for (let at = 0; at < 60 && (await relay('ledger', 'parcels/parcels?limit=1')).status === 200; at += 1);
  await untilInstant(Date.now() - (Date.now() % MINUTE) + MINUTE - 4_000);
  const startedAt = Date.now();
  const answer = await relay('ledger', 'parcels/parcels?limit=1');
  expect(answer.status).toBe(200);
  expect(Date.now() - startedAt).toBeGreaterThan(2_000);
});

test('the provider\u2019s 429 is believed, by every replica: until then nobody asks; and a call tried by a person counts too', async () => {
  await untilMinuteHas(15_000);
  await wharfpost.order('faults', { at: 'api', kind: 'status', status: 429, retry_after_seconds: 4, times: 1 });
  const first = await eventually(async () => {
    const answer = await relay('ledger', 'parcels-too/parcels?limit=1');
    return answer.status === 429 && (await answer.text()).includes('The stand-in was told') ? answer : null;
  });
  expect(first.headers.get('retry-after')).toBe('4');
  const before = (await wharfpost.counters()).counters['api.ok'] ?? 0;
  const held = (await call('showQuota', { params: { connection: 'parcels' } })).items[0]?.held_until;
  expect(Date.parse(held ?? '')).toBeGreaterThan(Date.now());
  await eventually(async () => (await callOther('showQuota', { params: { connection: 'parcels' } })).items[0]?.held_until);
  const [there, tried] = [
    relay('ledger', 'parcels-too/parcels?limit=1', second),
    call('callConnection', { params: { connection: 'parcels' }, body: { path: '/parcels?limit=1' } }),
  ];
  const asked = async () => ((await wharfpost.counters()).counters['api.ok'] ?? 0) - before;
  await untilInstant(Date.parse(held ?? '') - 400);
  expect(await asked()).toBe(0);
  expect([(await there).status, (await tried).status, await asked()]).toEqual([200, 200, 2]); // both waited automatically
});

test('points: weights of operations are counted, and what the provider\u2019s own headers say corrects the count', async () => {
  expect((await relay('board', 'forum/threads')).status).toBe(200);
  const before = (await left('forum')) ?? 0;
  expect(
    (await relay('board', 'forum/threads/t-1/answers', service, { method: 'POST', body: '{}', headers: { 'content-type': 'application/json' } })).status,
  ).toBe(201);
  expect(before - ((await left('forum')) ?? 0)).toBe(25);
  // Someone else used the same client without us: the next answer tells.
  for (const key of Object.keys(notchboard.store.state.used)) notchboard.store.state.used[key] = 4_000;
  // Corrections are written at most once a second.
  const corrected = (most: number) =>
    eventually(async () => {
      await relay('board', 'forum/threads');
      return ((await left('forum')) ?? 9_999) <= most;
    }, HEARD_MS);
  await corrected(999);
  // Too little is left for what costs 25, and enough for what costs one.
  for (const key of Object.keys(notchboard.store.state.used)) notchboard.store.state.used[key] = 4_976;
  await corrected(23);
  const answer = await relay('board', 'forum/threads/t-1/answers', service, { method: 'POST', body: '{}', headers: { 'content-type': 'application/json' } });
  expect([answer.status, ((await answer.json()) as { code: string }).code]).toEqual([429, 'QUOTA_USED_UP']);
  expect((await relay('board', 'forum/threads')).status).toBe(200);
  await eventually(async () => {
    const { items, says } = await call('showQuota', { params: { connection: 'forum' } });
    return items[0]?.window === 'day' && says.includes('Calls with an issued token do not pass this service');
  });
});

test('a good status with an error inside, in the dialect\u2019s own words for a dead token, brings one renewal and one retry', async () => {
  await eventually(async () => (await relay('ledger', 'parcels/parcels?limit=1')).status === 200, 70_000);
  const { renewals, life } = await call('renewConnection', { params: { connection: 'parcels' } });
  await untilInstant(Date.parse(life?.issued_at ?? '') + 2_300); // older than a tenth of its lifetime
  await wharfpost.order('faults', { at: 'api', kind: 'text', status: 200, text: '{"fault":{"code":"WP-410"},"message":"token gone"}', times: 1 });
  const answer = await relay('ledger', 'parcels/parcels?limit=1');
  expect([answer.status, Object.keys((await answer.json()) as object)[0]]).toEqual([200, 'total']);
  expect((await call('showConnection', { params: { connection: 'parcels' } })).renewals).toBe(renewals + 1);
});

import { setTimeout as sleep } from 'node:timers/promises';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { type Database, openDatabase } from '../src/service/store/database.ts';
import { HEARD_MS, newMasterKey, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually, untilInstant } from '../testing/waiting.ts';
import { addClient, addConnection, fetchToken, type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Ledgerfin wants a second step: the access token is exchanged for a session token and an address, with a lifetime of their own. */
let [service, second, standin, call] = [] as unknown as [ServiceUnderTest, ServiceUnderTest, StandinUnderTest, ApiClient];
let database: Database;
let caller: { caller_id: string; key: string };
const relay = (path: string, at = service) => fetch(`${at.url}/relay/books${path}`, { headers: { authorization: `Bearer ${caller.caller_id}.${caller.key}` } });
const opened = async () => (await standin.counters()).counters['session.opened'] ?? 0;
const token = (at = service) => fetchToken(at.url, caller.caller_id, caller.key);

beforeAll(async () => {
  standin = await startUnderTest('ledgerfin', 600);
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  database = openDatabase(databaseUrl, 1);
  service = await startService({ databaseUrl, masterKey });
  call = await signIn(service);
  second = await startService({ databaseUrl, masterKey, publicUrl: service.url });
  await call('addProvider', { body: { document: standin.definitionText } });
  await addClient(call, standin, 'office', { provider: 'ledgerfin', placeholders: { tenant: 'lf204816' } });
  await addConnection(call, 'books', ['books.read'], 'office', 'ledgerfin');
  const consent = await call('openConnection', { params: { connection: 'books' } });
  await eventually(async () => (await call('showConsent', { params: { consent: consent.id } })).phase === 'done');
  caller = await call('addCaller', { body: { name: 'ledger', connections: ['books'] } });
});
afterAll(async () => {
  for (const one of [service, second]) await one?.stop();
  await database?.close();
  await standin?.stop();
  for (const one of [service, second]) removeFolder(one.folder);
});

test('the first call opened one session; two replicas, fifty callers, the token endpoint and a person use the same', async () => {
  expect((await call('showConnection', { params: { connection: 'books' } })).probe).toMatchObject({
    state: 'verified',
    last: { url: expect.stringContaining('http://books.ledgerfin.localhost') },
  });
  const answers = await Promise.all(Array.from({ length: 50 }, (_none, at) => relay('/accounts', at % 2 ? service : second)));
  expect(new Set(answers.map((answer) => answer.status))).toEqual(new Set([200]));
  const [here, there] = [await token(), await token(second)];
  expect(here.body).toMatchObject({
    header_name: 'x-books-session',
    header_word: '',
    placeholders: { tenant: 'lf204816' },
    base_url: expect.stringContaining('http://books.ledgerfin.localhost'),
  });
  expect(there.body.access_token).toBe(here.body.access_token);
  expect(Number(here.body.expires_in)).toBeLessThanOrEqual(300); // the session's remaining lifetime, not the token's
  expect(
    (await call('callConnection', { params: { connection: 'books' }, body: { path: '/postings', query: [{ name: 'per_page', value: '1' }] } })).status,
  ).toBe(200);
  expect(await opened()).toBe(1);
});

test('gone before its time: the API shows it, and it is opened again once for all who call', async () => {
  const before = await opened();
  await fetch(`http://127.0.0.1:${standin.port}/standin/sessions`, { method: 'DELETE' });
  await standin.order('lives', { session_seconds: 10 });
  const askedAt = Date.now();
  expect((await call('probeConnection', { params: { connection: 'books' } })).status).toBe(200); // a person's call opens it at once
  expect(await opened()).toBe(before + 1);
  const openedAt = Date.now();
  await fetch(`http://127.0.0.1:${standin.port}/standin/sessions`, { method: 'DELETE' });
  // A session that is younger than a second is not opened again because someone shows it; a slow machine may need that second.
  const young = (await relay('/accounts')).status;
  expect(Date.now() - askedAt < 1_000 ? young : 401).toBe(401);
  await untilInstant(openedAt + 1_100);
  const between = await opened();
  await database.write("UPDATE api_sessions SET sealed = X'0102'"); // and what is kept of it does not open
  await fetch(`http://127.0.0.1:${standin.port}/standin/sessions`, { method: 'DELETE' });
  const answers = await Promise.all(Array.from({ length: 20 }, () => relay('/accounts')));
  expect(answers.map((answer) => answer.status)).toEqual(Array.from({ length: 20 }, () => 200));
  expect(await opened()).toBe(between + 1);
});

test('kept and renewed for as long as it is used, ahead of its end: no caller ever sees one that is over', async () => {
  const before = await opened();
  const statuses = new Set<number>();
  for (const endsAt = Date.now() + 14_000; Date.now() < endsAt; await sleep(100)) statuses.add((await relay('/accounts')).status);
  expect(statuses).toEqual(new Set([200]));
  expect((await opened()) - before).toBeGreaterThanOrEqual(1);
  expect((await opened()) - before).toBeLessThanOrEqual(3);
});

test('it cannot be opened: said, not requested again by everybody at once, and it is restored automatically', async () => {
  await standin.order('lives', { session_seconds: 300 });
  await fetch(`http://127.0.0.1:${standin.port}/standin/sessions`, { method: 'DELETE' });
  await untilInstant(Date.now() + 1_200); // older than a second: only then it is opened again because an API shows it
  const grants = Object.values(standin.store.state.grants);
  for (const grant of grants) grant.withdrawn = true; // the client's token is not good at the provider
  const answers = await Promise.all(Array.from({ length: 30 }, () => relay('/accounts')));
  for (const answer of answers) expect([401, 502, 503]).toContain(answer.status);
  expect((await standin.counters()).counters['session.refused'] ?? 0).toBeLessThanOrEqual(4);
  const problem = await eventually(async () => {
    const answer = await relay('/accounts');
    return answer.status === 502 ? ((await answer.json()) as { code: string; detail: string }) : null;
  });
  expect(problem).toMatchObject({ code: 'SESSION_REFUSED', detail: expect.stringContaining('It answered 401') });
  expect((await token()).body).toMatchObject({ error: 'temporarily_unavailable' });
  for (const grant of grants) grant.withdrawn = false;
  await eventually(async () => (await relay('/accounts')).status === 200, 10_000);
});

test('a revoked connection has no session any more, here and on the other replica', async () => {
  await call('revokeConnection', { params: { connection: 'books' } });
  await eventually(async () => (await relay('/accounts')).status === 409 && (await relay('/accounts', second)).status === 409, HEARD_MS);
  expect((await token()).body.error).toBe('invalid_grant');
});

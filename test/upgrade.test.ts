import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { type Database, openDatabase } from '../src/service/store/database.ts';
import { PASSWORD, type ServiceUnderTest, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { fetchToken } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** A database as version 0.6.0 left it: four connections of one client, a caller with a label, a saved call; its tokens last until 2090. */
const of060 = (kind: 'sql' | 'json') => readFileSync(new URL(`./fixtures/database-0.6.0.${kind}`, import.meta.url), 'utf8');
const { masterKey, callerId, callerKey } = JSON.parse(of060('json')) as Record<'masterKey' | 'callerId' | 'callerKey', string>;

/** Words that 0.6 stored. */
const FORMER_WORDS = [
  `UPDATE clients SET approval = 'given', reach = 'organisation', registering = '{"asked_on":"2026-11-02","asked_by":"the form","notes":"asked"}'`,
  "UPDATE grants SET kind = 'taken_over'",
  "UPDATE client_secrets SET state = 'unproved'",
  "UPDATE history SET kind = 'taken_over' WHERE kind = 'connection_changed'",
];

let [service, database, call]: [ServiceUnderTest, Database, ApiClient] = [null as never, null as never, null as never];
beforeAll(async () => {
  const databaseUrl = await newDatabase();
  database = openDatabase(databaseUrl, 2);
  for (const statement of of060('sql').split(/;\n/)) if (statement.trim() !== '') await database.run(statement);
  for (const statement of FORMER_WORDS) await database.run(statement);
  service = await startService({ databaseUrl, masterKey, environment: { RUSTY_KETTLE_PROVE_RENEWAL: 'off' } });
  const { token } = await apiClient({ baseUrl: service.url })('signIn', { body: { name: 'marit', password: PASSWORD, keeps: 'token' } });
  call = apiClient({ baseUrl: service.url, token: token ?? '' });
});
afterAll(async () => {
  await service.stop();
  await database.close();
});

const states = async () => Object.fromEntries((await call('listConnections', {})).items.map((one) => [one.name, one.state]));

test('a database of 0.6.0 is upgraded at the start: connections keep their states, and are found by state, label and account', async () => {
  expect(await states()).toEqual({ sailings: 'working', 'paused-one': 'paused', ended: 'revoked', waiting: 'draft' });
  const names = async (query: object) => (await call('listConnections', { query: { ...query } })).items.map((one) => one.name);
  await eventually(async () => (await names({ state: 'paused' })).length === 1 || null);
  expect(await names({ state: 'working' })).toEqual(['sailings']);
  expect(await names({ search: 'HARBOUR' })).toEqual(['sailings']);
  const account = (await call('showConnection', { params: { connection: 'sailings' } })).account ?? '';
  expect(await names({ search: account })).toEqual(['ended', 'paused-one', 'sailings']);
  expect((await call('showStatus')).connections).toMatchObject({ total: 4, working: 1, action_needed: 0 });
});

test('what it had sealed opens, its callers keep their keys and permissions, and its definition is still good', async () => {
  const { status, body } = await fetchToken(service.url, callerId, callerKey, `${await publicUrl()}/connections/sailings`);
  expect([status, typeof body.access_token]).toEqual([200, 'string']);
  const caller = await call('showCaller', { params: { caller: 'board' } });
  expect(caller.permissions.map((one) => one.connection ?? one.label).sort()).toEqual(['harbour', 'paused-one', 'sailings']);
  const client = await call('showClient', { params: { provider: 'eelgrass', client: 'timetable' } });
  expect([client.state, client.secrets.length, client.connections]).toEqual(['working', 1, 4]);
  expect((await call('offeredCalls', { params: { connection: 'sailings' } })).saved.map((one) => one.name)).toEqual(['all-tables']);
  const [version] = (await call('listVersions', { params: { provider: 'eelgrass' } })).items;
  const preview = await call('previewProvider', { params: { provider: 'eelgrass' }, body: { document: version?.document ?? '' } });
  expect([preview.changes, preview.refused]).toEqual([[], []]);
});

test('its history is there, and what is changed now is written as this version does', async () => {
  const kinds = (await call('listHistory', { query: { subject: 'connection:sailings' } })).items.map((one) => one.kind);
  expect(kinds).toEqual(expect.arrayContaining(['connection_added', 'consented']));
  await call('resumeConnection', { params: { connection: 'paused-one' } }).catch(() => undefined); // its provider is gone: that is shown
  expect((await states())['paused-one']).not.toBe('paused');
});

test('what 0.6 stored under former words is shown under the present ones', async () => {
  const client = await call('showClient', { params: { provider: 'eelgrass', client: 'timetable' } });
  expect(client).toMatchObject({ approval: 'approved', reach: 'organization', secrets: [{ state: expect.stringMatching(/^(unverified|active)$/) }] });
  expect(client.registering).toMatchObject({ requested_on: '2026-11-02', request_form: 'the form', notes: 'asked' });
  expect((await call('showConnection', { params: { connection: 'sailings' } })).grant_kind).toBe('imported');
  expect((await call('listHistory', { query: { kind: 'imported' } })).items.length).toBeGreaterThan(0);
});

test('former settings, addresses and definition fields keep working, and the new name is reported', async () => {
  expect(service.output()).toContain('RUSTY_KETTLE_PROVE_RENEWAL is now RUSTY_KETTLE_VERIFY_RENEWAL.');
  const { token } = await apiClient({ baseUrl: service.url })('signIn', { body: { name: 'marit', password: PASSWORD, keeps: 'token' } });
  const former = await fetch(`${service.url}/api/v1/callers/board/sheets?connection=sailings`, { headers: { authorization: `Bearer ${token}` } });
  expect([former.status, former.headers.get('deprecation')]).toEqual([200, expect.stringMatching(/^@\d+$/)]);
  expect(former.headers.get('link')).toContain('/api/v1/callers/board/setup-instructions>; rel="successor-version"');
  const document = readFileSync(new URL('../definitions/notchboard.yaml', import.meta.url), 'utf8').replace('scope_separator:', 'scope_delimiter:');
  expect(await call('checkProvider', { body: { document } })).toMatchObject({ former_names: [expect.stringContaining('`scope_separator`')] });
});

const publicUrl = async () => (await call('showStatus')).public_url;

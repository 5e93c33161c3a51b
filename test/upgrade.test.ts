import { randomUUID } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { type Database, openDatabase } from '../src/service/store/database.ts';
import { migrate } from '../src/service/store/migrate.ts';
import { PASSWORD, type ServiceUnderTest, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { fetchToken } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/**
 * A database as the last development version left it, which had upgraded it from 0.6.0: four connections of one client, a caller with a label,
 * a saved call; its tokens last until 2090.
 */
const fixture = (kind: 'sql' | 'json') => readFileSync(new URL(`./fixtures/database-before-1.0.${kind}`, import.meta.url), 'utf8');
const statements = fixture('sql')
  .split(/;\n/)
  .filter((one) => one.trim() !== '');
const { masterKey, callerId, callerKey } = JSON.parse(fixture('json')) as Record<'masterKey' | 'callerId' | 'callerKey', string>;

let [service, database, call]: [ServiceUnderTest, Database, ApiClient] = [null as never, null as never, null as never];
beforeAll(async () => {
  const databaseUrl = await newDatabase();
  database = openDatabase(databaseUrl, 2);
  for (const statement of statements) await database.run(statement);
  service = await startService({ databaseUrl, masterKey });
  const { token } = await apiClient({ baseUrl: service.url })('signIn', { body: { name: 'marit', password: PASSWORD, keeps: 'token' } });
  call = apiClient({ baseUrl: service.url, token: token ?? '' });
});
afterAll(async () => {
  await service.stop();
  await database.close();
});

const states = async () => Object.fromEntries((await call('listConnections', {})).items.map((one) => [one.name, one.state]));

test('a database of the last development version opens: connections keep their states, and are found by state, label and account', async () => {
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

test('its schema is the one that a new database gets', async () => {
  const shape = async (of: Database) => {
    const tables = await of.select<{ t: string }>('SELECT TABLE_NAME AS t FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY t');
    const made = await Promise.all(tables.map(async ({ t }) => (await of.select<Record<string, string>>(`SHOW CREATE TABLE \`${t}\``))[0]?.['Create Table']));
    return made.map((text) => text?.replace(/ AUTO_INCREMENT=\d+/, ''));
  };
  const fresh = openDatabase(await newDatabase(), 2);
  await migrate(fresh, randomUUID());
  expect(await shape(database)).toEqual(await shape(fresh));
  await fresh.close();
});

test('an older database is refused, and nothing of it is changed', async () => {
  const older = openDatabase(await newDatabase(), 2);
  await older.run('CREATE TABLE schema_versions (name VARCHAR(100) PRIMARY KEY, at DATETIME(3) NOT NULL)');
  await older.run("INSERT INTO schema_versions VALUES ('0001-installations', UTC_TIMESTAMP(3)), ('0057-campaigns', UTC_TIMESTAMP(3))");
  await expect(migrate(older, randomUUID())).rejects.toMatchObject({ code: 'DATABASE_OUTDATED', detail: expect.stringContaining('0057-campaigns') });
  expect((await older.select('SELECT name FROM schema_versions')).length).toBe(2);
  await older.close();
});

const publicUrl = async () => (await call('showStatus')).public_url;

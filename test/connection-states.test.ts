import { randomBytes, randomUUID } from 'node:crypto';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { CONNECTION_INTENTS, CONNECTION_STATES, connectionHealth, PROOF_STATES } from '../src/core/health.ts';
import { newRecordId } from '../src/core/identifiers.ts';
import { GRANT_KINDS } from '../src/core/oauth/grant-kinds.ts';
import { RENEWAL_CAUSES } from '../src/core/renewal/row.ts';
import { sleep } from '../src/service/ports.ts';
import { connectionStates } from '../src/service/renewal/connection-states.ts';
import type { ListedConnection } from '../src/service/store/connection-rows.ts';
import { connectionSearch } from '../src/service/store/connection-search.ts';
import { type Bind, type Database, idBytes, idText, openDatabase } from '../src/service/store/database.ts';
import { migrate } from '../src/service/store/migrate.ts';
import { openStore, type Store } from '../src/service/store/store.ts';
import { newDatabase } from './support/new-database.ts';

let [database, store]: [Database, Store] = [null as never, null as never];
beforeAll(async () => {
  database = openDatabase(await newDatabase(), 4);
  await migrate(database, randomUUID());
  store = openStore(database);
});
afterAll(() => database.close());

const newId = () => newRecordId(Date.now(), randomBytes(16));
const states = () => connectionStates({ store, personChanged: async () => undefined, ports: { log: { debug: () => {}, error: () => {} } as never, sleep } });
const insert = (table: string, row: Record<string, Bind>) => {
  const bind: Bind[] = [];
  const values = Object.values(row).map((value) => `$${bind.push(value)}`);
  return database.write(`INSERT INTO ${table} (${Object.keys(row).join(', ')}) VALUES (${values.join(', ')})`, bind);
};
const instant = (aheadMs: number | null): Bind => (aheadMs === null ? null : new Date(Date.now() + aheadMs).toISOString().slice(0, 23).replace('T', ' '));

/** A client at a provider at which a second use of a refresh token may end the grant, or not. */
async function addClient(health: 'working' | 'stopped', strict: boolean): Promise<string> {
  const [providerId, versionId, clientId] = [newId(), newId(), newId()];
  const name = `p-${providerId.slice(-12)}`;
  const document = JSON.stringify({ dialect: { reuse: strict ? 'kills_grant' : 'grace', rotation: 'each_use' } });
  await insert('providers', { id: idBytes(providerId), name, title: name, version_id: idBytes(versionId), revision: 1, created_at: instant(0) });
  await insert('provider_versions', {
    id: idBytes(versionId),
    provider_id: idBytes(providerId),
    document,
    digest: '0'.repeat(64),
    created_at: instant(0),
    created_by: 'test',
  });
  await insert('clients', {
    ...{ id: idBytes(clientId), provider_id: idBytes(providerId), name: 'main', title: '', environment: 'live', placeholders: '{}', redirect_uri: 'x' },
    ...{ stage: 'active', approval: 'not_needed', reach: 'anyone', health, revision: 1, created_at: instant(0) },
  });
  return clientId;
}

const around = fc.constantFrom(-86_400_000, -60_000, 60_000, 86_400_000);
const shape = fc.record({
  intent: fc.constantFrom(...CONNECTION_INTENTS),
  standby: fc.constantFrom(null, 'prepared', 'other_account', 'not_verified'),
  grant: fc.option(
    fc.record({
      kind: fc.constantFrom(...GRANT_KINDS),
      proof: fc.constantFrom(...PROOF_STATES),
      cause: fc.option(fc.constantFrom(...RENEWAL_CAUSES), { freq: 1 }),
      nextMs: fc.option(around),
      expiresMs: around,
      uncertain: fc.boolean(),
      hasRefresh: fc.boolean(),
    }),
  ),
  client: fc.record({ health: fc.constantFrom('working' as const, 'stopped' as const), strict: fc.boolean() }),
});

async function addConnection(one: typeof shape extends fc.Arbitrary<infer T> ? T : never, clientId: string): Promise<string> {
  const [connectionId, grantId] = [newId(), newId()];
  const { grant } = one;
  await insert('connections', {
    ...{ id: idBytes(connectionId), name: `k-${connectionId.slice(-12)}`, client_id: idBytes(clientId), intent: one.intent, scopes: '[]', labels: '{}' },
    ...{ current_grant_id: grant ? idBytes(grantId) : null, standby_grant_id: one.standby ? idBytes(newId()) : null, standby_why: one.standby },
    ...{ policy: 'always', revision: 1, created_at: instant(0) },
  });
  if (!grant) return connectionId;
  const { kind, proof } = grant;
  await insert('grants', { id: idBytes(grantId), connection_id: idBytes(connectionId), kind, scopes: '[]', consented_at: instant(0), proof });
  await insert('tokens', { grant_id: idBytes(grantId), access_sealed: Buffer.from('x'), refresh_sealed: grant.hasRefresh ? Buffer.from('x') : null });
  await insert('renewals', {
    ...{ grant_id: idBytes(grantId), next_at: instant(grant.nextMs), epoch: 1, generation: 1, failures: 0, cause: grant.cause },
    ...{ uncertain_since: grant.uncertain ? instant(-1_000) : null, issued_at: instant(-90_000_000), expires_at: instant(grant.expiresMs) },
  });
  return connectionId;
}

const judged = (one: ListedConnection) => connectionHealth(one.facts, one.readAt);

test('what is stored of each state is what core/health.ts decides, for whatever rows there are; lists and counts go by it', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(shape, { minLength: 1, maxLength: 12 }), async (shapes) => {
      const ids: string[] = [];
      for (const one of shapes) ids.push(await addConnection(one, await addClient(one.client.health, one.client.strict)));
      await states().settle();
      const all = await store.connectionList.read({ ids });
      expect(all.map(({ stored }) => [stored.state, stored.causeKey])).toEqual(all.map((one) => [judged(one).state, judged(one).cause_key]));
      for (const state of CONNECTION_STATES) {
        const wanted = all.filter((one) => judged(one).state === state).map((one) => one.name);
        expect((await store.connectionList.read({ ids, state })).map((one) => one.name)).toEqual(wanted);
        expect(await store.connectionList.count({ ids, search: state.replaceAll('_', ' ').toUpperCase() })).toBe(wanted.length);
      }
      const counts = (await store.connectionList.countStates()).filter((one) => all.some((shown) => shown.provider === one.provider));
      expect(counts.reduce((sum, one) => sum + one.count, 0)).toBe(all.length);
      for (const one of counts) expect(all.find((shown) => shown.name === one.example)?.stored).toMatchObject({ state: one.state, causeKey: one.causeKey });
    }),
    { numRuns: 40 },
  );
});

const working = {
  kind: 'authorization_code',
  proof: 'verified',
  cause: null,
  nextMs: 60_000,
  expiresMs: 86_400_000,
  uncertain: false,
  hasRefresh: true,
} as const;
const add = async () => {
  const clientId = await addClient('working', false);
  const id = await addConnection({ intent: 'active', standby: null, grant: working, client: { health: 'working', strict: false } }, clientId);
  const keeper = states();
  await keeper.settle();
  const stored = async () => (await store.connectionList.read({ ids: [id] }))[0] as ListedConnection;
  expect((await stored()).stored.state).toBe('working');
  return { id, clientId, keeper, stored, row: (await store.connections.byId(id)) as NonNullable<Awaited<ReturnType<Store['connections']['byId']>>> };
};

test.each<{ name: string; change(x: Awaited<ReturnType<typeof add>>): Promise<unknown> | unknown; state: string }>([
  { name: 'paused', change: ({ id }) => store.connections.turn(id, 'active', 'paused'), state: 'paused' },
  { name: 'a failed probe', change: ({ row }) => store.grants.change(row.currentGrantId ?? '', { proof: 'failed' }), state: 'degraded' },
  {
    name: 'a stopped client',
    async change({ clientId, keeper }) {
      await store.clients.stop(clientId, 'invalid_client', 60_000);
      keeper.touchClient(clientId);
    },
    state: 'action_needed',
  },
  {
    name: 'a failed renewal',
    async change({ row, keeper }) {
      await database.write("UPDATE renewals SET cause = 'busy' WHERE grant_id = $1", [idBytes(row.currentGrantId ?? '')]);
      keeper.touch(row.currentGrantId ?? '');
    },
    state: 'degraded',
  },
  {
    name: 'a token that expires',
    async change({ id, row }) {
      await database.write('UPDATE renewals SET expires_at = UTC_TIMESTAMP(3), next_at = UTC_TIMESTAMP(3) WHERE grant_id = $1', [
        idBytes(row.currentGrantId ?? ''),
      ]);
      await database.write('UPDATE connections SET check_state_at = UTC_TIMESTAMP(3) WHERE id = $1', [idBytes(id)]); // the predicted instant comes
    },
    state: 'degraded',
  },
])('$name is stored at the next look', async ({ change, state }) => {
  const x = await add();
  await change(x);
  await x.keeper.settle();
  expect((await x.stored()).stored.state).toBe(state);
});

test('a change while a state is being worked out is not overwritten by what was read before it', async () => {
  const { id, keeper, stored } = await add();
  const before = await stored();
  await store.connections.turn(id, 'active', 'paused');
  const late = { id, mark: before.stored.mark, state: 'working', causeKey: null, searchText: '', checkAt: Date.now() + 86_400_000 };
  await store.connectionStates.write([late], Date.now());
  expect(await store.connectionStates.due(1_000)).toContain(id);
  await keeper.settle();
  expect((await stored()).stored.state).toBe('paused');
});

test('a search finds what the database finds, whatever is written and changed, by whatever text; people are not listed', async () => {
  const letters = fc.constantFrom(...'abcABC  -%_áÁøØßŁłжЖ😀日'.split(''), '😀');
  const words = fc.array(letters, { minLength: 1, maxLength: 6 }).map((all) => all.join(''));
  const clientId = await addClient('working', false);
  const draft = { intent: 'draft' as const, standby: null, grant: null, client: { health: 'working' as const, strict: false } };
  const ids: string[] = [];
  for (let n = 0; n < 8; n += 1) ids.push(await addConnection(draft, clientId));
  await database.write('UPDATE connections SET person_of = id WHERE id = $1', [idBytes(ids[0] ?? '')]);
  expect(await store.connectionList.read({ search: 'k-' })).not.toEqual([]); // from here on the texts are read into memory
  let byMemory = 0;
  const search = connectionSearch(database);
  await search.among('k-');
  await fc.assert(
    fc.asyncProperty(fc.array(fc.tuple(fc.nat(ids.length - 1), words), { maxLength: 4 }), words, async (changes, text) => {
      for (const [at, words] of changes) {
        await database.write('UPDATE connections SET search_text = $1 WHERE id = $2', [words, idBytes(ids[at] ?? '')]);
      }
      const like = `%${text.replace(/[\\%_]/g, '\\$&')}%`;
      const wanted = await database.select<{ name: string }>('SELECT name FROM connections WHERE search_text LIKE $1 AND person_of IS NULL ORDER BY name', [
        like,
      ]);
      const found = await store.connectionList.read({ search: text });
      expect(found.map((one) => one.name)).toEqual(wanted.map((one) => one.name));
      expect(await store.connectionList.count({ search: text })).toBe(wanted.length);
      const among = await search.among(text);
      if (among === null) return;
      byMemory += 1;
      const texts = await database.select<{ id: Buffer }>('SELECT id FROM connections WHERE search_text LIKE $1', [like]);
      expect(among).toEqual(expect.arrayContaining(texts.map((one) => idText(one.id))));
    }),
    { numRuns: 150 },
  );
  expect(byMemory).toBeGreaterThan(100);
});

test('labels and accounts are searched by, in any case; a stored value that does not fit is named with its place', async () => {
  const { id, row, keeper, stored } = await add();
  await store.connections.setLabels(id, ['evening-tide']);
  await store.grants.change(row.currentGrantId ?? '', { accountLabel: 'Elin.Berg@saltmarsh-ferries.example' });
  await keeper.settle();
  for (const search of ['ELIN.berg', 'evening', row.name.slice(3, 9)]) expect((await store.connectionList.read({ search })).map((one) => one.id)).toContain(id);
  expect(await store.connectionList.count({ search: '%' })).toBe(0); // no wildcard
  await database.write("UPDATE connections SET intent = 'gone' WHERE id = $1", [idBytes(id)]);
  const broken = {
    code: 'RECORD_INVALID',
    detail: expect.stringMatching(/^connections\.intent of .+: it is not one of draft, active, paused, revoked: gone\.$/),
  };
  await expect(store.connections.byId(id)).rejects.toMatchObject(broken);
  await expect(stored()).rejects.toMatchObject(broken);
});

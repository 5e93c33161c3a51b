import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import type { Notice } from '../src/api/notices.ts';
import { type Database, openDatabase } from '../src/service/store/database.ts';
import { newMasterKey, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** What is seen at a provider and contradicts what is stated becomes a notice, with the change to make. */
const LONG = 120_000;
let [service, call, eelgrass, bosunry, oakum, database] = [] as unknown as [
  ServiceUnderTest,
  ApiClient & { token: string },
  StandinUnderTest,
  StandinUnderTest,
  StandinUnderTest,
  Database,
];
beforeAll(async () => {
  const databaseUrl = await newDatabase();
  [eelgrass, bosunry, oakum] = await Promise.all([startEelgrass(60), startUnderTest('bosunry', 600), startUnderTest('oakum', 600)]);
  service = await startService({ databaseUrl, masterKey: newMasterKey(), environment: { RUSTY_KETTLE_NOTICE_SECONDS: '1' } });
  database = openDatabase(databaseUrl, 1);
  call = await signIn(service);
}, LONG);
afterAll(async () => {
  await database?.close();
  await service?.stop();
  await Promise.all([eelgrass?.stop(), bosunry?.stop(), oakum?.stop()]);
});
const notice = (title: RegExp): Promise<Notice> =>
  eventually(async () => (await call('listNotices', {})).items.find((one) => title.test(one.title)) ?? null, LONG, `a notice ${title}`);
const none = (title: RegExp) => eventually(async () => !(await call('listNotices', {})).items.some((one) => title.test(one.title)), LONG, `no notice ${title}`);

test(
  'tokens that the API rejects before their time, again: a notice with the change to the definition',
  async () => {
    await addEelgrass(call, eelgrass);
    await addConnection(call, 'tides');
    await agree(call, 'tides');
    const { caller_id, key } = await call('addCaller', { body: { name: 'board', connections: ['tides'] } });
    const headers = { authorization: `Basic ${Buffer.from(`${caller_id}:${key}`).toString('base64')}` };
    const relayed = async () => (await fetch(`${service.url}/relay/tides/tables`, { headers })).status;
    expect(await relayed()).toBe(200);
    // It forgets every token; a rejection brings a new one where the old one is a little older.
    await eventually(async () => {
      eelgrass.store.state.accessTokens = {};
      await relayed();
      const [row] = await database.select<{ n: number | bigint }>("SELECT COUNT(*) AS n FROM sightings WHERE what = 'access_token_short_lived'");
      return Number(row?.n ?? 0) > 0;
    }, LONG);
    expect((await call('listNotices', {})).items.filter((one) => /earlier than stated/.test(one.title))).toEqual([]); // once is no news
    await database.write("UPDATE sightings SET first_at = UTC_TIMESTAMP(3) - INTERVAL 2 HOUR WHERE what = 'access_token_short_lived'");
    expect(await notice(/^Access tokens of Eelgrass end earlier than stated$/)).toMatchObject({
      severity: 'warning',
      remedy: expect.stringContaining('dialect.assumed_life_seconds: 900'),
    });
  },
  LONG,
);

test(
  'a refresh token that works after the test phase: the client seems to be published, until that is entered',
  async () => {
    await call('addProvider', { body: { document: bosunry.definitionText } });
    await addClient(call, bosunry, 'rosters', { provider: 'bosunry' });
    const params = { provider: 'bosunry', client: 'rosters' };
    const scopes = ['rosters:read', 'whoami', 'offline_access'];
    const change = async (body: object) => call('changeClient', { params, body: { revision: (await call('showClient', { params })).revision, ...body } });
    await change({ reach: 'listed', registering: { domains_there: ['127.0.0.1'] } });
    await call('addConnection', { body: { name: 'rosters', provider: 'bosunry', client: 'rosters', scopes } });
    await agree(call, 'rosters', { account: 'eg-1077' });
    await database.write(
      "UPDATE grants g JOIN connections k ON k.current_grant_id = g.id SET g.consented_at = UTC_TIMESTAMP(3) - INTERVAL 5 DAY WHERE k.name = 'rosters'",
    );
    await call('renewConnection', { params: { connection: 'rosters' } });
    expect(await notice(/^bosunry\/rosters seems to be published$/)).toMatchObject({ command: 'rk client change bosunry/rosters --reach anyone' });
    await change({ reach: 'anyone' });
    await none(/seems to be published/);
  },
  LONG,
);

test(
  'an approval that is withdrawn is seen at the next renewal: the client stops, one notice tells; approved again, it works again',
  async () => {
    await call('addProvider', { body: { document: oakum.definitionText } });
    const { id } = await addClient(call, oakum, 'crew', { provider: 'oakum' });
    const params = { provider: 'oakum', client: 'crew' };
    await call('changeClient', { params, body: { revision: (await call('showClient', { params })).revision, approval: 'approved' } });
    await call('addConnection', { body: { name: 'crew', provider: 'oakum', client: 'crew', scopes: ['view.certificates'] } });
    await agree(call, 'crew', { account: 'eg-1042' });
    await oakum.order('approval', { client_id: id, state: 'rejected' });
    await call('renewConnection', { params: { connection: 'crew' } }).catch(() => undefined); // it is refused
    expect(await notice(/^The provider rejected oakum\/crew$/)).toMatchObject({ severity: 'action' });
    expect(await call('showClient', { params })).toMatchObject({ approval: 'rejected' });
    expect((await call('listNotices', {})).items.filter((one) => /rejects the client oakum/.test(one.title))).toEqual([]);
    await oakum.order('approval', { client_id: id, state: 'approved' });
    await eventually(async () => (await call('showClient', { params })).approval === 'approved', LONG);
    await notice(/^The provider approved oakum\/crew$/);
    await none(/^The provider rejected oakum\/crew$/);
  },
  LONG,
);

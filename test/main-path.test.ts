import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

let [service, standin, call]: [ServiceUnderTest, StandinUnderTest, ApiClient] = [] as never;

beforeAll(async () => {
  standin = await startEelgrass(4);
  service = await startService({ databaseUrl: await newDatabase() });
  call = await signIn(service);
  await addEelgrass(call, standin);
});
afterAll(async () => {
  expect(await service?.stop()).toBe(0);
  await standin?.stop();
});

test('a consent ends with who consented, to what, a refresh token, and the answer of a first call', async () => {
  await addConnection(call, 'sailings');
  const { outcome, played } = await agree(call, 'sailings');
  expect(outcome).toMatchObject({
    phase: 'done',
    refresh_token: true,
    account: { id: 'eg-1042', label: 'marit.holm@saltmarsh.example' },
    problem: null,
    warnings: [],
  });
  expect(outcome.scopes).toMatchObject({ missing: [], unasked: [] });
  expect(outcome.first_call?.status).toBe(200);
  expect(outcome.first_call?.body).toContain('Sailings this week');
  expect(played.endedAt).toBe(`${service.url}/#/consents/${outcome.id}`);
  expect(await call('showConnection', { params: { connection: 'sailings' } })).toMatchObject({
    state: 'working',
    account: 'marit.holm@saltmarsh.example',
    cause: null,
  });
});

test('an ordinary program calls the API across five renewals without one failed call', async () => {
  const { caller_id, key } = await call('addCaller', { body: { name: 'timetable-board', connections: ['sailings'] } });
  const before = (await call('showConnection', { params: { connection: 'sailings' } })).renewals;
  let [calls, failures] = [0, 0];
  await eventually(
    async () => {
      const { status, body, headers } = await fetchToken(service.url, caller_id, key);
      expect(status).toBe(200);
      expect(headers.get('cache-control')).toBe('no-store');
      expect(Number(body.expires_in)).toBeLessThanOrEqual(3);
      const answer = await fetch(`http://127.0.0.1:${standin.port}/v1/tables/sailings/rows?limit=1`, {
        headers: { authorization: `Bearer ${body.access_token}` },
      });
      calls += 1;
      if (!answer.ok) failures += 1;
      return (await call('showConnection', { params: { connection: 'sailings' } })).renewals >= before + 5 && calls > 20;
    },
    60_000,
    'five renewals, and twenty calls',
  );
  expect(failures).toBe(0);
  expect(calls).toBeGreaterThan(20);
});

test('the operator\u2019s call goes to the API hosts of the definition and nowhere else', async () => {
  const params = { connection: 'sailings' };
  expect((await call('callConnection', { params, body: { path: '/tables/boats/rows' } })).body).toContain('Sandpiper');
  const refused = [
    'https://elsewhere.example/v1/tables',
    '//elsewhere.example/',
    '/../clients',
    '/tables/%2e%2e/x',
    'http://api.eelgrass.localhost:1/v1/tables',
    `http://127.0.0.1:${standin.port}/v1/tables`,
  ];
  for (const path of refused)
    await expect(call('callConnection', { params, body: { path } }), path).rejects.toMatchObject({
      problem: { code: 'HOST_NOT_LISTED', remedy: expect.any(String) },
    });
});

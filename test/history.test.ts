import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

let [service, standin, call, databaseUrl]: [ServiceUnderTest, StandinUnderTest, ApiClient & { token: string }, string] = [] as never;
beforeAll(async () => {
  standin = await startEelgrass(2);
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl });
  call = await signIn(service);
  await addEelgrass(call, standin);
  await addConnection(call, 'tides');
  await agree(call, 'tides');
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
});
const subject = 'connection:tides';

test('routine renewals stay out of sight until they are requested; filters and pages hold together', async () => {
  const renewed = await eventually(async () => {
    const { items } = await call('listHistory', { query: { subject, renewals: 'true' } });
    return items.filter((one) => one.kind === 'renewed').length >= 3 ? items : null;
  });
  expect(renewed.map((one) => one.kind)).toContain('consented');
  const { items } = await call('listHistory', { query: { subject } });
  expect(items.map((one) => one.kind)).not.toContain('renewed');
  expect(items.map((one) => one.kind)).toContain('consented');
  expect((await call('listHistory', { query: { subject, kind: 'renewed' } })).items.every((one) => one.kind === 'renewed')).toBe(true);
  // Page by page, what one long answer has.
  const whole = (await call('listHistory', { query: { limit: 500 } })).items.map((one) => one.id);
  const pages: string[] = [];
  for (let more = true; more && pages.length < 500; ) {
    const page = await call('listHistory', { query: { limit: 3, ...(pages.length > 0 && { before: pages.at(-1) as string }) } });
    pages.push(...page.items.map((one) => one.id));
    more = page.more;
  }
  expect(pages).toEqual(whole);
  const since = new Date(Date.now() + 86_400_000).toISOString();
  expect((await call('listHistory', { query: { since } })).items).toEqual([]);
  await expect(call('listHistory', { query: { before: '00000000-0000-7000-8000-000000000000' } })).rejects.toMatchObject({ problem: { code: 'NOT_FOUND' } });
});

test('rk shows how to read on, and entries past their retention are deleted', async () => {
  await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home: service.folder, input: 'harbour-light-9' });
  const listed = await rk(['history', '--limit', '2'], { home: service.folder });
  expect([listed.code, listed.out]).toEqual([0, expect.stringMatching(/More entries: --before [0-9a-f-]{36}/)]);
  const database = openDatabase(databaseUrl, 1);
  try {
    await database.write("UPDATE history SET at = at - INTERVAL 31 DAY WHERE kind = 'renewed'");
    await database.write("UPDATE history SET at = at - INTERVAL 500 DAY WHERE kind = 'provider_added'");
    const { history } = await import('../src/service/history/history.ts');
    const { historyStore } = await import('../src/service/store/history.ts');
    const log = { warn: () => {}, error: () => {} } as never;
    const past = history({ store: historyStore(database), ports: { clock: { now: Date.now }, random: {} as never, log } });
    const day = 86_400_000;
    expect(await past.forget({ renewalsMs: 30 * day, allMs: 400 * day })).toBeGreaterThanOrEqual(4);
    const left = await database.select<{ kind: string }>('SELECT kind FROM history WHERE at < UTC_TIMESTAMP(3) - INTERVAL 30 DAY');
    expect(left).toEqual([]);
    await past.stop();
  } finally {
    await database.close();
  }
});

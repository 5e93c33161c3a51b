import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { openDatabase } from '../src/service/store/database.ts';
import { newMasterKey, RK, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

const LIFE_SECONDS = 8;
let standin: StandinUnderTest;
beforeAll(async () => {
  standin = await startEelgrass(LIFE_SECONDS);
});
afterAll(() => standin.stop());

/** A service with one connection and its caller. */
async function started(environment: Record<string, string>) {
  const [databaseUrl, masterKey] = [await newDatabase(), newMasterKey()];
  const shim = fileURLToPath(new URL('support/set-clock.mjs', import.meta.url));
  const service = await startService({ databaseUrl, masterKey, environment, run: ['--import', shim, RK, 'serve'] });
  const call = await signIn(service);
  await addEelgrass(call, standin);
  await addConnection(call, 'tides');
  await agree(call, 'tides');
  const { caller_id, key } = await call('addCaller', { body: { name: 'board', connections: ['tides'] } });
  const renewals = async () => (await call('showConnection', { params: { connection: 'tides' } })).renewals;
  return { service, call, databaseUrl, masterKey, renewals, token: (url = service.url) => fetchToken(url, caller_id, key) };
}

test.each([2 * 3_600_000, -2 * 3_600_000])(
  'the machine\u2019s clock set by %i ms: renewals go on, and no token is issued for longer than it lives',
  async (byMs) => {
    const { service, call, renewals, token } = await started({ TEST_SET_CLOCK_MS: String(byMs) });
    try {
      service.process.kill('SIGUSR2');
      await eventually(async () => service.output().includes('the clock is set'));
      const before = await renewals();
      for (let look = 0; look < 10; look += 1) {
        const { status, body } = await token();
        expect([status, Number(body.expires_in) <= LIFE_SECONDS]).toEqual([200, true]);
      }
      await eventually(async () => (await renewals()) >= before + 2);
      expect((await call('showStatus')).connections).toMatchObject({ working: 1, action_needed: 0 });
    } finally {
      await service.stop();
    }
  },
);

test('the database\u2019s clock set back by two hours: a token issued in the future is due now, is never issued for longer than its own life, and the jump is reported', async () => {
  const { service, databaseUrl, masterKey } = await started({});
  await service.stop();
  const database = openDatabase(databaseUrl, 1);
  // What a clock that was set back makes of every instant that was written before: they lie two hours ahead.
  await database.write(
    'UPDATE renewals SET issued_at = issued_at + INTERVAL 2 HOUR, expires_at = expires_at + INTERVAL 2 HOUR, next_at = next_at + INTERVAL 2 HOUR, lease_until = UTC_TIMESTAMP(3) + INTERVAL 2 HOUR, owner = grant_id',
  );
  await database.close();
  const again = await startService({ databaseUrl, masterKey, folder: service.folder });
  try {
    const call = await signIn(again);
    const { items } = await call('listCallers');
    expect(items).toHaveLength(1);
    await eventually(async () => {
      const { state, renewals, life } = await call('showConnection', { params: { connection: 'tides' } });
      return state === 'working' && renewals >= 1 && Date.parse(life?.expires_at ?? '') < Date.now() + 60_000;
    });
    const history = await call('listHistory', { query: { subject: 'installation' } });
    expect(history.items.map((one) => [one.kind, one.says])).toContainEqual(['clock_set', expect.stringMatching(/rescheduled to now/)]);
  } finally {
    await again.stop();
  }
});

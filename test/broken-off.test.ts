import { afterAll, beforeAll, expect, test } from 'vitest';
import { signIn, startService } from '../testing/service.ts';
import { testProgram } from '../testing/test-programs.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

let standin: StandinUnderTest;
beforeAll(async () => {
  standin = await startEelgrass(3600);
});
afterAll(() => standin.stop());

test.each([
  { at: '/userinfo', what: 'reading who consented', decide: 'not_verified', title: 'failed while it verified the new tokens' },
  { at: '/token', what: 'the exchange', decide: null, title: 'failed while it requested the tokens' },
])('where $what breaks on our side, the consent is finished and shows it, and tokens that came are kept for a decision', async ({ at, decide, title }) => {
  const run = [...testProgram('broken'), at];
  const service = await startService({ databaseUrl: await newDatabase(), run });
  try {
    const call = await signIn(service);
    await addEelgrass(call, standin);
    await addConnection(call, 'sailings');
    const { outcome } = await agree(call, 'sailings');
    expect(outcome).toMatchObject({ phase: 'failed', decide, problem: { title: expect.stringContaining(title), side: 'ours' } });
    const shown = await call('showConnection', { params: { connection: 'sailings' } });
    expect(shown.standby?.why ?? null).toBe(decide);
    if (decide === null) return;
    await call('decideStandby', { params: { connection: 'sailings' }, body: { decision: 'use' } });
    expect((await call('showConnection', { params: { connection: 'sailings' } })).has_refresh_token).toBe(true);
  } finally {
    await service.stop();
  }
});

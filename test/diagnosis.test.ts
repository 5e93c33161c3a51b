import { afterAll, beforeAll, expect, test } from 'vitest';
import { CAUSES } from '../src/core/diagnosis/causes.ts';
import { CALL_CASES } from './diagnosis/call-causes.ts';
import { CLIENT_CASES } from './diagnosis/client-causes.ts';
import { CONSENT_CASES } from './diagnosis/consent-causes.ts';
import { PERMISSION_CASES } from './diagnosis/permission-causes.ts';
import { BASIC, call, finished, make, type Name, open, STAFF, seenCauses, show, startAll, stopAll } from './diagnosis/rig.ts';
import { startUnderTest } from './support/harbour.ts';

/** Everything that goes wrong with a consent, a renewal or a call, really produced by a stand-in, and what is said of it. */
beforeAll(startAll, 120_000);
afterAll(stopAll);

test.each([...CLIENT_CASES, ...CONSENT_CASES, ...PERMISSION_CASES, ...CALL_CASES])(
  '$name: $cause',
  async ({ cause, verdict, half, side, evidence, produce }) => {
    const said = await produce();
    expect(said).toMatchObject({ cause, verdict, half: half ?? null, side });
    expect(said?.remedy.length).toBeGreaterThan(20);
    if (evidence) expect(said?.evidence.join(' ')).toMatch(evidence);
    seenCauses.set(cause, (seenCauses.get(cause) ?? 0) + 1);
  },
);

test('every cause of the table is produced, here or by the tests of forged answers', () => {
  const elsewhere = ['answer_forged', 'code_refused', 'approval_refused', 'service_failed']; // the last: test/broken-off.test.ts
  expect(CAUSES.filter((cause) => !seenCauses.has(cause) && !elsewhere.includes(cause))).toEqual([]);
});

test('a code pasted with spaces and line breaks is fixed and said; one given before is not sent again', async () => {
  const made = await make('eelgrass', BASIC);
  const opened = await call('openConnection', { params: { connection: made.name }, body: { way: 'pasted' } });
  const { playAuthorization } = await import('../src/standins/visitor.ts');
  const { endedAt } = await playAuthorization(opened.authorization_url ?? '', { stopBeforeCallback: true });
  const pasted = ` ${endedAt.slice(0, 60)}\n  ${endedAt.slice(60)} \r\n`;
  await call('answerConsent', { params: { consent: opened.id }, body: { pasted } });
  const outcome = await finished(opened.id);
  expect(outcome).toMatchObject({ phase: 'done', warnings: [expect.stringContaining('spaces or line breaks')] });
  const second = await call('openConnection', { params: { connection: made.name }, body: { way: 'pasted' } });
  const state = new URL(second.authorization_url ?? '').searchParams.get('state') ?? '';
  const replayed = new URL(endedAt);
  replayed.searchParams.set('state', state);
  await expect(call('answerConsent', { params: { consent: second.id }, body: { pasted: replayed.href } })).rejects.toMatchObject({
    problem: { code: 'INPUT_INVALID', detail: expect.stringContaining('given here before') },
  });
  expect(JSON.stringify(outcome.attempts)).toContain('masked');
  expect(JSON.stringify(outcome)).not.toContain(new URL(endedAt).searchParams.get('code'));
});

test('claims of a JWT access token are shown, the token is not', async () => {
  const restarted = await startUnderTest('piermaster', 3600);
  try {
    const provider = 'piermaster-again';
    await call('addProvider', { body: { document: restarted.definitionText.replace(/^name: .*$/m, `name: ${provider}`) } });
    const made = await make(provider as Name, ['staff.read'], { type: 'service_account', placeholders: STAFF, registerAt: restarted.origin });
    await open(made);
    const one = await show(made);
    expect(one.claims).toMatchObject({ aud: 'pm:dir:staff', scope: 'staff.read', client_id: made.id, exp: expect.stringMatching(/^\d{4}-/) });
    for (const token of Object.keys(restarted.store.state.accessTokens)) expect(JSON.stringify(one)).not.toContain(token);
  } finally {
    await restarted.stop();
  }
});

import { expect, test } from 'vitest';
import { CALLER_ID_PREFIX } from '../../core/identifiers.ts';
import { callerCheck } from './caller-check.ts';
import type { KnownCaller } from './caller-directory.ts';

const ID = `${CALLER_ID_PREFIX}${'a'.repeat(16)}`;
const KEY = 'rkk_right';
const basic = (id: string, key: string) => `Basic ${Buffer.from(`${id}:${key}`).toString('base64')}`;

/** A directory whose caller, changes and clock are the test's; `looked` counts how often a key was compared. */
function setUp({ endsAt = null as number | null } = {}) {
  const world = { epoch: 0, now: 1_000, looked: 0, caller: { name: 'board', keys: [{ id: 'k1', endsAt }] } as unknown as KnownCaller | null };
  const checkKnown = (id: string, key: string) => {
    world.looked += 1;
    const key1 = world.caller?.keys[0];
    const isGood = id === ID && key === KEY && key1 !== undefined && (key1.endsAt === null || key1.endsAt > world.now);
    return isGood && world.caller ? { caller: world.caller, keyId: 'k1' } : null;
  };
  const directory = { epoch: () => world.epoch, checkKnown, check: async (id: string, key: string) => checkKnown(id, key) };
  return { world, check: callerCheck(directory as never, { clock: { now: () => world.now } } as never) };
}

test('a verified header is known without another look, until anything changes', () => {
  const { world, check } = setUp();
  for (let times = 0; times < 3; times += 1) expect(check.readyHeader(basic(ID, KEY))?.keyId).toBe('k1');
  expect(world.looked).toBe(1);
  world.epoch += 1;
  expect(check.readyHeader(basic(ID, KEY))?.caller.name).toBe('board');
  expect(world.looked).toBe(2);
  world.epoch += 1;
  world.caller = null; // retired: the change is heard, and the key is looked at again
  expect(check.readyHeader(basic(ID, KEY))).toBeNull();
});

test('a key that expires is not known any longer than it is good', () => {
  const { world, check } = setUp({ endsAt: 2_000 });
  expect(check.readyHeader(basic(ID, KEY))?.keyId).toBe('k1');
  world.now = 2_000;
  expect(check.readyHeader(basic(ID, KEY))).toBeNull();
});

test.each([
  ['a wrong key', basic(ID, 'rkk_wrong')],
  ['another id', basic('someone', KEY)],
  ['no Basic header', `Digest ${ID}:${KEY}`],
  ['an ID alone', basic(ID, '')],
  ['nothing', ''],
])('%s is never known, however often it comes', (_what, header) => {
  const { check } = setUp();
  check.readyHeader(basic(ID, KEY));
  for (let times = 0; times < 2; times += 1) expect(check.readyHeader(header)).toBeNull();
});

test('the same id and key in one Bearer header, for tools with one box', () => {
  expect(setUp().check.readyHeader(`Bearer ${ID}.${KEY}`)?.keyId).toBe('k1');
});

test('wrong keys are slowed down by id and network; the right one passes at once', async () => {
  const { check } = setUp();
  const answers = [];
  for (let tries = 0; tries < 12; tries += 1) answers.push(await check(ID, 'rkk_wrong', '203.0.113.7'));
  expect(answers[0]).toEqual({ wrong: 'key' });
  expect(answers.at(-1)).toMatchObject({ wrong: 'throttled', waitMs: expect.any(Number) });
  expect(await check(ID, KEY, '203.0.113.7')).toMatchObject({ keyId: 'k1' });
});

import { execFileSync } from 'node:child_process';
import { chmodSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, expect, test } from 'vitest';
import { masterKey } from '../../core/sealing/master-key.ts';
import { Secret } from '../../core/secret.ts';
import { newestAnswers } from './newest-answers.ts';

const HOUR_MS = 3_600_000;
const KEY = masterKey(new Uint8Array(32).fill(1));
const NEXT_KEY = masterKey(new Uint8Array(32).fill(2));
const folders: string[] = [];
afterEach(() => {
  for (const folder of folders.splice(0)) rmSync(folder, { recursive: true, force: true });
});
const newFolder = (): string => {
  const folder = mkdtempSync(join(tmpdir(), 'rk-answers-'));
  folders.push(folder);
  return folder;
};
let now = 1_800_000_000_000;
let said: string[] = [];
const log = new Proxy({}, { get: () => (about: { event: string }) => void said.push(about.event) });
const open = (folder: string, more: Partial<Parameters<typeof newestAnswers>[0]> = {}) => {
  said = [];
  const ports = { clock: { now: () => now }, random: { bytes: (count: number) => new Uint8Array(count).fill(7), unit: () => 0 }, log } as never;
  return newestAnswers({ folder, installationId: 'one', master: KEY, former: null, keptMs: 7 * 24 * HOUR_MS, bytesMost: 10_000_000, ports, ...more });
};
const answer = (grantId: string, generation: number, refresh: string | null = `refresh-${grantId}-${generation}`) => ({
  ...{ grantId, epoch: generation, generation, life: { issuedAt: now, expiresAt: now + HOUR_MS } },
  tokens: { access: new Secret(`access-${grantId}-${generation}`), refresh: refresh === null ? null : new Secret(refresh), lifeMs: HOUR_MS, scopes: null },
});
const held = async (answers: Awaited<ReturnType<typeof newestAnswers>>) => {
  const found: string[] = [];
  for await (const one of answers.all()) found.push(`${one.grantId} ${one.generation} ${one.tokens.refresh?.reveal() ?? '-'}`);
  return found.sort();
};

test('the newest of each grant is there after a restart, sealed; what was ended is not', async () => {
  const folder = newFolder();
  const before = await open(folder);
  for (const one of [answer('a', 1), answer('b', 1), answer('a', 2), answer('c', 1)]) before.put(one);
  before.knows({ own: 4, others: { other: 9 } });
  expect(await held(before)).toEqual(['a 2 refresh-a-2', 'b 1 refresh-b-1', 'c 1 refresh-c-1']);
  before.put(answer('b', 2, null)); // the provider keeps the refresh token
  before.ended(['c']);
  await before.stop();
  const files = Buffer.concat(readdirSync(join(folder, 'answers')).map((name) => readFileSync(join(folder, 'answers', name)))).toString('latin1');
  expect(files).not.toContain('refresh-');
  const after = await open(folder);
  expect([await held(after), after.known()]).toEqual([['a 2 refresh-a-2', 'b 2 refresh-b-1'], { own: 4, others: { other: 9 } }]);
  await after.stop();
});

test('kept for so long, and of so much the newest', async () => {
  const answers = await open(newFolder(), { keptMs: 2 * HOUR_MS, bytesMost: 700 });
  answers.put(answer('old', 1));
  await answers.flush();
  now += 4 * HOUR_MS;
  answers.put(answer('earlier', 1));
  await answers.flush();
  now += HOUR_MS;
  for (const name of ['x', 'y']) answers.put(answer(name, 1));
  await answers.flush();
  expect(await answers.prune()).toBe(2); // three entries would be more than allowed, and one is too old
  expect(await held(answers)).toEqual(['x 1 refresh-x-1', 'y 1 refresh-y-1']);
  await answers.stop();
});

/** No file of this process may grow from now on, as on a full disk; null: they may again. */
const limitFiles = (bytes: number | null): void => void execFileSync('prlimit', [`--pid=${process.pid}`, `--fsize=${bytes ?? 'unlimited'}:`]);

test('a full data folder: answers stay in memory, are read from there, and are written once there is room', async () => {
  const folder = newFolder();
  const answers = await open(folder);
  answers.put(answer('a', 1));
  await answers.flush();
  limitFiles(0);
  try {
    answers.put(answer('a', 2));
    answers.put(answer('b', 1));
    await answers.flush();
    await answers.flush();
    expect(await held(answers)).toEqual(['a 2 refresh-a-2', 'b 1 refresh-b-1']);
    expect(said).toEqual(['answers.not_written']);
  } finally {
    limitFiles(null);
  }
  await answers.flush();
  expect(said).toEqual(['answers.not_written', 'answers.written_again']);
  await answers.stop();
  const after = await open(folder);
  expect(await held(after)).toEqual(['a 2 refresh-a-2', 'b 1 refresh-b-1']);
  await after.stop();
});

test('a changed master key: what the former one sealed is still read', async () => {
  const folder = newFolder();
  const before = await open(folder);
  before.put(answer('a', 1));
  before.knows({ own: 1, others: {} });
  await before.stop();
  const changed = await open(folder, { master: NEXT_KEY, former: KEY });
  expect([await held(changed), changed.known().own]).toEqual([['a 1 refresh-a-1'], 1]);
  await changed.stop();
  // Once the former key is gone as well.
  const later = await open(folder, { master: NEXT_KEY });
  expect([await held(later), later.known().own, said]).toEqual([['a 1 refresh-a-1'], 1, []]);
  await later.stop();
});

test.each([
  { name: 'of another installation', break: () => undefined, more: { installationId: 'another' } },
  { name: 'that was damaged', break: (path: string) => writeFileSync(join(path, 'CURRENT'), 'nonsense\n'), more: {} },
  { name: 'under an unknown master key', break: () => undefined, more: { master: NEXT_KEY } },
])('a folder $name is set aside whole, and a new one begun', async ({ break: damage, more }) => {
  const folder = newFolder();
  const before = await open(folder);
  before.put(answer('a', 1));
  before.knows({ own: 3, others: {} });
  await before.stop();
  damage(join(folder, 'answers'));
  const after = await open(folder, more);
  expect([await held(after), after.known().own, said]).toEqual([[], 0, ['answers.set_aside']]);
  expect(readdirSync(folder).filter((name) => name.startsWith('answers.set-aside-'))).toHaveLength(1);
  await after.stop();
});

test('a torn end, as a power cut leaves it: what was written before is there', async () => {
  const folder = newFolder();
  const before = await open(folder);
  before.put(answer('a', 1));
  await before.flush();
  before.put(answer('b', 1));
  await before.flush();
  await before.stop();
  const path = join(folder, 'answers');
  const log = readdirSync(path).find((name) => name.endsWith('.log')) ?? '';
  const bytes = readFileSync(join(path, log));
  chmodSync(join(path, log), 0o600);
  writeFileSync(join(path, log), bytes.subarray(0, Math.max(0, bytes.length - 3)));
  const after = await open(folder);
  expect((await held(after)).filter((one) => one.startsWith('a'))).toEqual(['a 1 refresh-a-1']);
  await after.stop();
});

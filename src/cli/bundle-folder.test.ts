import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { readFolder, writeFolder } from './bundle-folder.ts';

/** A bundle is read from a checkout that others wrote, and written from what a service sent: neither leads out of the folder. */
let [outside, folder] = ['', ''];
const head = { path: 'rusty-kettle.yaml', text: 'format: x\n' };
beforeEach(() => {
  outside = mkdtempSync(join(tmpdir(), 'rk-bundle-'));
  folder = join(outside, 'bundle');
  writeFileSync(join(outside, 'kept'), 'kept');
});
afterEach(() => rmSync(outside, { recursive: true, force: true }));

test.each(['../kept', '/etc/kept', 'jobs/../../kept', 'jobs/.hidden.yaml', 'jobs/a/b.yaml', 'elsewhere/a.yaml', 'jobs/a.sh', 'jobs\\..\\kept.yaml'])(
  'a file called %s is written nowhere, and neither is any other',
  (path) => {
    expect(() => writeFolder(folder, [head, { path, text: 'x' }], {})).toThrow(/no bundle has/);
    expect([readFileSync(join(outside, 'kept'), 'utf8'), existsSync(join(folder, head.path))]).toEqual(['kept', false]);
  },
);

test('a link is neither written through nor read through: a folder, a file, the head', () => {
  writeFolder(folder, [head, { path: 'jobs/nightly.yaml', text: 'a: 1\n' }], {});
  expect(readFolder(folder).map((one) => one.path)).toEqual([head.path, 'jobs/nightly.yaml']);
  for (const [path, to] of [
    ['jobs/nightly.yaml', 'kept'],
    ['rusty-kettle.yaml', 'kept'],
    ['callers', '.'],
  ] as const) {
    const at = join(folder, path);
    const former = existsSync(at) ? readFileSync(at, 'utf8') : null;
    rmSync(at, { force: true });
    symlinkSync(join(outside, to), at);
    expect(() => readFolder(folder)).toThrow(/is a link/);
    expect(() => writeFolder(folder, [head, { path: 'jobs/nightly.yaml', text: 'b: 2\n' }, { path: 'callers/kept.yaml', text: 'x' }], {})).toThrow(/is a link/);
    expect(readFileSync(join(outside, 'kept'), 'utf8')).toBe('kept');
    rmSync(at);
    if (former !== null) writeFileSync(at, former);
  }
  mkdirSync(join(folder, 'callers'));
  expect(readFolder(folder)).toHaveLength(2);
});

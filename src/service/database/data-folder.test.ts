import { mkdtempSync, renameSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { expect, test } from 'vitest';
import { openDataFolder } from './data-folder.ts';

/** The socket file of an owner that was killed: there, and nobody listens. */
async function leaveDeadSocket(folder: string): Promise<void> {
  const [path, aside] = [join(folder, 'replica.sock'), join(folder, 'aside')];
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(path, resolve));
  renameSync(path, aside); // so that closing does not remove it
  await new Promise((resolve) => server.close(resolve));
  renameSync(aside, path);
}

test('over the socket of a dead owner, exactly one of several that open the folder at once has it: 300 rounds', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'rk-folder-'));
  const owners: number[] = [];
  for (let round = 0; round < 300; round += 1) {
    await leaveDeadSocket(folder);
    const tried = await Promise.allSettled([openDataFolder(folder), openDataFolder(folder), openDataFolder(folder)]);
    const owned = tried.flatMap((one) => (one.status === 'fulfilled' ? [one.value] : []));
    owners.push(owned.length);
    for (const one of tried) if (one.status === 'rejected') expect(one.reason).toMatchObject({ code: 'FOLDER_OWNED' });
    await Promise.all(owned.map((one) => one.release()));
  }
  expect(new Set(owners)).toEqual(new Set([1]));
});

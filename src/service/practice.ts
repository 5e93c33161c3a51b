import { mkdtemp, readdir, rm, stat } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { BackupUnlock } from '../core/backup/envelope.ts';
import { type PracticeFacts, practiceFaults } from '../core/backup/practice.ts';

import { Fault } from '../core/fault.ts';
import { openDataFolder, startPrivateMariadb } from './database/index.ts';
import { chooseMasterKey } from './master-key.ts';
import { random } from './ports.ts';
import { type Restored, restoreBackup } from './restore.ts';
import { openSealer } from './sealer.ts';
import type { Settings } from './settings.ts';
import { openDatabase } from './store/database.ts';
import { practiceStore } from './store/practice.ts';
import { openStore } from './store/store.ts';

const FAILED_SHOWN = 100;

/** The newest backup of a folder, by the time of its file. @throws {Fault} NOT_FOUND */
export async function newestBackup(folder: string): Promise<string> {
  const names = await readdir(folder).catch(() => {
    throw new Fault('NOT_FOUND', { detail: `The folder ${folder} cannot be read.`, remedy: 'Name the folder with the backups.' });
  });
  const files = await Promise.all(
    names.filter((name) => name.endsWith('.backup')).map(async (name) => ({ path: join(folder, name), at: (await stat(join(folder, name))).mtimeMs })),
  );
  const [newest] = files.sort((a, b) => b.at - a.at);
  if (!newest) throw new Fault('NOT_FOUND', { detail: `No backup (*.backup) in ${folder}.`, remedy: 'Copy the backups there, or name their folder.' });
  return newest.path;
}

/**
 * Restores a backup into a private database in a folder of its own, looks at everything in it, and removes both. Nothing leaves this machine, and nothing of
 * the settings is used but limits.
 * @throws {Fault} BACKUP_UNREADABLE
 */
export async function practiceRestore(
  settings: Settings,
  file: string,
  { unlock, signer }: { unlock: BackupUnlock; signer?: string | undefined },
): Promise<{ facts: PracticeFacts; faults: string[] }> {
  const dataFolder = await mkdtemp(join(tmpdir(), 'rk-practice-'));
  const apart: Settings = {
    ...settings,
    ...{ dataFolder, databaseUrl: null, databaseNodes: [], masterKey: null, masterKeyCommand: null, masterKeyShares: [] },
  };
  try {
    const restored = await restoreBackup(apart, file, unlock, { formerIsGone: false, isPractice: true, signer });
    const facts = await lookedThrough(apart, restored);
    return { facts, faults: practiceFaults(facts) };
  } finally {
    await rm(dataFolder, { recursive: true, force: true });
  }
}

async function lookedThrough(settings: Settings, { madeAt, version, rows, hasResults }: Restored): Promise<PracticeFacts> {
  const folder = await openDataFolder(settings.dataFolder);
  const server = await startPrivateMariadb({ folder: folder.path, say: () => undefined });
  const database = openDatabase(server.url, 4);
  try {
    const store = openStore(database);
    const master = await chooseMasterKey(settings, folder, true);
    const { sealer } = await openSealer({ store, master, former: null, ports: { clock: { now: () => Date.now() }, random } });
    const looked = practiceStore(database);
    const seals = { opened: 0, failed: [] as string[] };
    for await (const { table, column, row, sealed } of looked.sealed())
      try {
        await sealer.open({ table, row, column }, sealed);
        seals.opened += 1;
      } catch {
        if (seals.failed.length < FAILED_SHOWN) seals.failed.push(`${table}.${column} of ${row}`);
      }
    const definitions = { read: 0, failed: [] as string[] };
    for (const { name } of await store.providers.all())
      try {
        await store.providers.inUse(name);
        definitions.read += 1;
      } catch {
        definitions.failed.push(name);
      }
    const results = hasResults ? await looked.results() : null;
    await sealer.stop();
    return { made_at: madeAt, version, rows, counts: await looked.counts(), seals, definitions, orphans: await looked.orphans(), results };
  } finally {
    await database.close();
    await server.stop();
    await folder.release();
  }
}

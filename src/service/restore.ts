import { createHash, randomBytes, randomUUID } from 'node:crypto';
import { createReadStream, existsSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { promisify } from 'node:util';
import { gunzip } from 'node:zlib';
import { z } from 'zod';
import { type BackupReader, type BackupUnlock, backupReader, lockOf } from '../core/backup/envelope.ts';
import { BackupSignature, verifiedSigner } from '../core/backup/signature.ts';
import { Fault } from '../core/fault.ts';
import { newRecordId } from '../core/identifiers.ts';
import { type MasterKey, masterKey } from '../core/sealing/master-key.ts';
import { openDataFolder, startPrivateMariadb } from './database/index.ts';
import { chooseMasterKey, writeKeyFile } from './master-key.ts';
import { openSealer } from './sealer.ts';
import type { Settings } from './settings.ts';
import { type Database, openDatabase } from './store/database.ts';
import { MIGRATION_LIMIT_MS, migrate } from './store/migrate.ts';
import { becomeRestored, restoreStore } from './store/snapshot.ts';
import { openStore } from './store/store.ts';

const unzipped = promisify(gunzip);
const MAX_LINE = 64_000_000;

const Manifest = z.object({
  format: z.string(),
  version: z.string(),
  made_at: z.string(),
  installation: z.string(),
  public_url: z.string(),
  migrations: z.array(z.string()),
  master_key: z.string(),
  results: z.boolean(),
  move: z.boolean().default(false),
});
const Part = z.object({ table: z.string(), columns: z.array(z.string()), rows: z.array(z.array(z.string().nullable())) });
const End = z.object({ end: z.literal(true), rows: z.number(), signed: BackupSignature.optional() });

export interface Restored {
  madeAt: string;
  version: string;
  rows: number;
  formerUrl: string;
  masterKey: string;
  /** Whether renewals wait until someone says that the former installation is gone. */
  isHeld: boolean;
  /** The backup was made to move the installation. */
  moves: boolean;
  /** It has what jobs collected. */
  hasResults: boolean;
  /** It renews, sends and delivers nothing, ever. */
  isPractice: boolean;
  /** Fingerprint of the installation that signed it; null: it was locked with a passphrase, and is not signed. */
  signer: string | null;
  /** The address of the restored installation, and where it comes from. */
  publicUrl: string;
  isUrlFromBackup: boolean;
}

/** How a backup is locked, from its first line. @throws {Fault} BACKUP_UNREADABLE */
export async function backupLock(file: string): Promise<'passphrase' | 'recipient'> {
  for await (const line of linesOf(file)) return lockOf(line);
  throw new Fault('BACKUP_UNREADABLE', { detail: 'The file is empty.', remedy: 'Name a file that `rk backup` wrote.' });
}

export interface RestoreOptions {
  /** Someone is certain that the installation of the backup will never run again: renewals go on at once. */
  formerIsGone: boolean;
  /** To look at, and to practice: what is restored calls nobody. */
  isPractice?: boolean;
  /** The fingerprint of the installation that must have signed it; `any`: whoever did. */
  signer?: string | undefined;
  /** Another address than that of the backup. */
  publicUrl?: string | undefined;
}

/**
 * Restores a backup into an empty installation, which must not run. Nothing is there until all is: a restore that was killed, or met a
 * broken line, can be begun again.
 * @throws {Fault} BACKUP_UNREADABLE, NOT_EMPTY, MASTER_KEY_WRONG
 */
export async function restoreBackup(settings: Settings, file: string, unlock: BackupUnlock, options: RestoreOptions): Promise<Restored> {
  const signer = await checkWhole(file, unlock); // before anything is touched
  checkSigner(signer, unlock, options.signer);
  const folder = await openDataFolder(settings.dataFolder);
  const own = settings.databaseUrl === null;
  const server = own ? await startPrivateMariadb({ folder: folder.path, say: () => undefined }) : null;
  const database = openDatabase(server?.url ?? settings.databaseUrl?.reveal() ?? '', 4, settings.databaseNodes, { statementMs: MIGRATION_LIMIT_MS });
  try {
    return await restoreInto(database, { settings, file, unlock, folder, isPrivate: own, signer, options });
  } finally {
    await database.close();
    await server?.stop();
    await folder.release();
  }
}

async function restoreInto(
  database: Database,
  {
    settings,
    file,
    unlock,
    folder,
    isPrivate,
    signer,
    options: { formerIsGone, isPractice = false, publicUrl },
  }: {
    settings: Settings;
    file: string;
    unlock: BackupUnlock;
    folder: { path: string };
    isPrivate: boolean;
    signer: string | null;
    options: RestoreOptions;
  },
): Promise<Restored> {
  const target = restoreStore(database);
  await target.makeEmpty();
  const me = newRecordId(Date.now(), randomBytes(16));
  let manifest: z.output<typeof Manifest> | null = null;
  let rows = 0;
  const kept: z.output<typeof Part>[] = [];
  for await (const object of objectsOf(file, unlock)) {
    if (manifest === null) {
      manifest = readManifest(object);
      await target.makeSchema(manifest.migrations, me);
      continue;
    }
    const part = Part.safeParse(object);
    if (!part.success) continue; // the end
    rows += part.data.rows.length;
    // The installation's row comes last: until it is there, the database counts as empty.
    if (part.data.table === 'installations') kept.push(part.data);
    else await target.insert(part.data);
  }
  if (manifest === null) throw new Fault('BACKUP_UNREADABLE', { detail: 'It holds nothing.', remedy: 'Use another backup.' });
  const backedUp = masterKey(Buffer.from(manifest.master_key, 'base64'));
  const master = await targetKey(settings, folder, isPrivate, backedUp);
  await migrate(database, me); // what a newer version added
  for (const part of kept) await target.insert(part);
  const store = openStore(database);
  const why = `Restored from the backup of ${manifest.made_at} (${manifest.public_url}). ${isPractice ? 'It is for practice: it calls nobody.' : manifest.move ? 'It goes on when that installation has stopped and transferred its newest tokens.' : 'This copy stays on hold, and that installation goes on, until someone runs `rk installation own` here.'}`;
  const fingerprint = await store.installation.fingerprint();
  await becomeRestored(database, {
    restore: randomUUID(),
    formerUrl: manifest.public_url,
    why,
    fingerprint,
    isOwned: formerIsGone && !isPractice,
    moves: manifest.move && !isPractice,
    isPractice,
  });
  const ports = { clock: { now: () => Date.now() }, random: { unit: Math.random, bytes: (count: number) => new Uint8Array(randomBytes(count)) } };
  // Where this installation has a master key of its own, the data keys are re-wrapped under it.
  const { sealer } = await openSealer({ store, master, former: backedUp, ports: ports as never });
  await sealer.stop();
  if (publicUrl !== undefined) await store.installation.change({ publicUrl });
  return {
    ...{
      madeAt: manifest.made_at,
      version: manifest.version,
      rows,
      formerUrl: manifest.public_url,
      masterKey: master.name,
      isHeld: !formerIsGone || isPractice,
      moves: manifest.move && !isPractice,
      hasResults: manifest.results,
      isPractice,
      signer,
    },
    ...{ publicUrl: publicUrl ?? manifest.public_url, isUrlFromBackup: publicUrl === undefined },
  };
}

/** A private installation takes over the backup's master key; another one has its own. */
async function targetKey(settings: Settings, folder: { path: string }, isPrivate: boolean, backedUp: MasterKey): Promise<MasterKey> {
  const isGiven = settings.masterKey !== null || settings.masterKeyCommand !== null || settings.masterKeyShares.length > 0;
  if (isPrivate && !isGiven && !existsSync(join(folder.path, 'master.key'))) writeKeyFile(folder, backedUp.bytes);
  return chooseMasterKey(settings, folder, isPrivate);
}

function readManifest(object: unknown): z.output<typeof Manifest> {
  const read = Manifest.safeParse(object);
  if (read.success && read.data.format === 'rusty-kettle-backup/1') return read.data;
  throw new Fault('BACKUP_UNREADABLE', {
    detail: 'Its form is not one that this version knows.',
    remedy: 'Restore with the version that made it, or a later one.',
  });
}

/** Reads all of it once, so that a wrong passphrase, a damaged or a cut file changes nothing. */
async function checkWhole(file: string, unlock: BackupUnlock): Promise<string | null> {
  let [rows, stated] = [0, -1];
  let signed: BackupSignature | undefined;
  for await (const object of objectsOf(file, unlock)) {
    const part = Part.safeParse(object);
    if (part.success) rows += part.data.rows.length;
    const end = End.safeParse(object);
    if (end.success) [stated, signed] = [end.data.rows, end.data.signed];
  }
  if (rows !== stated) throw new Fault('BACKUP_UNREADABLE', { detail: `It states ${stated} rows and holds ${rows}.`, remedy: 'Use another backup.' });
  if (signed === undefined) return null;
  const signer = verifiedSigner(await digestBeforeLast(file), signed);
  if (signer === null)
    throw new Fault('BACKUP_UNREADABLE', { detail: 'Its signature is not good: lines were changed or replaced.', remedy: 'Use another backup.' });
  return signer;
}

/** SHA-256 of all lines but the last. */
async function digestBeforeLast(file: string): Promise<Buffer> {
  const digest = createHash('sha256');
  let before: string | null = null;
  for await (const line of linesOf(file)) {
    if (before !== null) digest.update(`${before}\n`);
    before = line;
  }
  return digest.digest();
}

/**
 * With a passphrase only those who know it can make a backup. For a public key anybody can: its signer must be the one that was expected.
 * @throws {Fault} BACKUP_UNREADABLE
 */
function checkSigner(signer: string | null, unlock: BackupUnlock, expected: string | undefined): void {
  if (expected === 'any' || ('passphrase' in unlock && expected === undefined)) return;
  const remedy = 'Give the fingerprint that `rk backup plan` of the original shows: --signer FINGERPRINT. If you trust the file all the same: --signer any.';
  if (signer === null) throw new Fault('BACKUP_UNREADABLE', { detail: 'It is not signed: anybody with the public key can have made it.', remedy });
  if (expected === undefined)
    throw new Fault('BACKUP_UNREADABLE', { detail: `It was signed by ${signer}. Nobody has said whether that is the original.`, remedy });
  if (expected !== signer)
    throw new Fault('BACKUP_UNREADABLE', { detail: `It was signed by ${signer}, not by ${expected}.`, remedy: 'Do not restore it: find out who made it.' });
}

async function* linesOf(file: string): AsyncGenerator<string> {
  const stream = createReadStream(file, { encoding: 'utf8' });
  const failed = new Promise<never>((_, reject) =>
    stream.once('error', () => reject(new Fault('BACKUP_UNREADABLE', { detail: `The file ${file} cannot be read.`, remedy: 'Check the path.' }))),
  );
  failed.catch(() => undefined); // it is awaited below, or the stream ends well
  await Promise.race([new Promise((resolve) => stream.once('open', resolve)), failed]);
  for await (const line of createInterface({ input: stream, crlfDelay: Number.POSITIVE_INFINITY })) if (line !== '') yield line;
}

async function* objectsOf(file: string, unlock: BackupUnlock): AsyncGenerator<unknown> {
  let reader: BackupReader | null = null;
  for await (const line of linesOf(file)) {
    if (reader === null) {
      reader = await backupReader(line, unlock);
      continue;
    }
    const text = (await unzipped(await reader.line(line), { maxOutputLength: MAX_LINE })).toString('utf8');
    for (const object of text.split('\n')) if (object !== '') yield JSON.parse(object);
  }
  if (reader === null) throw new Fault('BACKUP_UNREADABLE', { detail: 'The file is empty.', remedy: 'Name a file that `rk backup` wrote.' });
  reader.end();
}

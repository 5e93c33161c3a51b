import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { combine } from 'shamir-secret-sharing';
import { parse } from 'shell-quote';
import { Fault } from '../core/fault.ts';
import { type MasterKey, masterKey } from '../core/sealing/master-key.ts';
import type { DataFolder } from './database/index.ts';
import type { Settings } from './settings.ts';

const COMMAND_MS = 30_000;
const KEY_BYTES = 32;

/** Base64 of 32 bytes, as a file or a program gives it. @throws {Fault} SETTING_INVALID */
const fromText = (text: string): MasterKey => masterKey(Buffer.from(text.trim(), 'base64'));

/** From a program, such as a client of a key service; it has the environment of the service, and a deadline. @throws {Fault} SETTING_INVALID */
function fromCommand(command: string): MasterKey {
  const [program, ...args] = parse(command).filter((part): part is string => typeof part === 'string');
  const wrong = (detail: string, cause?: unknown) =>
    new Fault('SETTING_INVALID', { cause, detail: `RUSTY_KETTLE_MASTER_KEY_COMMAND ${detail}`, remedy: 'It must print 32 bytes in base64 within 30 seconds.' });
  if (!program) throw wrong('names no program.');
  let printed: string;
  try {
    printed = execFileSync(program, args, { timeout: COMMAND_MS, encoding: 'utf8', stdio: ['ignore', 'pipe', 'inherit'], maxBuffer: 65_536 });
  } catch (error) {
    const { status, code } = error as { status?: number | null; code?: string };
    throw wrong(`failed: ${code ?? `it ended with ${status ?? 'a signal'}`}.`); // its cause might hold what it printed
  }
  if (Buffer.from(printed.trim(), 'base64').length !== KEY_BYTES) throw wrong('did not print 32 bytes in base64.');
  return fromText(printed);
}

/** From shares that people hold (Shamir's scheme); any of them that are enough. @throws {Fault} SETTING_INVALID */
async function fromShares(files: readonly string[]): Promise<MasterKey> {
  const shares = files.map((path) => {
    try {
      return new Uint8Array(Buffer.from(readFileSync(path, 'utf8').trim(), 'base64'));
    } catch (cause) {
      throw new Fault('SETTING_INVALID', { cause, detail: `RUSTY_KETTLE_MASTER_KEY_SHARES names ${path}, which cannot be read.` });
    }
  });
  try {
    return masterKey(await combine(shares));
  } catch (cause) {
    if (cause instanceof Fault) throw cause;
    throw new Fault('SETTING_INVALID', {
      detail: 'RUSTY_KETTLE_MASTER_KEY_SHARES: these files are no shares of one key.',
      remedy: 'Give each share once, at least as many as were said to be needed when the key was split.',
    });
  }
}

/** The master key, from whichever setting gives it. Generated automatically only together with a private database, beside it and not inside its folder. */
export async function chooseMasterKey(settings: Settings, folder: Pick<DataFolder, 'path'>, privateDatabase: boolean): Promise<MasterKey> {
  if (settings.masterKey) return fromText(settings.masterKey.reveal());
  if (settings.masterKeyCommand !== null) return fromCommand(settings.masterKeyCommand);
  if (settings.masterKeyShares.length > 0) return fromShares(settings.masterKeyShares);
  if (!privateDatabase)
    throw new Fault('SETTING_INVALID', {
      detail: 'With a database of your own, the master key must be given too.',
      remedy: 'Set RUSTY_KETTLE_MASTER_KEY_FILE to a file with 32 random bytes in base64: `openssl rand -base64 32`.',
    });
  const path = join(folder.path, 'master.key');
  if (!existsSync(path)) {
    if (existsSync(join(folder.path, 'master.key.made')))
      throw new Fault('MASTER_KEY_WRONG', {
        detail: `The master key file ${path} is gone.`,
        remedy: 'Put it back from your backup: without it, what is sealed stays sealed.',
      });
    writeKeyFile(folder, randomBytes(KEY_BYTES));
  }
  return fromText(readFileSync(path, 'utf8'));
}

/** Beside a private database. */
export function writeKeyFile(folder: Pick<DataFolder, 'path'>, bytes: Uint8Array): void {
  writeFileSync(join(folder.path, 'master.key'), Buffer.from(bytes).toString('base64'), { mode: 0o600, flag: 'wx' });
  writeFileSync(join(folder.path, 'master.key.made'), 'A master key was made here; keep a copy of it away from this machine.\n');
}

/** The key before this one, while it is being changed; null: none is given. */
export const formerMasterKey = (settings: Pick<Settings, 'formerMasterKey'>): MasterKey | null =>
  settings.formerMasterKey === null ? null : fromText(settings.formerMasterKey.reveal());

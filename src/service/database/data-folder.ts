import { randomBytes } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createConnection, createServer, type Server } from 'node:net';
import { join } from 'node:path';
import { Fault } from '../../core/fault.ts';
import { newRecordId } from '../../core/identifiers.ts';

/** The folder of one replica: its instance id, the socket that proves who owns it, and what a private database needs. */
export interface DataFolder {
  path: string;
  instanceId: string;
  release(): Promise<void>;
}

/** Opens the data folder and takes it: whoever holds its socket owns it. @throws {Fault} FOLDER_OWNED */
export async function openDataFolder(path: string): Promise<DataFolder> {
  mkdirSync(path, { recursive: true, mode: 0o755 });
  chmodSync(path, 0o711); // the user `mysql` must pass through to the private database's own folder
  const socket = join(path, 'replica.sock');
  if (socket.length > 100)
    throw new Fault('SETTING_INVALID', {
      detail: `The data folder's path is too long for a Unix socket: ${path}`,
      remedy: 'Choose a shorter one with RUSTY_KETTLE_DATA_FOLDER.',
    });
  const lock = await takeFolder(path);
  const server = await takeSocket(socket).catch(async (error: unknown) => {
    await closed(lock);
    throw error;
  });
  const idFile = join(path, 'instance-id');
  if (!existsSync(idFile)) writeFileSync(idFile, newRecordId(Date.now(), randomBytes(16)));
  return {
    path,
    instanceId: readFileSync(idFile, 'utf8').trim(),
    release: async () => {
      await closed(server);
      await closed(lock);
    },
  };
}

const closed = (server: Server | null): Promise<void> => new Promise((resolve) => (server ? server.close(() => resolve()) : resolve()));

/**
 * A name in the kernel's abstract socket namespace, made of the folder's device and inode: only one process can hold it, and it goes with that
 * process. So two that start at once over a dead owner's socket file never both own the folder. Null: no such namespace here, and the socket
 * file alone decides. @throws {Fault} FOLDER_OWNED
 */
async function takeFolder(path: string): Promise<Server | null> {
  if (process.platform !== 'linux') return null;
  const { dev, ino } = statSync(path);
  const server = createServer((connection) => connection.destroy());
  const error = await new Promise<NodeJS.ErrnoException | null>((resolve) => {
    server.once('error', resolve);
    server.listen(`\0rusty-kettle/${dev}-${ino}`, () => resolve(null));
  });
  if (!error) return server.unref();
  if (error.code === 'EADDRINUSE') throw new Fault('FOLDER_OWNED', { detail: path });
  return null; // not allowed here: the socket file decides
}

async function takeSocket(path: string): Promise<Server> {
  for (let attempt = 0; attempt < 2; attempt += 1) {
    const server = createServer((connection) => connection.destroy());
    const error = await new Promise<NodeJS.ErrnoException | null>((resolve) => {
      server.once('error', resolve);
      server.listen(path, () => resolve(null));
    });
    if (!error) return server.unref();
    if (error.code !== 'EADDRINUSE') throw new Fault('SETTING_INVALID', { detail: `The data folder cannot be used (${error.code ?? 'unknown'}): ${path}` });
    if (await isAlive(path)) break;
    rmSync(path, { force: true }); // its owner is dead: a connect was rejected
  }
  throw new Fault('FOLDER_OWNED', { detail: path });
}

const isAlive = (path: string): Promise<boolean> =>
  new Promise((resolve) => {
    const probe = createConnection(path);
    probe.once('connect', () => {
      probe.destroy();
      resolve(true);
    });
    probe.once('error', () => resolve(false));
  });

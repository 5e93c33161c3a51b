import { randomBytes } from 'node:crypto';
import { openDatabase } from '../src/service/store/database.ts';

/** An empty database of its own on a server. */
export async function newDatabaseOn(serverUrl: string): Promise<string> {
  const server = new URL(serverUrl);
  const name = `rusty_kettle_${randomBytes(6).toString('hex')}`;
  const database = openDatabase(server.href, 2);
  await database.run(`CREATE DATABASE ${name} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`);
  await database.close();
  server.pathname = `/${name}`;
  return server.href;
}

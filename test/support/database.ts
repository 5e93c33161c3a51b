import { chmodSync, mkdtempSync, rmSync, statfsSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { TestProject } from 'vitest/node';
import { startPrivateMariadb } from '../../src/service/database/private-mariadb.ts';
import { buildTestPrograms } from '../../testing/test-programs.ts';

declare module 'vitest' {
  interface ProvidedContext {
    databaseServer: string;
  }
}

const IN_MEMORY = '/dev/shm';
const ROOM_BYTES = 6e9;
/** In memory a database of its own takes a third of the time; what a disk loses with its machine no test here looks at. */
function base(): string {
  try {
    const { bavail, bsize } = statfsSync(IN_MEMORY);
    return bavail * bsize > ROOM_BYTES ? IN_MEMORY : tmpdir();
  } catch {
    return tmpdir();
  }
}

/** One MariaDB for all test files, each of which takes a database of its own on it; and the programs that some of them start. */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  buildTestPrograms();
  const folder = mkdtempSync(join(base(), 'rk-db-'));
  chmodSync(folder, 0o711);
  const server = await startPrivateMariadb({ folder });
  project.provide('databaseServer', server.url);
  return async () => {
    await server.stop();
    rmSync(folder, { recursive: true, force: true });
  };
}

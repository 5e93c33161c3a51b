import { chmodSync, mkdtempSync, rmSync } from 'node:fs';
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

/** One MariaDB for all test files, each of which takes a database of its own on it; and the programs that some of them start. */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  buildTestPrograms();
  const folder = mkdtempSync(join(tmpdir(), 'rk-db-'));
  chmodSync(folder, 0o711);
  const server = await startPrivateMariadb({ folder });
  project.provide('databaseServer', server.url);
  return async () => {
    await server.stop();
    rmSync(folder, { recursive: true, force: true });
  };
}

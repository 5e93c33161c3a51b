import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

/** The folder for what child processes covered (V8); `npm test` sets it, a single test run does not. */
const FOLDER = process.env.RK_CHILD_COVERAGE;

/** What a child process needs in its environment to write what it covered, when it exits. */
export const coverageEnvironment = (): Record<string, string> => (FOLDER ? { NODE_V8_COVERAGE: FOLDER } : {});

interface Written {
  result: { url: string }[];
}

/** Keeps of what an exited process wrote only our own files: packages make up nine tenths of it. A killed process wrote nothing. */
export function keepOwnCoverage(pid: number | undefined): void {
  if (!FOLDER) return;
  for (const name of readdirSync(FOLDER).filter((file) => file.startsWith(`coverage-${pid}-`))) {
    const path = join(FOLDER, name);
    const { result } = JSON.parse(readFileSync(path, 'utf8')) as Written;
    writeFileSync(path, JSON.stringify({ result: result.filter(({ url }) => url.includes('/dist/') && !url.includes('/node_modules/')) }));
  }
}

import { spawn } from 'node:child_process';
import { constants } from 'node:fs';
import { access } from 'node:fs/promises';
import { join } from 'node:path';

const DEADLINE_MS = 30_000;

/**
 * Starts a program of the folder with an event on its standard input. It gets no more of the environment than PATH, and counts as done when
 * it ends with 0.
 * @param script its file name, without a folder
 */
export async function runScript(folder: string, script: string, event: Record<string, unknown>): Promise<{ done: boolean; says: string }> {
  const path = join(folder, script);
  const isThere = await access(path, constants.X_OK).then(
    () => true,
    () => false,
  );
  if (!isThere) return { done: false, says: `The program ${script} does not exist, or may not be run.` };
  return new Promise((resolve) => {
    const child = spawn(path, [], {
      cwd: folder,
      env: { PATH: process.env.PATH ?? '' },
      stdio: ['pipe', 'ignore', 'ignore'],
      timeout: DEADLINE_MS,
      killSignal: 'SIGKILL',
    });
    child.on('error', (error: NodeJS.ErrnoException) => resolve({ done: false, says: `The program ${script} did not start (${error.code ?? 'unknown'}).` }));
    child.on('close', (code, signal) => {
      if (code === 0) resolve({ done: true, says: `The program ${script} ended with 0.` });
      else resolve({ done: false, says: signal ? `The program ${script} took longer than 30 s.` : `The program ${script} ended with ${code}.` });
    });
    child.stdin.on('error', () => undefined); // it may end without reading: its exit code counts
    child.stdin.end(JSON.stringify(event));
  });
}

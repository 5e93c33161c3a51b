import { spawnSync } from 'node:child_process';
import { fileURLToPath } from 'node:url';

const at = (path: string): string => fileURLToPath(new URL(`../${path}`, import.meta.url));

/** Builds the services with weak points, where something changed. Before tests start them. */
export function buildTestPrograms(): void {
  const { status, stderr } = spawnSync(process.execPath, [at('scripts/test-programs.mjs')], { encoding: 'utf8' });
  if (status !== 0) throw new Error(`The test programs could not be built:\n${stderr}`);
}

/** What `node` runs for one of them, before its own arguments. */
export const testProgram = (name: 'killed' | 'killed-run' | 'broken' | 'soaked'): string[] => [at(`dist/test-programs/${name}.js`)];

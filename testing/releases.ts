import { execFileSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';

/** An earlier version of this product, as this repository's history has it. */
export interface Release {
  name: string;
  commit: string;
  /** Where its helpers for a service under test are. */
  helpers: string;
}

export const RELEASES: readonly [Release, ...Release[]] = [
  { name: '0.6.0', commit: 'b5cc6af', helpers: 'test/support/service.ts' },
  { name: 'previous', commit: 'd48edd0', helpers: 'testing/service.ts' },
];

const repository = fileURLToPath(new URL('..', import.meta.url));

/** Its folder, built: the one that is given as `NAME=FOLDER`, else made from the history. @param into where it is made */
export function builtRelease({ name, commit }: Release, given: readonly string[], into: string): string {
  const known = given.find((one) => one.startsWith(`${name}=`));
  const folder = known?.slice(name.length + 1) ?? join(into, 'release');
  if (existsSync(join(folder, 'dist', 'cli', 'main.js'))) return folder;
  process.stdout.write(`Building ${name}…\n`);
  const run = (command: string, args: string[], cwd: string): void => void execFileSync(command, args, { cwd, stdio: ['ignore', 'ignore', 'inherit'] });
  run('git', ['clone', '--quiet', repository, folder], repository);
  run('git', ['checkout', '--quiet', commit], folder);
  run('npm', ['ci', '--silent', '--no-audit', '--no-fund'], folder);
  run('npm', ['run', '--silent', 'build'], folder);
  return folder;
}

/** A module of a release: its set-up speaks its own API, as its operators did. */
export const fromRelease = async <T>(folder: string, path: string): Promise<T> => (await import(pathToFileURL(join(folder, path)).href)) as T;

import { execFileSync } from 'node:child_process';
import { cpSync, existsSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs';
import { basename, join } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';

/** An earlier version of this product, as this repository's history has it. */
export interface Release {
  name: string;
  commit: string;
}

/** The last development version before the baseline of 1.0. */
export const RELEASES: readonly [Release, ...Release[]] = [{ name: 'previous', commit: '95d3a79' }];

export const REPOSITORY = fileURLToPath(new URL('..', import.meta.url));
const isBuilt = (folder: string): boolean => existsSync(join(folder, 'dist', 'cli', 'main.js'));
const run = (command: string, args: string[], cwd: string): void => void execFileSync(command, args, { cwd, stdio: ['ignore', 'ignore', 'inherit'] });

/** Its folder, built: the one that is given as `NAME=FOLDER`, else made from the history. @param into where it is made */
export function builtRelease({ name, commit }: Release, given: readonly string[], into: string): string {
  const known = given.find((one) => one.startsWith(`${name}=`));
  const folder = known?.slice(name.length + 1) ?? join(into, 'release');
  if (isBuilt(folder)) return folder;
  process.stdout.write(`Building ${name}…\n`);
  run('git', ['clone', '--quiet', REPOSITORY, folder], REPOSITORY);
  run('git', ['checkout', '--quiet', commit], folder);
  run('npm', ['ci', '--silent', '--no-audit', '--no-fund'], folder);
  run('npm', ['run', '--silent', 'build'], folder);
  return folder;
}

const NOT_COPIED = new Set(['node_modules', 'dist', '.git']);
const MIGRATIONS = 'src/service/store/migrations/index.ts';
const ONE_MORE = `  ['9999-one-more', 'ALTER TABLE providers ADD COLUMN IF NOT EXISTS one_more TINYINT NULL'],\n];\n`;

/** This working tree as the version after it would be: with one migration more, built. @param into where it is made */
export function builtWithOneMigrationMore(into: string): string {
  const folder = join(into, 'newer');
  process.stdout.write('Building this version with one migration more…\n');
  cpSync(REPOSITORY, folder, { recursive: true, filter: (path) => !NOT_COPIED.has(basename(path)) });
  symlinkSync(join(REPOSITORY, 'node_modules'), join(folder, 'node_modules'));
  const text = readFileSync(join(folder, MIGRATIONS), 'utf8');
  if (!text.endsWith('];\n')) throw new Error(`${MIGRATIONS} does not end with the list of migrations.`);
  writeFileSync(join(folder, MIGRATIONS), text.replace(/\];\n$/, ONE_MORE));
  run('npm', ['run', '--silent', 'build'], folder);
  return folder;
}

/** A module of a release: its set-up speaks its own API, as its operators did. */
export const fromRelease = async <T>(folder: string, path: string): Promise<T> => (await import(pathToFileURL(join(folder, path)).href)) as T;

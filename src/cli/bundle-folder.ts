import { existsSync, lstatSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { parse, stringify } from 'yaml';
import { filled } from '../api/bundle-variables.ts';
import { UsageError } from './exit.ts';

interface File {
  path: string;
  text: string;
}
export type Variables = Record<string, string>;

const HEAD = 'rusty-kettle.yaml';
const FOLDERS = ['providers', 'clients', 'connections', 'callers', 'jobs'];

/** The files that a bundle has: what a service sends under another name is written nowhere. */
const MEMBER = new RegExp(`^(?:${HEAD.replace('.', '\\.')}|(?:${FOLDERS.join('|')})/[A-Za-z0-9][A-Za-z0-9._@=-]*\\.ya?ml)$`);

/** A link may lead out of the bundle: it is neither read through nor written through. @throws {UsageError} */
function refuseLink(path: string): void {
  if (lstatSync(path, { throwIfNoEntry: false })?.isSymbolicLink())
    throw new UsageError(`${path} is a link. A bundle holds plain files and folders: replace it with what it leads to.`);
}

/** A file with names and values. @throws {UsageError} */
export function readVariables(file: string | undefined): Variables {
  if (file === undefined) return {};
  let read: unknown;
  try {
    read = parse(readFileSync(file, 'utf8')) ?? {};
  } catch (error) {
    throw new UsageError(`${file} cannot be read as YAML: ${error instanceof Error ? (error.message.split('\n')[0] ?? '') : ''}`);
  }
  if (typeof read !== 'object' || Array.isArray(read)) throw new UsageError(`${file} must have a name and a value in each line, such as REGION: north.`);
  return Object.fromEntries(Object.entries(read as object).map(([name, value]) => [name, String(value)]));
}

/** All files of a bundle. @throws {UsageError} where the folder is none */
export function readFolder(folder: string): File[] {
  if (!existsSync(join(folder, HEAD))) throw new UsageError(`${folder} is not a bundle: it has no ${HEAD}. Make one with \`rk bundle export ${folder}\`.`);
  refuseLink(join(folder, HEAD));
  const files: File[] = [{ path: HEAD, text: readFileSync(join(folder, HEAD), 'utf8') }];
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    if (entry.name.startsWith('.')) continue; // what version control keeps is its own
    const at = join(folder, entry.name);
    if (FOLDERS.includes(entry.name)) refuseLink(at);
    if (!entry.isDirectory()) continue;
    for (const name of readdirSync(at).sort())
      if (/\.ya?ml$/.test(name)) {
        refuseLink(join(at, name));
        files.push({ path: `${entry.name}/${name}`, text: readFileSync(join(at, name), 'utf8') });
      }
  }
  return files;
}

/** Keeps `${NAME}` where a file has it and its value is what the installation has. */
function withVariables(text: string, former: string, variables: Variables): string {
  const keep = (now: unknown, before: unknown): unknown => {
    // A variable of the checkout's own in place of a secret: its value is nobody's to compare here.
    if (typeof now === 'string' && typeof before === 'string' && /\$\{SECRET_/.test(now) && /\$\{/.test(before)) return before;
    if (typeof now === 'string' && typeof before === 'string' && before !== now)
      return filled(before, variables).document === filled(now, {}).document ? before : now;
    if (Array.isArray(now) && Array.isArray(before)) return now.map((one, at) => keep(one, before[at]));
    if (typeof now === 'object' && now !== null && typeof before === 'object' && before !== null)
      return Object.fromEntries(
        Object.entries(now).map(([key, one]) => [key, keep(one, Object.hasOwn(before, key) ? (before as Record<string, unknown>)[key] : undefined)]),
      );
    return now;
  };
  try {
    const now: unknown = parse(text);
    const kept = keep(now, parse(former));
    return JSON.stringify(kept) === JSON.stringify(now) ? text : stringify(kept, { lineWidth: 160 });
  } catch {
    return text; // the former file was not YAML
  }
}

/** Writes them, and removes files of objects that are gone. @returns how many were written, and removed */
export function writeFolder(folder: string, files: readonly File[], variables: Variables): { written: number; removed: number } {
  const isBundle = existsSync(join(folder, HEAD));
  if (!isBundle && existsSync(folder) && readdirSync(folder).some((name) => !name.startsWith('.')))
    throw new UsageError(`${folder} has other files in it. Name a new folder, or one that holds a bundle.`);
  const foreign = files.find(({ path }) => !MEMBER.test(path));
  if (foreign) throw new UsageError(`The service sent a file that no bundle has: ${JSON.stringify(foreign.path.slice(0, 100))}. Nothing was written.`);
  for (const path of [...FOLDERS, ...files.map((one) => one.path)]) refuseLink(join(folder, path));
  let [written, removed] = [0, 0];
  for (const { path, text } of files) {
    const to = join(folder, path);
    mkdirSync(dirname(to), { recursive: true });
    const former = existsSync(to) ? readFileSync(to, 'utf8') : null;
    const next = path === HEAD && former !== null ? former : former === null ? text : withVariables(text, former, variables);
    if (next === former) continue;
    writeFileSync(to, next);
    written += 1;
  }
  const present = new Set(files.map((one) => one.path));
  for (const name of FOLDERS) {
    const at = join(folder, name);
    if (!existsSync(at)) continue;
    for (const file of readdirSync(at))
      if (/\.ya?ml$/.test(file) && !present.has(`${name}/${file}`)) {
        rmSync(join(at, file));
        removed += 1;
      }
  }
  return { written, removed };
}

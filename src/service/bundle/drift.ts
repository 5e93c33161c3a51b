import { readdir, readFile } from 'node:fs/promises';
import { join } from 'node:path';
import { counted } from '../../core/counted.ts';
import { compareFiles } from './importing.ts';
import type { BundleParts } from './parts.ts';

const MAX_FILES = 20_000;
const VARIABLES = 'variables.yaml';

async function filesOf(folder: string): Promise<{ path: string; text: string }[]> {
  const found: { path: string; text: string }[] = [];
  const take = async (path: string): Promise<void> => {
    if (/\.ya?ml$/.test(path) && found.length < MAX_FILES) found.push({ path, text: await readFile(join(folder, path), 'utf8') });
  };
  for (const entry of await readdir(folder, { withFileTypes: true })) {
    if (entry.name.startsWith('.')) continue;
    if (!entry.isDirectory()) await take(entry.name);
    else for (const name of await readdir(join(folder, entry.name))) await take(`${entry.name}/${name}`);
  }
  return found;
}

/** How the installation differs from a folder, in a sentence. A folder that cannot be read is a difference too. */
export async function driftFrom(s: BundleParts, folder: string): Promise<{ count: number; says: string }> {
  let files: { path: string; text: string }[];
  try {
    files = await filesOf(folder);
  } catch (error) {
    return { count: 1, says: `The folder ${folder} cannot be read: ${(error as NodeJS.ErrnoException).code ?? 'unknown'}.` };
  }
  const [values] = await s.documents.read(
    'bundle',
    files.filter((one) => one.path === VARIABLES),
  );
  const given = values && 'document' in values && typeof values.document === 'object' && values.document !== null ? values.document : {};
  const variables = Object.fromEntries(Object.entries(given).map(([name, value]) => [name, String(value)]));
  const { items, problems } = await compareFiles(s, { files: files.filter((one) => one.path !== VARIABLES), variables });
  const differ = items.filter((one) => one.state !== 'same' && one.state !== 'only_here');
  const names = differ.slice(0, 5).map((one) => `${one.kind} ${one.name} (${one.state.replaceAll('_', ' ')})`);
  const more = differ.length > names.length ? ` and ${differ.length - names.length} more` : '';
  const wrong = problems.length > 0 ? ` ${counted(problems.length, 'file')} cannot be imported.` : '';
  return { count: differ.length + problems.length, says: `${names.join(', ')}${more}.${wrong}`.trim() };
}

import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';

/** One hash over files and folders below `root`, for "did anything change?". Tests do not count. */
export function hashOf(root, paths) {
  const hash = createHash('sha256');
  const add = (path) => {
    if (!existsSync(path) || path.endsWith('.test.ts')) return;
    if (statSync(path).isDirectory()) {
      for (const name of readdirSync(path).sort()) add(join(path, name));
      return;
    }
    hash.update(path.slice(root.length)).update(readFileSync(path));
  };
  for (const path of paths) add(join(root, path));
  return hash.digest('hex');
}

/** Runs `work` unless the stamp says that it was done for these very inputs. */
export async function unlessDone(root, stamp, inputs, work) {
  const path = join(root, stamp);
  const hash = hashOf(root, inputs);
  if (existsSync(path) && readFileSync(path, 'utf8') === hash) return;
  await work();
  mkdirSync(dirname(path), { recursive: true });
  writeFileSync(path, hash);
}

import { spawnSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { alternate } from './alternate.ts';
import type { Measured } from './rig.ts';

const ROOT = new URL('..', import.meta.url).pathname;
const ROUNDS = 21;
const time = (args: string[]): number => {
  const startedAt = performance.now();
  spawnSync(process.execPath, args, { stdio: 'ignore' });
  return performance.now() - startedAt;
};

/** Start of `rk --help` beside a Node.js that does nothing, in turns. */
export async function benchStartup(): Promise<Measured[]> {
  const compared = await alternate({
    what: 'start of rk --help',
    ours: async () => time([join(ROOT, 'dist/cli/main.js'), '--help']),
    theirs: async () => time(['-e', '0']),
    slices: ROUNDS,
    warmUp: 2,
  });
  return [
    {
      key: 'start',
      what: 'start of rk --help',
      ours: `${Math.round(compared.ours)} ms`,
      against: `node -e 0: ${Math.round(compared.theirs)} ms`,
      ratio: compared,
      target: '\u2264 1.6 \u00d7',
      holds: compared.ratio <= 1.6,
    },
  ];
}

interface Built {
  file: string;
  isEntry?: boolean;
  imports?: string[];
  dynamicImports?: string[];
}

/** What a browser loads to show the console for the first time, gzipped, at the page that needs most of it. The other pages come afterwards. */
export async function benchConsole(): Promise<Measured[]> {
  const folder = join(ROOT, 'dist/console');
  const built = JSON.parse(readFileSync(join(folder, '.vite/manifest.json'), 'utf8')) as Record<string, Built>;
  const needed = (name: string, known = new Set<string>()): Set<string> => {
    if (known.has(name)) return known;
    known.add(name);
    for (const other of built[name]?.imports ?? []) needed(other, known);
    return known;
  };
  const packed = (names: Iterable<string>): number =>
    [...names].reduce((sum, name) => sum + gzipSync(readFileSync(join(folder, built[name]?.file ?? ''))).length, 0);
  const [entry = ''] = Object.keys(built).filter((name) => built[name]?.isEntry);
  const pages = built[entry]?.dynamicImports ?? [];
  const sizes = { js: Math.max(...[entry, ...pages].map((page) => packed(needed(page, needed(entry))))), css: 0, fonts: 0 };
  for (const file of readdirSync(join(folder, 'assets'))) {
    const bytes = readFileSync(join(folder, 'assets', file));
    if (file.endsWith('.css')) sizes.css += gzipSync(bytes).length;
    else if (/-latin-(?!ext).*\.woff2$/.test(file)) sizes.fonts += bytes.length; // the browser fetches the script it needs; these are packed already
  }
  const kb = (bytes: number) => Math.round(bytes / 1000);
  const all = sizes.js + sizes.css + sizes.fonts;
  return [
    {
      key: 'console',
      what: 'console, first load, gzipped',
      ours: `${kb(sizes.js)} kB JavaScript, ${kb(all)} kB with CSS and fonts`,
      against: '\u2013',
      ratio: null,
      target: '\u2264 150 kB, \u2264 250 kB',
      holds: sizes.js <= 150_000 && all <= 250_000,
    },
  ];
}

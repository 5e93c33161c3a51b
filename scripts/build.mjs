// Builds dist/: service, `rk` and stand-ins as a bundle, the console by Vite. Skipped where nothing changed.
import { spawnSync } from 'node:child_process';
import { chmodSync, existsSync, mkdirSync, rmSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { bundle } from './bundle.mjs';
import { unlessDone } from './hash.mjs';
import { writeHelp } from './help.mjs';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const dist = join(root, 'dist');

function run(bin, args) {
  const done = spawnSync(process.execPath, [join(root, 'node_modules', bin), ...args], { cwd: root, stdio: ['ignore', 'inherit', 'inherit'] });
  if (done.status !== 0) process.exit(1);
}

const INPUTS = [
  'src',
  'package.json',
  'tsconfig.json',
  'vite.config.ts',
  'svelte.config.js',
  'scripts/build.mjs',
  'scripts/bundle.mjs',
  'scripts/help.mjs',
  'docs',
];
await unlessDone(root, 'dist/.stamp', INPUTS, async () => {
  process.stderr.write('Building\u2026\n');
  rmSync(dist, { recursive: true, force: true });
  mkdirSync(dist);
  await bundle(
    root,
    {
      'cli/main': 'src/cli/main.ts',
      'rehearsal/program': 'src/rehearsal/program.ts',
      'service/workers/documents-worker': 'src/service/workers/documents-worker.ts',
      'service/workers/hashing-worker': 'src/service/workers/hashing-worker.ts',
      'service/workers/writing-worker': 'src/service/workers/writing-worker.ts',
    },
    dist,
  );
  if (existsSync(join(root, 'src/console/index.html'))) run('vite/bin/vite.js', ['build', '--logLevel', 'warn']);
  writeHelp(root, join(dist, 'console/help'));
  chmodSync(join(dist, 'cli/main.js'), 0o755);
});

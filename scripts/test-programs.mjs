// Bundles the services with weak points that tests start by the dozen, so that each starts as quickly as the product. Skipped where nothing changed.
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { bundle } from './bundle.mjs';
import { unlessDone } from './hash.mjs';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const PROGRAMS = {
  killed: 'test/killpoints/serve.ts',
  'killed-run': 'test/killpoints/serve-run.ts',
  broken: 'test/support/serve-broken.ts',
  soaked: 'test/soak/serve.ts',
};
const INPUTS = ['src', 'test/killpoints', 'test/support', 'test/soak', 'testing', 'package.json', 'scripts/bundle.mjs', 'scripts/test-programs.mjs'];
await unlessDone(root, 'dist/.test-programs', INPUTS, () =>
  bundle(root, Object.fromEntries(Object.entries(PROGRAMS).map(([name, file]) => [`test-programs/${name}`, file])), join(root, 'dist')),
);

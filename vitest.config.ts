import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vitest/config';
import LongestFirst from './test/support/longest-first.ts';

export default defineConfig({
  // The state classes of the console have runes.
  plugins: [svelte({ configFile: false })],
  test: {
    // Bounds, not measures: a starved machine takes several times as long.
    testTimeout: 240_000,
    hookTimeout: 240_000,
    // Two cores; a third of the time a service test waits for its processes.
    maxWorkers: 3,
    maxConcurrency: 2,
    sequence: { sequencer: LongestFirst },
    projects: [
      { extends: true, test: { name: 'services', include: ['test/**/*.test.ts'], globalSetup: ['test/support/database.ts'] } },
      // Modules are loaded once for many files, which takes half the time: nothing in them is kept from test to test.
      { extends: true, test: { name: 'units', include: ['src/**/*.test.ts'], isolate: false, unstubGlobals: true } },
    ],
  },
});

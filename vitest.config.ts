import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vitest/config';
import LongestFirst from './test/support/longest-first.ts';

export default defineConfig({
  // The state classes of the console have runes.
  plugins: [svelte({ configFile: false })],
  test: {
    include: ['src/**/*.test.ts', 'test/**/*.test.ts'],
    globalSetup: ['test/support/database.ts'],
    // Bounds, not measures: a starved machine takes several times as long.
    testTimeout: 120_000,
    hookTimeout: 120_000,
    // Two cores; a third of the time a service test waits for its processes.
    maxWorkers: 3,
    maxConcurrency: 2,
    // Modules are loaded once in a worker, which saves two seconds for each file. They keep nothing from test to test.
    isolate: false,
    unstubGlobals: true,
    sequence: { sequencer: LongestFirst },
  },
});

import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    include: ['src/**/*.test.ts', 'test/**/*.test.ts'],
    globalSetup: ['test/support/database.ts'],
    testTimeout: 60_000,
    hookTimeout: 120_000,
    // Two cores; each service test starts processes of its own.
    maxWorkers: 2,
  },
});

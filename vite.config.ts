import { fileURLToPath } from 'node:url';
import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig, type Plugin } from 'vite';
import { operations } from './src/api/operations.ts';

/** The console needs method and path of each operation; the schemas are the service's, and would be half of what a browser loads. */
function withoutSchemas(): Plugin {
  const table = fileURLToPath(new URL('src/api/operations.ts', import.meta.url));
  const short = Object.fromEntries(Object.entries(operations).map(([name, { method, path }]) => [name, { method, path }]));
  return {
    name: 'operations-without-schemas',
    enforce: 'pre',
    load: (id) => (id === table ? `export const operations = ${JSON.stringify(short)};` : null),
  };
}

export default defineConfig({
  root: 'src/console',
  base: '/',
  plugins: [withoutSchemas(), tailwindcss(), svelte({ configFile: false })],
  build: { outDir: '../../dist/console', emptyOutDir: true, target: 'es2022', assetsInlineLimit: 0, manifest: true },
});

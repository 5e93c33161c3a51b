import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  root: 'src/console',
  base: '/',
  plugins: [tailwindcss(), svelte({ configFile: false })],
  build: { outDir: '../../dist/console', emptyOutDir: true, target: 'es2022', assetsInlineLimit: 0, manifest: true },
});

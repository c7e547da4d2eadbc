import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';
import { viteSingleFile } from 'vite-plugin-singlefile';

/** The page of a load run, as one file beside the console. */
export default defineConfig({
  plugins: [tailwindcss(), svelte(), viteSingleFile()],
  build: {
    target: 'es2023',
    emptyOutDir: false,
    copyPublicDir: false,
    rollupOptions: { input: 'report.html' },
  },
});

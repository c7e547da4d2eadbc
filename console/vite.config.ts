import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  build: {
    target: 'es2023',
    // The service's content security policy allows no inline styles or scripts.
    assetsInlineLimit: 0,
  },
  server: {
    // `npm run dev` beside a running service.
    proxy: { '/v1': 'http://127.0.0.1:8750' },
  },
});

import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  build: {
    outDir: 'dist',
    target: 'es2022',
    rolldownOptions: { input: ['index.html', 'handover.html'], checks: { pluginTimings: false } },
  },
  server: { host: '127.0.0.1', strictPort: true, proxy: { '/api': { target: 'https://127.0.0.1:8460', secure: false } } },
});

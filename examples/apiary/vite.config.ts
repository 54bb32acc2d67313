import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  root: new URL('./web', import.meta.url).pathname,
  plugins: [react()],
  resolve: { conditions: ['warm-lintel-source', 'module', 'browser', 'import', 'default'] },
  build: { outDir: '../dist', emptyOutDir: true, chunkSizeWarningLimit: 1500 },
});

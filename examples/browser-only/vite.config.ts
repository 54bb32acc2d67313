import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  root: new URL('.', import.meta.url).pathname,
  // Any directory of any host will do: there is no server behind it.
  base: './',
  plugins: [react()],
  resolve: { conditions: ['warm-lintel-source', 'module', 'browser', 'import', 'default'] },
  optimizeDeps: { exclude: ['@electric-sql/pglite'] },
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 1500, target: 'es2022', rolldownOptions: { checks: { eval: false } } },
});

/* Runs tests with one thing changed in the sources: files and their text are in the environment, and so is the server. */
import { defineConfig } from 'vitest/config';

const conditions = ['warm-lintel-source', 'node'];
const planted: Record<string, string> = JSON.parse(process.env.LINTEL_PLANTED ?? '{}');

export default defineConfig({
  resolve: { conditions },
  ssr: { resolve: { conditions } },
  plugins: [
    {
      name: 'planted',
      enforce: 'pre',
      load: (id) => Object.entries(planted).find(([file]) => id.endsWith(`/src/${file}`))?.[1],
    },
  ],
  test: {
    include: ['test/**/*.test.ts'],
    setupFiles: ['test/seed.ts'],
    globalSetup: ['test/planted-setup.ts'],
    testTimeout: 120_000,
    hookTimeout: 120_000,
    maxWorkers: 1,
    bail: 1,
  },
});

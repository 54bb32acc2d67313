/* The tests over sources without some guards: LINTEL_WITHOUT names them. One of the tests has to fail. */
import { relative } from 'node:path';
import { defineConfig } from 'vitest/config';
import { SOURCES, withoutGuards } from '../properties/harness/guards.js';
import all from './vitest.config.js';

const names = new Set((process.env.LINTEL_WITHOUT ?? '').split(',').filter((name) => name !== ''));

export default defineConfig({
  ...all,
  plugins: [
    {
      name: 'without-guards',
      enforce: 'pre',
      transform: (text, id) => (id.startsWith(SOURCES) && /\.tsx?$/.test(id) ? withoutGuards(relative(SOURCES, id), text, names) : undefined),
    },
  ],
  test: { ...all.test, globalSetup: ['test/planted-setup.ts'], setupFiles: ['test/seed.ts', 'properties/harness/replacements.ts'], bail: 1, maxWorkers: 1 },
});

import { defineConfig } from 'vitest/config';
import { LongestFirst } from './longest-first.js';

const conditions = ['warm-lintel-source', 'node'];
const shared = { resolve: { conditions }, ssr: { resolve: { conditions } } };
const drawn = process.env.LINTEL_LONG && !process.env.LINTEL_SEED ? Math.floor(Math.random() * 1_000_000_000) : undefined;
if (drawn) console.log(`Properties draw from LINTEL_SEED=${drawn}.`);

export default defineConfig({
  ...shared,
  test: {
    env: { LINTEL_SEED: process.env.LINTEL_SEED ?? String(drawn ?? 7) },
    setupFiles: ['test/seed.ts'],
    include: ['test/**/*.test.ts'],
    exclude: process.env.LINTEL_LONG ? [] : ['test/**/*.long.test.ts'],
    globalSetup: ['test/setup.ts'],
    // No test waits so long for anything: a machine that is busy with other things may take it.
    testTimeout: 120_000,
    hookTimeout: 120_000,
    sequence: { sequencer: LongestFirst },
    // On two cores: while a browser is waited for, the other two have work.
    maxWorkers: 3,
    // What a file imports is read once for all: no test changes a module, and each has databases of its own.
    isolate: false,
    maxConcurrency: 2,
  },
});

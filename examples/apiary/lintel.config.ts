import { defineConfig } from 'warm-lintel/cli';
import { charter } from './world/charter.js';
import { embeddedWorld } from './world/embedded.js';

/** A world of its own in memory: what a running demo holds is not touched. */
export default defineConfig({
  charter,
  database: () => embeddedWorld((line) => process.stderr.write(`${line}\n`)),
  // Loaded only where it is tried: the other commands need no server.
  probe: async (db) => (await import('./server/probed.js')).probed(db),
});

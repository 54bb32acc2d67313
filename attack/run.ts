/* Tries to come to more than one was given: `npm run attack -- --runs 10000 --seed 7`; with --as-found a counterexample is not made smaller. */
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { runOptions } from '../test/run-options.js';
import { databaseOn } from '../test/setup.js';
import { attack } from './attack.js';
import { makeWorld } from './world.js';

const { count: runs, seed, server, has, stop } = await runOptions('attack', 'runs', 1000, ['as-found']);
const pool = new pg.Pool({ connectionString: await databaseOn(server), max: 2 });
pool.on('error', () => {});
const db = connect<any>(pool);
let failed = true;
try {
  await makeWorld(db);
  const report = await attack(db, runs, seed, {
    shrink: !has('as-found'),
    progress: (done) => {
      if (done % 500 === 0) console.error(`  ${done} runs`);
    },
  });
  failed = false;
  console.log(`${runs} runs, nobody came to more: ${report.done} changes were carried out, ${report.refused} refused`);
} catch (error) {
  console.log(error instanceof Error ? [error.message, error.cause instanceof Error ? error.cause.stack : ''].join('\n') : String(error));
}
await pool.end();
await stop();
process.exit(failed ? 1 : 0);

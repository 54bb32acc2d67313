/* Tries to come to more than one was given: `npm run attack -- --runs 10000 --seed 7`. */
import { parseArgs } from 'node:util';
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { databaseOn, startPostgres } from '../test/setup.js';
import { attack } from './attack.js';
import { makeWorld } from './world.js';

const { values } = parseArgs({
  options: {
    runs: { type: 'string', default: '1000' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000) },
    /** A server to do it on, in a database of its own there. */
    postgres: { type: 'string' },
    /** Do not make a counterexample smaller. */
    'as-found': { type: 'boolean', default: false },
  },
});
const [runs, seed] = [Number(values.runs), Number(values.seed)];
if (!Number.isInteger(runs) || runs < 1 || !Number.isInteger(seed)) {
  console.error('--runs and --seed are whole numbers: npm run attack -- --runs 1000 --seed 7');
  process.exit(2);
}
const cluster = values.postgres === undefined ? await startPostgres() : undefined;
const pool = new pg.Pool({ connectionString: await databaseOn(cluster?.url ?? (values.postgres as string)), max: 2 });
pool.on('error', () => {});
const db = connect<any>(pool);
let failed = true;
try {
  await makeWorld(db);
  const report = await attack(db, runs, seed, {
    shrink: !values['as-found'],
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
await cluster?.stop();
process.exit(failed ? 1 : 0);

/* Compares generated charters, data and standings over every engine: `npm run agree -- --cases 1000 --seed 7`. */
import { parseArgs } from 'node:util';
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { databaseOn, startPostgres } from '../test/setup.js';
import { agree } from './compare.js';
import { type Engine, openEngine, openPglite, openSqlite, withPolicies } from './engines.js';

const { values } = parseArgs({
  options: {
    cases: { type: 'string', default: '1000' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000) },
    /** A server to compare with, in a database of its own there; then PGlite is left out. */
    postgres: { type: 'string' },
    /** Do not make a counterexample smaller. */
    'as-found': { type: 'boolean', default: false },
  },
});
const [cases, seed] = [Number(values.cases), Number(values.seed)];
if (!Number.isInteger(cases) || cases < 1 || !Number.isInteger(seed)) {
  console.error('--cases and --seed are whole numbers: npm run agree -- --cases 1000 --seed 7');
  process.exit(2);
}

const cluster = values.postgres === undefined ? await startPostgres() : undefined;
// A connection keeps the plans of functions that are gone: after some cases a fresh one.
const pool = new pg.Pool({ connectionString: await databaseOn(cluster?.url ?? (values.postgres as string)), max: 5, maxUses: 20 });
pool.on('error', () => {});
const postgres: Engine = { ...(await openEngine('PostgreSQL', connect<any>(pool))), races: true };
const pglite = cluster ? [await openPglite()] : [];
const engines = [...pglite, postgres, await openSqlite(postgres.membership), await withPolicies(postgres)];
console.error(`Comparing memory with ${engines.map((e) => e.name).join(', ')}: ${cases} cases, seed ${seed}`);
const started = Date.now();
const report = await agree(engines, cases, seed, {
  shrink: !values['as-found'],
  progress: (done) => {
    if (done % 500 === 0) console.error(`  ${done} cases, ${Math.round((Date.now() - started) / 1000)} s`);
  },
});
if (report.counterexample !== undefined) console.log(report.counterexample);
console.error(
  `${report.telling} of them showed the person some records and hid others; ${report.untaken} times a database did not take the charter over its columns; ${report.raced} pairs of writes raced`,
);
console.log(report.counterexample === undefined ? `${report.cases} cases, 0 disagreements` : `a disagreement within ${cases} cases, seed ${seed}`);
await pool.end();
await cluster?.stop();
process.exit(report.counterexample === undefined ? 0 : 1);

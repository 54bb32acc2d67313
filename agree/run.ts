/* Compares generated charters, data and standings over every engine: `npm run agree -- --cases 1000 --seed 7`. */
import { randomBytes } from 'node:crypto';
import { parseArgs } from 'node:util';
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { startPostgres } from '../test/setup.js';
import { agree } from './compare.js';
import { openEngine, openPglite, openSqlite, withPolicies } from './engines.js';

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

async function databaseOn(url: string): Promise<pg.Pool> {
  const name = `agree_${randomBytes(6).toString('hex')}`;
  const admin = new pg.Client(`${url}/postgres`);
  await admin.connect();
  await admin.query(`create database ${name}`);
  await admin.end();
  const pool = new pg.Pool({ connectionString: `${url}/${name}`, max: 2 });
  pool.on('error', () => {});
  return pool;
}

const cluster = values.postgres === undefined ? await startPostgres() : undefined;
const pool = await databaseOn(cluster?.url ?? (values.postgres as string));
const postgres = await openEngine('PostgreSQL', connect<any>(pool));
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
console.error(`${report.telling} of them showed the person some records and hid others`);
console.log(report.counterexample === undefined ? `${report.cases} cases, 0 disagreements` : `a disagreement within ${cases} cases, seed ${seed}`);
await pool.end();
await cluster?.stop();
process.exit(report.counterexample === undefined ? 0 : 1);

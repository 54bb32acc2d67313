/*
 * Compares generated charters, data and standings over every engine: `npm run agree -- --cases 1000 --seed 7`; with --as-found a counterexample is not made smaller, with --mariadb a MariaDB is among them, and PGlite and
 * the row policies are left out.
 * On a server that is given PGlite is left out.
 */
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { startMariaDb } from '../test/mariadb.js';
import { runOptions } from '../test/run-options.js';
import { databaseOn } from '../test/setup.js';
import { agree } from './compare.js';
import { type Engine, openEngine, openMariaDb, openPglite, openSqlite, withPolicies } from './engines.js';

const { count: cases, seed, server, isGiven, has, stop } = await runOptions('agree', 'cases', 1000, ['as-found', 'mariadb']);
// A connection keeps the plans of functions that are gone: after some cases a fresh one.
const pool = new pg.Pool({ connectionString: await databaseOn(server), max: 5, maxUses: 20 });
pool.on('error', () => {});
// Beside a MariaDB one connection sees many cases, whose tables are not the same: nothing is prepared for them.
const postgres: Engine = { ...(await openEngine('PostgreSQL', connect<any>(pool, has('mariadb') ? false : 'auto'))), races: true };
const sqlite = await openSqlite(postgres.membership);
const mariaDb = has('mariadb') ? await startMariaDb() : undefined;
const engines = mariaDb
  ? [postgres, sqlite, await openMariaDb(postgres.membership, await mariaDb.open())]
  : [...(isGiven ? [] : [await openPglite()]), postgres, sqlite, await withPolicies(postgres)];
console.error(`Comparing memory with ${engines.map((e) => e.name).join(', ')}: ${cases} cases, seed ${seed}`);
const started = Date.now();
const report = await agree(engines, cases, seed, {
  shrink: !has('as-found'),
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
await mariaDb?.stop();
await stop();
process.exit(report.counterexample === undefined ? 0 : 1);

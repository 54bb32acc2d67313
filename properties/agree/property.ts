/* One rule, every engine: drawn charters, data, standings and writes come out the same in memory, on every database, and under row policies. */
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { databaseOn } from '../../test/setup.js';
import type { Property } from '../harness/property.js';
import type { Servers } from '../harness/servers.js';
import { compareCase, linesOfCase } from './compare.js';
import { type Engine, openEngine, openMariaDb, openPglite, openSqlite, sweep, withPolicies } from './engines.js';
import { type Case, type Draw, generated } from './generate.js';
import { race } from './races.js';
import { typed } from './typed.js';

const SWEPT_AFTER = 20;
/** To put policies up for good takes longer than the races under them. */
const RACED_UNDER_POLICIES = 5;

async function openEngines(servers: Servers, variant: string): Promise<Engine[]> {
  // A connection keeps the plans of functions that are gone: after some cases a fresh one.
  const pool = new pg.Pool({ connectionString: await databaseOn(await servers.postgres()), max: 5, maxUses: 20 });
  pool.on('error', () => {});
  // Beside a MariaDB one connection sees many cases, whose tables are not the same: nothing is prepared for them.
  const isBesideMariaDb = variant === 'mariadb';
  const postgres: Engine = { ...(await openEngine('PostgreSQL', connect<any>(pool, isBesideMariaDb ? false : 'auto'))), races: true };
  const sqlite = await openSqlite(postgres.membership);
  if (isBesideMariaDb) return [postgres, sqlite, await openMariaDb(postgres.membership, await (await servers.mariaDb()).open())];
  const all = [postgres, sqlite, await withPolicies(postgres)];
  return variant === 'pglite' ? [await openPglite(), ...all] : all;
}

export const agree: Property<Case> = {
  name: 'agree',
  holds: 'Memory and every database agree on what is seen, what may be done, and what a write comes to.',
  variants: ['postgres', 'pglite', 'mariadb'],
  volume: { usual: 250, long: { postgres: 1250, pglite: 1250, mariadb: 1250 }, guard: 150 },
  open: async (servers, variant) => {
    const engines = await openEngines(servers, variant);
    const tally = { telling: 0, untaken: 0, raced: 0 };
    let done = 0;
    const judge = async (drawn: Case): Promise<string | undefined> => {
      const compared = await compareCase(engines, drawn);
      tally.telling += compared.telling;
      tally.untaken += compared.untaken;
      done += 1;
      if (done % SWEPT_AFTER === 0) for (const engine of engines) await sweep(engine);
      if (compared.draw) return [...compared.found.slice(0, 6), linesOfCase(drawn, compared.draw)].join('\n');
      for (const engine of engines) {
        if (!engine.races || (engine.policies && done % RACED_UNDER_POLICIES !== 0)) continue;
        const { raced, found } = await race(engine, drawn);
        tally.raced += raced;
        if (found.length > 0) return [...found.slice(0, 6), linesOfCase(drawn, typed(drawn).draws[0] as Draw)].join('\n');
      }
      return undefined;
    };
    return {
      cases: generated,
      judge,
      tally: () => tally,
      close: async () => {
        for (const { records } of engines) await records.destroy();
      },
    };
  },
};

/* Queries of all shapes over two databases that differ in what one person may not see: none answers differently, by rows, counts or errors. */
import { Kysely, SqliteDialect } from 'kysely';
import Database from 'libsql';
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { emptyPglite } from '../../test/pglite.js';
import { databaseOn } from '../../test/setup.js';
import type { Property } from '../harness/property.js';
import type { Servers } from '../harness/servers.js';
import { tapes } from '../harness/tape.js';
import { type Outcome, PairOfWorlds } from './queries.js';
import { makeWorld, type World } from './world.js';

type Tape = readonly number[];

async function onPostgres(servers: Servers): Promise<Kysely<any>> {
  const pool = new pg.Pool({ connectionString: await databaseOn(await servers.postgres()), max: 2 });
  pool.on('error', () => {});
  return connect<any>(pool);
}

/** Makes one of the two worlds; where a planner can look at the values beforehand, also one in which it did. */
const OPENS: Readonly<Record<string, (servers: Servers, isSecond: boolean, analyzed: boolean) => Promise<World>>> = {
  postgres: async (servers, isSecond, analyzed) => makeWorld(await onPostgres(servers), isSecond, { analyzed }),
  pglite: async (_servers, isSecond) => makeWorld(connect<any>(await emptyPglite()), isSecond),
  sqlite: async (servers, isSecond) => {
    const records = new Kysely<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) });
    return makeWorld(records, isSecond, { membership: await onPostgres(servers) });
  },
  mariadb: async (servers, isSecond) => {
    const records = await (await servers.mariaDb()).open({ connectionLimit: 2 });
    return makeWorld(records, isSecond, { membership: await onPostgres(servers) });
  },
};

export const queries: Property<Tape> = {
  name: 'queries',
  holds: 'No query of any shape answers differently where only what is out of reach differs.',
  variants: ['postgres', 'pglite', 'sqlite', 'mariadb'],
  volume: { usual: 10_000, long: { postgres: 100_000, pglite: 10_000, sqlite: 20_000, mariadb: 20_000 }, guard: 2000 },
  open: async (servers, variant) => {
    const open = OPENS[variant] as (typeof OPENS)[string];
    const both = (analyzed: boolean) => Promise.all([open(servers, false, analyzed), open(servers, true, analyzed)]);
    const pair = new PairOfWorlds(await both(false), variant === 'postgres' ? await both(true) : undefined);
    const tally: Record<Outcome, number> = { answered: 0, empty: 0, refused: 0, error: 0 };
    return {
      cases: tapes(300),
      judge: async (tape) => {
        const { outcome, told } = await pair.compare(tape);
        tally[outcome] += 1;
        return told;
      },
      tally: () => tally,
      close: () => pair.close(),
    };
  },
};

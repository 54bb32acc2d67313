/* The databases in which the two worlds are. */
import { PGlite } from '@electric-sql/pglite';
import { Kysely, SqliteDialect } from 'kysely';
import Database from 'libsql';
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import type { MariaDb } from '../test/mariadb.js';
import { databaseOn } from '../test/setup.js';
import { type Pair, pair } from './queries.js';
import { makeWorld } from './world.js';

export type EngineName = 'postgres' | 'pglite' | 'sqlite' | 'mariadb';

async function onServer(server: string): Promise<Kysely<any>> {
  const pool = new pg.Pool({ connectionString: await databaseOn(server), max: 2 });
  pool.on('error', () => {});
  return connect<any>(pool);
}

/** @param server a PostgreSQL, where the membership of those is that have none. */
export function openPair(engine: EngineName, server: string, mariaDb?: MariaDb): Promise<Pair> {
  if (engine === 'postgres') return pair('PostgreSQL', async (second, analyzed) => makeWorld(await onServer(server), second, { analyzed }), true);
  if (engine === 'pglite') return pair('PGlite', async (second) => makeWorld(connect<any>(new PGlite()), second));
  if (engine === 'mariadb')
    return pair('MariaDB', async (second) =>
      makeWorld(await (mariaDb as MariaDb).open({ connectionLimit: 2 }), second, { membership: await onServer(server) }),
    );
  return pair('SQLite', async (second) => {
    const records = new Kysely<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) });
    return makeWorld(records, second, { membership: await onServer(server) });
  });
}

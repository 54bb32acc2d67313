import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { inject } from 'vitest';
import type { TypesIn } from 'warm-lintel';
import { connect, createLintel, type Lintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { embeddedWorld } from '../examples/apiary/world/embedded.js';
import { seed } from '../examples/apiary/world/seed.js';
import { databaseOn } from './setup.js';

export type Apiary = Lintel<TypesIn<typeof charter>>;

const WORLD = 'apiary_world';
/** The demo's world is built once a run; whoever wants one gets a copy. */
let built: Promise<void> | undefined;
async function buildWorld(): Promise<void> {
  const server = inject('postgres');
  const admin = new pg.Client(`${server}/postgres`);
  await admin.connect();
  // The other worker may be at it.
  await admin.query('select pg_advisory_lock(1)');
  const { rows } = await admin.query('select 1 from pg_database where datname = $1', [WORLD]);
  if (rows.length === 0) {
    await admin.query(`create database ${WORLD}_begun`);
    const db = connect<any>(new pg.Pool({ connectionString: `${server}/${WORLD}_begun` }));
    await seed(db);
    await db.destroy();
    await admin.query(`alter database ${WORLD}_begun rename to ${WORLD}`);
  }
  await admin.end();
}

/** An empty database of its own on the throw-away PostgreSQL, over a real pool. */
export async function emptyPostgres(connections = 8): Promise<{ db: Kysely<any>; pool: pg.Pool; url: string }> {
  const url = await databaseOn(inject('postgres'));
  const pool = new pg.Pool({ connectionString: url, max: connections });
  return { db: connect<any>(pool), pool, url };
}

type Options = Partial<Parameters<typeof createLintel>[0]>;

/** The demo's world on PostgreSQL. */
export async function apiaryOnPostgres(options: Options = {}): Promise<{ lintel: Apiary; db: Kysely<any>; pool: pg.Pool; url: string }> {
  built ??= buildWorld();
  await built;
  const url = await databaseOn(inject('postgres'), WORLD);
  const pool = new pg.Pool({ connectionString: url, max: 8 });
  const db = connect<any>(pool);
  return { lintel: createLintel({ ...options, charter, db } as never) as unknown as Apiary, db, pool, url };
}

/** The demo's world on the embedded database. */
export async function apiaryOnPglite(options: Options = {}): Promise<{ lintel: Apiary; db: Kysely<any> }> {
  const db = connect<any>(await embeddedWorld());
  return { lintel: createLintel({ ...options, charter, db } as never) as unknown as Apiary, db };
}

/** A mark of all that is in these tables. */
export async function digestOf(db: Kysely<any>, tables: readonly string[]): Promise<string> {
  const marks = tables.map((table) => `(select md5(coalesce(string_agg(t::text, '|' order by t::text), '')) from ${table} t)`);
  return (await sql.raw<{ all: string }>(`select ${marks.join(" || ' ' || ")} as all`).execute(db)).rows[0]?.all as string;
}

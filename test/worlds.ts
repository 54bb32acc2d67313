import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { inject } from 'vitest';
import { readCharter, type TypesIn } from 'warm-lintel';
import { connect, createLintel, type Lintel, policyStatements } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { embeddedWorld } from '../examples/apiary/world/embedded.js';
import { seed } from '../examples/apiary/world/seed.js';
import { databaseOn } from './setup.js';

export type Apiary = Lintel<TypesIn<typeof charter>>;

const WORLD = 'apiary_world';
/** Templates that this worker knows to be there. */
const built = new Map<string, Promise<string>>();

/** The name of a database that is made once a run: whoever wants one gets a copy of it. */
function template(name: string, from: string, fill: (db: Kysely<any>) => Promise<unknown>): Promise<string> {
  const isBuilt = built.get(name) ?? build(name, from, fill);
  built.set(name, isBuilt);
  return isBuilt;
}

async function build(name: string, from: string, fill: (db: Kysely<any>) => Promise<unknown>): Promise<string> {
  const server = inject('postgres');
  const admin = new pg.Client(`${server}/postgres`);
  await admin.connect();
  // The other worker may be at it.
  await admin.query('select pg_advisory_lock(1)');
  const { rows } = await admin.query('select 1 from pg_database where datname = $1', [name]);
  if (rows.length === 0) {
    await admin.query(`create database ${name}_begun template ${from}`);
    const db = connect<any>(new pg.Pool({ connectionString: `${server}/${name}_begun` }));
    await fill(db);
    await db.destroy();
    await admin.query(`alter database ${name}_begun rename to ${name}`);
  }
  await admin.end();
  return name;
}

const world = () => template(WORLD, 'template1', seed);

/** The demo's world under its row policies, for this role. */
const walled = async (role: string) =>
  template(`${WORLD}_${role}`, await world(), async (db) => {
    await sql.raw(`do $$ begin create role ${role} login; exception when duplicate_object then null; end $$`).execute(db);
    for (const statement of policyStatements(charter as never, { role })) await sql.raw(statement).execute(db);
  });

/** The library's own tables, and nothing else. */
const prepared = () => template('lintel_prepared', 'template1', (db) => createLintel({ charter: readCharter({ kinds: {} }), db }).prepare());

/** A database of its own on the throw-away PostgreSQL, over a real pool, in which `prepare` has nothing left to do. */
export async function emptyPostgres(connections = 8): Promise<{ db: Kysely<any>; pool: pg.Pool; url: string }> {
  return onPostgres(await prepared(), connections);
}

/** The same with nothing in it at all. */
export const barePostgres = (connections = 8) => onPostgres('template1', connections);

async function onPostgres(of: string, connections: number): Promise<{ db: Kysely<any>; pool: pg.Pool; url: string }> {
  const url = await databaseOn(inject('postgres'), of);
  const pool = new pg.Pool({ connectionString: url, max: connections });
  return { db: connect<any>(pool), pool, url };
}

type Options = Partial<Parameters<typeof createLintel>[0]>;

/** The demo's world on PostgreSQL; under its row policies where a role is named. */
export async function apiaryOnPostgres(options: Options = {}, role?: string): Promise<{ lintel: Apiary; db: Kysely<any>; pool: pg.Pool; url: string }> {
  const url = await databaseOn(inject('postgres'), await (role === undefined ? world() : walled(role)));
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

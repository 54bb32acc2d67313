/* The schema can be distributed by tenant as it is: keys begin with the tenant, nothing points across, and it works on tables that are. */
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { expect, test } from 'vitest';
import { connect, createLintel, type Lintel } from 'warm-lintel/server';
import { charter as apiary } from '../examples/apiary/world/charter.js';
import { type AttackReport, attackFrom } from '../properties/attack/attack.js';
import { start } from '../properties/attack/moves.js';
import { charter, makeWorld, TENANT } from '../properties/attack/world.js';
import { testLong } from './long.js';
import { apiaryOnPostgres, barePostgres } from './worlds.js';

/** Keyed by person, or the same everywhere: the platform's own. */
const PLATFORM = [
  'lintel_person',
  'lintel_person_tenant',
  'lintel_charter',
  'lintel_mailed',
  'lintel_brought',
  'lintel_migration',
  'lintel_credential',
  'lintel_session',
  'lintel_device',
  'lintel_factor',
  'lintel_recovery_code',
  'lintel_passkey',
  'lintel_challenge',
  'lintel_try',
  'lintel_sign_in',
  'lintel_accepted',
  'lintel_link',
  'lintel_address_proof',
  'lintel_address_held',
  'lintel_erased',
  'lintel_secret',
  'lintel_domain_holder',
  'lintel_used',
];

async function keysOf(db: Kysely<any>) {
  const { rows } = await sql<{ table: string; unique: boolean; columns: string[] }>`
    select c.relname as table, i.indisunique as unique, array(select a.attname::text from unnest(i.indkey) with ordinality k (n, o) join pg_attribute a on a.attrelid = c.oid and a.attnum = k.n order by o) as columns
    from pg_index i join pg_class c on c.oid = i.indrelid where c.relname like 'lintel\_%' and c.relkind in ('r', 'p') and c.relispartition = false`.execute(
    db,
  );
  return rows;
}

test('keys of a tenant’s tables begin with the tenant, and no foreign key crosses tenants', async () => {
  const { db } = await apiaryOnPostgres();
  const keys = (await keysOf(db)).filter(({ table, unique }) => unique && !PLATFORM.includes(table));
  expect(keys.length).toBeGreaterThan(14);
  for (const { table, columns } of keys) expect([table, columns[0]]).toEqual([table, table === 'lintel_tenant' ? 'id' : 'tenant_id']);
  const { rows } = await sql<{ from: string; to: string; definition: string }>`
    select c.conrelid::regclass::text as from, c.confrelid::regclass::text as to, pg_get_constraintdef(c.oid) as definition
    from pg_constraint c where c.contype = 'f' and c.conrelid::regclass::text like 'lintel\_%'`.execute(db);
  for (const { from, to, definition } of rows) {
    if (PLATFORM.includes(from)) continue;
    expect([from, to, PLATFORM.includes(to)]).toEqual([from, to, false]);
    expect([
      definition,
      /^FOREIGN KEY \(tenant_id(, \w+)?\) REFERENCES lintel_tenant\(id\)|^FOREIGN KEY \(tenant_id, .+\) REFERENCES \w+\(tenant_id, /.test(definition),
    ]).toEqual([definition, true]);
  }
  expect(Object.keys(apiary.shapes).length).toBeGreaterThan(0);
  await db.destroy();
});

testLong('it works on tables that are partitioned by a hash of the tenant', { timeout: 300_000 }, async () => {
  const { url, pool: unused } = await barePostgres();
  await unused.end();
  const pool = new pg.Pool({ connectionString: url, max: 4 });
  const parted = new Set<string>();
  /** Each table of a tenant is made in four parts. */
  const query = async (client: pg.PoolClient, text: string, values: unknown[]) => {
    const table = /^create table (lintel_\w+) \(/.exec(text)?.[1];
    if (table === undefined || PLATFORM.includes(table) || !/\btenant_id\b|lintel_tenant \(/.test(text)) return client.query(text, values);
    const made = await client.query(`${text} partition by hash (${table === 'lintel_tenant' ? 'id' : 'tenant_id'})`);
    for (let i = 0; i < 4; i++) await client.query(`create table ${table}_${i} partition of ${table} for values with (modulus 4, remainder ${i})`);
    parted.add(table);
    return made;
  };
  const connections = {
    connect: async () => {
      const client = await pool.connect();
      return { query: (text: string, values: unknown[]) => query(client, text, values), release: () => client.release() };
    },
    end: () => pool.end(),
  };
  const db = connect<any>(connections as never);
  await makeWorld(db);
  expect(parted.size).toBeGreaterThan(14);
  const report: AttackReport = { done: 0, refused: 0 };
  for (const one of fc.sample(start, { numRuns: 1, seed: 5 })) await attackFrom(db, one, report);
  expect(report.done).toBeGreaterThan(5);
  const lintel = createLintel({ charter, db }) as unknown as Lintel<any>;
  for (const name of ['one', 'two', 'three']) {
    const keyholder = await lintel.addPerson({ name, address: `${name}@parts.example` });
    const tenant = await lintel.openTenant({ name, keyholder });
    await (await lintel.enter({ tenant, user: keyholder })).carryOut([
      { do: 'make-group', id: 'g', name: 'G', people: [keyholder] },
      { do: 'add-unit', id: 'u', name: 'U' },
    ]);
    expect((await (await lintel.enter({ tenant, user: keyholder })).audit.verify()).events).toBe(3);
  }
  const { audit } = await lintel.enter({ tenant: TENANT, user: 'boss' });
  expect((await audit.verify()).broken).toBeUndefined();
  await db.destroy();
});

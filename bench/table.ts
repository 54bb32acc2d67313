/* The access table of many people over many records, against counting by hand. */
import { type Kysely, sql } from 'kysely';
import type pg from 'pg';
import { everythingMet } from 'warm-lintel';
import { accessTable, peopleSubjects } from 'warm-lintel/rehearsal';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { compare, type Result } from './measure.js';

const PEOPLE = 1000;
const RECORDS = 100_000;
const TENANT = 'of-many';

async function fill(db: Kysely<any>): Promise<void> {
  const lintel = createLintel({ charter, db });
  const keyholder = await lintel.addPerson({ id: 'k-0', name: 'Keyholder', address: 'k-0@table.example' });
  await lintel.openTenant({ id: TENANT, name: 'Of many', keyholder });
  for (const statement of [
    `insert into lintel_person (id, name, address, address_written) select 'k-' || i, 'Keeper ' || i, 'k-' || i || '@table.example', 'k-' || i || '@table.example' from generate_series(1, ${PEOPLE - 1}) i`,
    `insert into lintel_member (tenant_id, user_id, status, since) select '${TENANT}', 'k-' || i, 'active', now() from generate_series(1, ${PEOPLE - 1}) i`,
    `insert into lintel_assignment (tenant_id, user_id, role, anchor, anchor_id) select '${TENANT}', 'k-' || i, 'keeper', 'tenant', '${TENANT}' from generate_series(1, ${PEOPLE - 1}) i`,
    `insert into hives (id, tenant_id, keeper_id, made_by, name, status) select 'many-' || i, '${TENANT}', 'k-' || i % ${PEOPLE}, 'k-0', 'Hive', case when i % 10 = 0 then 'archived' else 'active' end from generate_series(1, ${RECORDS}) i`,
    'analyze',
  ])
    await sql.raw(statement).execute(db);
}

export async function tables(db: Kysely<any>, pool: pg.Pool): Promise<Result[]> {
  await fill(db);
  const lintel = createLintel({ charter, db });
  const standings = await Promise.all(
    Array.from({ length: PEOPLE }, (_, i) => lintel.enter({ tenant: TENANT, user: `k-${i}`, fulfilled: everythingMet(charter) })),
  );
  const tenant = (standings[0] as (typeof standings)[number]).facts.tenant;
  const ours = () => accessTable(charter, 'people', peopleSubjects(standings), { tenant, db, only: ['hive'] });
  const [section] = (await ours()).sections;
  const actions = section?.permissions.filter(({ name }) => name !== 'hive.create') ?? [];
  const byHand = async () => {
    for (const _ of actions)
      await pool.query(
        `select keeper_id, count(*) as own, count(*) filter (where status <> 'archived') as lasting, (select count(*) from hives where tenant_id = $1 and keeper_id is null) as unclaimed from hives where tenant_id = $1 group by keeper_id`,
        [TENANT],
      );
  };
  const note = `the table of ${PEOPLE} people over ${RECORDS} records and ${actions.length} actions, against a hand-written statement that counts by person for one action, as often`;
  return [await compare('table-people', note, 2, 7, 1, ours, byHand)];
}

/* Run once, or as often as one likes: the people, workshops and staff that are there already become those of the library, under their ids. */
import type pg from 'pg';
import { createLintel, type IntakeReport } from 'warm-lintel/server';
import { charter } from './charter.js';

export async function takeOver(pool: pg.Pool): Promise<IntakeReport> {
  const lintel = createLintel({ charter, db: pool });
  await lintel.prepare();
  const all = async (sql: string) => (await pool.query(sql)).rows;
  return lintel.intake({
    people: await all('select id, name, email as address from users'),
    tenants: await all('select id, name from workshops'),
    members: await all(`select workshop_id as tenant, user_id as user, array[case role when 'manager' then 'keyholder' else role end] as roles from staff`),
  });
}

/* A record moves away from somebody while a statement of theirs waits for it. */
import { sql } from 'kysely';
import { reset, type World } from './world.js';

const STATEMENTS = [
  `delete from leaves where id = 'cy' returning note`,
  `select note from leaves where id = 'cy' for update`,
  `update leaves set note = note || '!' where id = 'cy' returning note`,
];

/** @returns what was shown or done of a record that was out of reach by then. */
export async function playRaces(world: World): Promise<string | undefined> {
  const { owner, app, lintel } = world;
  const standing = await lintel.enter({ tenant: 't', user: 'ada' });
  const waitsForRow = async () =>
    (await sql`select 1 from pg_stat_activity where query like '%''cy''%' and wait_event_type = 'Lock'`.execute(owner)).rows.length > 0;
  for (const text of STATEMENTS) {
    await reset(world);
    await sql`insert into leaves (id, tenant_id, owner_id, unit_id, note) values ('cy', 't', 'cy', 'near-t', 'before')`.execute(owner);
    const rows = await owner.connection().execute(async (mover) => {
      await sql`begin`.execute(mover);
      await sql`update leaves set unit_id = 'far-t', note = 'afterwards' where id = 'cy'`.execute(mover);
      let settled = false;
      const waiting = standing
        .withPolicies(app, async (tx) => (await sql.raw<any>(text).execute(tx)).rows)
        .catch(() => [])
        .finally(() => {
          settled = true;
        });
      // Until it waits for the record, or does not.
      while (!settled && !(await waitsForRow()));
      await sql`commit`.execute(mover);
      return waiting;
    });
    const { rows: left } = await sql<{ note: string }>`select note from leaves where id = 'cy'`.execute(owner);
    if (rows.length > 0 || left[0]?.note !== 'afterwards') return `told something: ${text} gives ${JSON.stringify(rows)} and leaves ${JSON.stringify(left)}`;
  }
  return undefined;
}

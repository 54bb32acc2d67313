/* Entering, and a guarded route, each against what one would write by hand. */
import type { Hono } from 'hono';
import { type Kysely, sql } from 'kysely';
import type pg from 'pg';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { inviting } from './inviting.js';
import { compare, type Result } from './measure.js';
import { asked, guardedApp, handApp, makeSessions, SESSIONS } from './routes.js';

const DEEP = { tenant: 't7', user: 'p7' };

/** A member with 20 groups, 5 units with others below, and 10 assignments by all ways. */
async function deepen(db: Kysely<any>): Promise<void> {
  const { tenant, user } = DEEP;
  const units = ['a', 'b', 'c', 'd', 'e'];
  for (const statement of [
    sql`insert into lintel_group (tenant_id, id, name) select ${tenant}, 'g' || i, 'Group ' || i from generate_series(1, 20) i`,
    sql`insert into lintel_group_member (tenant_id, group_id, user_id) select ${tenant}, 'g' || i, ${user} from generate_series(1, 20) i`,
    sql`insert into lintel_unit (tenant_id, id, name) select ${tenant}, u || i, 'Unit' from unnest(${units}::text[]) u, generate_series(0, 3) i`,
    sql`insert into lintel_unit_below (tenant_id, above_id, below_id) select ${tenant}, u || i, u || j from unnest(${units}::text[]) u, generate_series(0, 3) i, generate_series(0, 3) j where j >= i`,
    sql`insert into lintel_placement (tenant_id, user_id, unit_id) select ${tenant}, ${user}, u || 0 from unnest(${units}::text[]) u`,
    sql`insert into lintel_assignment (tenant_id, user_id, role, anchor, anchor_id) select ${tenant}, ${user}, 'warden', 'unit', u || 0 from unnest(${units}::text[]) u`,
    sql`insert into lintel_assignment (tenant_id, group_id, role, anchor, anchor_id) select ${tenant}, 'g' || i, 'reader', 'tenant', ${tenant} from generate_series(1, 4) i`,
    sql`analyze`,
  ])
    await statement.execute(db);
}

/** The same rows by one statement. */
const DEEP_JOIN = `with mine as (select $2 as id, 'user' as via union all select group_id, 'group' from lintel_group_member where tenant_id = $1 and user_id = $2
    union all select b.above_id, 'unit' from lintel_placement p join lintel_unit_below b on b.tenant_id = p.tenant_id and b.below_id = p.unit_id where p.tenant_id = $1 and p.user_id = $2)
  select t.name, t.status, t.contact, t.features, p.name as person, m.status as member, m.attributes,
    (select json_agg(json_build_array(a.role, a.anchor, a.anchor_id, u.name)) from mine join lintel_assignment a on a.tenant_id = $1 and a.holder_on = mine.via and a.holder_id = mine.id
      left join lintel_unit u on u.tenant_id = $1 and u.id = a.anchor_id) as held,
    (select json_agg(json_build_array(b.above_id, b.below_id)) from lintel_placement pl join lintel_unit_below b on b.tenant_id = $1 and b.above_id = pl.unit_id where pl.tenant_id = $1 and pl.user_id = $2) as units,
    (select json_agg(g.group_id) from lintel_group_member g where g.tenant_id = $1 and g.user_id = $2) as groups
  from lintel_tenant t join lintel_member m on m.tenant_id = t.id join lintel_person p on p.id = m.user_id where t.id = $1 and m.user_id = $2`;

/** All that a member's rights rest on by one statement: also what groups are called and who is in them, what is below where a role is held, openings and whom they stand in for. */
export const WHOLE = `with g as materialized (select distinct group_id as id from lintel_group_member where tenant_id = $1 and user_id = $2),
    u as materialized (select distinct b.above_id as id from lintel_placement p join lintel_unit_below b on b.tenant_id = $1 and b.below_id = p.unit_id where p.tenant_id = $1 and p.user_id = $2),
    mine as materialized (select $2 as id, 'user' as via union all select id, 'group' from g union all select id, 'unit' from u),
    held as materialized (select a.* from mine join lintel_assignment a on a.tenant_id = $1 and a.holder_on = mine.via and a.holder_id = mine.id and (a.until is null or a.until > now())),
    seen as (select unit_id as id from lintel_placement where tenant_id = $1 and user_id = $2 union select anchor_id from held where anchor = 'unit')
  select t.name, t.status, t.contact, t.features, t.bases, t.demands, p.name as person, p.deactivated_at, m.status as member, m.suspended_until, m.ends_at, m.inactive_by, m.attributes, m.responsible_id,
    (select json_agg(json_build_array(h.holder_on, h.holder_id, h.role, h.permission, h.reach, h.anchor, h.anchor_id, h.until, h.without)) from held h) as held,
    (select json_object_agg(b.id, b.below) from (select s.id, array_agg(b.below_id) as below from seen s join lintel_unit_below b on b.tenant_id = $1 and b.above_id = s.id group by 1) b) as below,
    (select json_object_agg(o.group_id, o.people) from (select o.group_id, array_agg(o.user_id) as people from g join lintel_group_member o on o.tenant_id = $1 and o.group_id = g.id group by 1) o) as people,
    (select json_object_agg(n.id, n.name) from g join lintel_group n on n.tenant_id = $1 and n.id = g.id) as groups,
    (select json_object_agg(n.id, n.name) from (select id from u union select id from seen) s join lintel_unit n on n.tenant_id = $1 and n.id = s.id) as units,
    (select json_agg(json_build_array(o.id, o.kind, o.actions, o.group_id, o.until)) from mine join lintel_opening o on o.tenant_id = $1 and o.to_on = mine.via and o.to_id = mine.id) as opened,
    (select json_agg(json_build_array(d.of_id, d.permissions, d.since, d.until)) from lintel_deputy d where d.tenant_id = $1 and d.to_id = $2 and d.until > now()) as stands_for
  from lintel_tenant t join lintel_member m on m.tenant_id = t.id join lintel_person p on p.id = m.user_id where t.id = $1 and m.user_id = $2`;

async function entering(db: Kysely<any>, pool: pg.Pool): Promise<Result[]> {
  await deepen(db);
  const [lintel, cached] = [createLintel({ charter, db }), createLintel({ charter, db, cache: { seconds: 1 } })];
  const { facts } = await lintel.enter(DEEP);
  if (facts.me.groupIds.length !== 20 || facts.me.unitIds.length !== 5 || facts.assignments.length !== 10) throw new Error('the member is not as deep as said');
  const byHand = (name: string, text: string) => () => pool.query({ name, text, values: [DEEP.tenant, DEEP.user] });
  return [
    await compare(
      'enter-deep',
      'a member with 20 groups, 5 units and 10 assignments, against one hand-written statement, both prepared',
      2.3,
      60,
      40,
      () => lintel.enter(DEEP),
      byHand('deep', DEEP_JOIN),
    ),
    await compare(
      'enter-deep-floor',
      'one hand-written statement for all that the rights of that member rest on, against the one for most of it',
      undefined,
      60,
      40,
      byHand('whole', WHOLE),
      byHand('deep', DEEP_JOIN),
    ),
    await compare(
      'enter-cached',
      'lintel.enter with the cache, against lintel.enter without',
      0.1,
      60,
      40,
      () => cached.enter(DEEP),
      () => lintel.enter(DEEP),
    ),
  ];
}

/** A route that shows one hive to whoever may read it: guarded, and by hand. */
async function checking(db: Kysely<any>, pool: pg.Pool): Promise<Result> {
  await makeSessions(db);
  const [guarded, hand] = [guardedApp(db, pool), handApp(pool)];
  let turn = 0;
  const request = () => {
    turn = (turn + 7919) % SESSIONS;
    const { path, cookie } = asked(turn);
    return new Request(`http://bench.example${path}`, { headers: { cookie } });
  };
  const ask = async (app: Hono<any>) => {
    const response = await app.fetch(request());
    if (response.status !== 200) throw new Error(`answered ${response.status}: ${await response.text()}`);
    await response.json();
  };
  const sixtyFour = (app: Hono<any>) => () =>
    Promise.all(
      Array.from({ length: 16 }, async () => {
        for (let i = 0; i < 4; i++) await ask(app);
      }),
    );
  return compare(
    'http-check',
    '64 requests, 16 at a time, to a guarded route that loads its record, against the same Hono route with session, membership and record by hand (0.8 of its requests a second)',
    1.25,
    60,
    1,
    sixtyFour(guarded),
    sixtyFour(hand),
  );
}

export async function membership(db: Kysely<any>, pool: pg.Pool): Promise<Result[]> {
  return [...(await entering(db, pool)), ...(await inviting(db)), await checking(db, pool)];
}

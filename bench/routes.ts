/* One route that shows a hive to whoever may read it, twice: guarded by the library, and as one would write it by hand. */
import { Hono } from 'hono';
import { type Kysely, sql } from 'kysely';
import type pg from 'pg';
import { guard, problemResponse, withStanding } from 'warm-lintel/http';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';

/** So many people are signed in. */
export const SESSIONS = 10_000;

export async function makeSessions(db: Kysely<any>): Promise<void> {
  await sql`create table if not exists bench_session (token text primary key, person_id text not null)`.execute(db);
  await sql`insert into bench_session select 's' || i, 'p' || i from generate_series(0, ${SESSIONS - 1}::int) i on conflict do nothing`.execute(db);
}

/** The path and the cookie of somebody who asks for a hive that they may read. */
export const asked = (n: number) => ({ path: `/t${n % 1000}/hives/h${n}`, cookie: `s=s${n}` });

const sessionOf = (pool: pg.Pool) => async (cookie: string | null) => {
  const { rows } = await pool.query<{ person_id: string }>('select person_id from bench_session where token = $1', [cookie?.slice(2) ?? '']);
  return rows[0]?.person_id;
};

export function guardedApp(db: Kysely<any>, pool: pg.Pool): Hono<any> {
  const [lintel, session] = [createLintel({ charter, db }), sessionOf(pool)];
  const app = new Hono<{ Variables: { record: any } }>();
  app.onError(problemResponse);
  const sender = async (request: Request) => {
    const user = await session(request.headers.get('cookie'));
    return user === undefined ? undefined : { user };
  };
  app.get('/:tenant/hives/:id', withStanding(lintel as never, { sender }) as never, guard('hive.read') as never, (c) => c.json(c.var.record));
  return app;
}

export function handApp(pool: pg.Pool): Hono<any> {
  const session = sessionOf(pool);
  const app = new Hono();
  app.get('/:tenant/hives/:id', async (c) => {
    const user = await session(c.req.header('cookie') ?? null);
    if (user === undefined) return c.json({}, 401);
    const { tenant, id } = c.req.param();
    const member = await pool.query(
      `select m.status, array_agg(a.role) as roles from lintel_tenant t join lintel_member m on m.tenant_id = t.id and m.user_id = $2 left join lintel_assignment a on a.tenant_id = m.tenant_id and a.user_id = m.user_id where t.id = $1 and t.status = 'open' group by m.status`,
      [tenant, user],
    );
    if (member.rows[0]?.status !== 'active') return c.json({}, 404);
    const roles: string[] = member.rows[0].roles;
    if (!roles.some((role) => ['reader', 'keeper', 'warden', 'keyholder'].includes(role))) return c.json({}, 404);
    const { rows } = await pool.query(
      `select h.id, h.tenant_id, h.keeper_id, h.made_by, h.site_id, h.name, h.colonies, h.status, case when h.keeper_id = $3 then h.registration_no end as registration_no,
        array(select user_id from hive_inspectors l where l.tenant_id = h.tenant_id and l.hive_id = h.id order by 1) as inspectors from hives h where h.tenant_id = $1 and h.id = $2`,
      [tenant, id, user],
    );
    return rows[0] ? c.json(rows[0]) : c.json({}, 404);
  });
  return app;
}

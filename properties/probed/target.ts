import type { Kysely } from 'kysely';
import type pg from 'pg';
import type { AppMember, ProbeRoute, ProbeTarget } from 'warm-lintel/rehearsal';
import { connect } from 'warm-lintel/server';
import { moreRoutes } from './more.js';

/** The routes, as somebody lists them who looks through the file. */
const routes: readonly ProbeRoute[] = [
  { method: 'get', path: '/tools', query: ['q', 'sort', 'limit', 'all', 'org'] },
  { method: 'get', path: '/tools.csv', kind: 'tool' },
  { method: 'get', path: '/tools.html', kind: 'tool' },
  { method: 'get', path: '/suggest', kind: 'tool', query: ['q'] },
  { method: 'get', path: '/stats', kind: 'tool' },
  { method: 'get', path: '/tools/:toolId' },
  { method: 'get', path: '/tools/:toolId/loans' },
  { method: 'get', path: '/loans' },
  { method: 'post', path: '/tools', body: { name: 'Probe', note: 'Probe', shared: false } },
  { method: 'patch', path: '/tools/:toolId', body: { name: 'Probe', note: 'Probe' } },
  { method: 'delete', path: '/tools/:toolId' },
  { method: 'post', path: '/tools/archive', body: { ids: [] } },
  { method: 'post', path: '/tools/:toolId/owner', body: { ownerId: 'ben' } },
  { method: 'post', path: '/loans', body: { toolId: 1, remark: 'Probe' } },
];

/** Everybody, out of the application's own table. */
export async function peopleOf(db: Kysely<any>): Promise<AppMember[]> {
  const rows = await db.selectFrom('users').selectAll().where('active', '=', true).orderBy('id').execute();
  return rows.map(({ id, org_id, name, email, role }) => ({ id, name, address: email, tenant: org_id, roles: [role] }));
}

/** The running application. */
export async function lendingTarget(pool: pg.Pool, url: string): Promise<ProbeTarget> {
  return {
    app: url,
    signIn: async ({ address }, send) => {
      const answer = await send({ method: 'POST', path: '/sign-in', body: { email: address } });
      return { cookie: answer.headers.getSetCookie()[0]?.split(';')[0] ?? '' };
    },
    routes: [...routes, ...moreRoutes],
    people: await peopleOf(connect(pool)),
    putOut: async ({ id }) => {
      await pool.query('update users set active = false where id = $1', [id]);
      return async () => void (await pool.query('update users set active = true where id = $1', [id]));
    },
  };
}

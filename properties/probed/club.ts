/*
 * Another application of another hand: running clubs keep their teams, who starts where, and how fast. Hono and plain SQL; ids are UUIDs, a start hangs on a team and a
 * split on a start, neither with a column for the club; answers are wrapped and in snake case, pages are turned by a cursor, and the club is chosen by signing in to it.
 */
import { randomUUID } from 'node:crypto';
import { type Context, Hono } from 'hono';
import type pg from 'pg';
import { connect } from 'warm-lintel/server';
import { type Application, inTurn } from './application.js';
import { charter, SCHEMA, uid } from './club-world.js';

interface Runner {
  readonly id: string;
  readonly club: string;
  readonly rank: string;
}

async function start(pool: pg.Pool, faults: ReadonlySet<string>) {
  const has = (fault: string) => faults.has(fault);
  const rows = async (query: string, values: unknown[] = []): Promise<any[]> => (await pool.query(query, values)).rows;
  const sessions = new Map<string, Runner>();
  const refusal = (status: 400 | 401 | 403 | 404 | 409, title: string) => Object.assign(new Error(title), { status });
  const missing = () => refusal(404, 'no such thing');
  const app = new Hono();
  app.onError((error, c) => {
    // What it was to hang on is gone since it was looked for.
    if ((error as { code?: string }).code === '23503') return c.json({ title: 'no such thing' }, 404);
    return c.json({ title: error.message }, (error as { status?: 400 }).status ?? 500);
  });
  app.use(async (c, next) => {
    // No text of the database holds it.
    if (c.req.url.includes('%00')) throw refusal(400, 'text');
    await next();
  });
  app.notFound((c) => c.json({ title: 'no such thing' }, 404));
  const isUuid = (one: unknown): one is string => typeof one === 'string' && /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(one);
  const isWords = (one: unknown): one is string => typeof one === 'string' && one.length > 0 && one.length <= 200 && !one.includes('\0');
  const isCount = (one: unknown): one is number => Number.isInteger(one) && (one as number) >= 0 && (one as number) < 1e6;
  const bodyOf = async (c: Context): Promise<Record<string, any>> => {
    const body = has('breaks-without-json') ? await c.req.json() : await c.req.json().catch(() => undefined);
    if (has('breaks-at-null')) return body;
    if (typeof body !== 'object' || body === null || Array.isArray(body)) throw refusal(400, 'a JSON object is wanted');
    return body;
  };
  const asked = async (c: Context): Promise<Runner> => {
    const session = sessions.get((c.req.header('authorization') ?? '').replace(/^Session /, ''));
    if (!session) throw refusal(401, 'sign in');
    const club = has('club-by-parameter') && isUuid(c.req.query('club_id')) ? (c.req.query('club_id') as string) : session.club;
    const [held] = await rows('select rank from club_members where club_id = $1 and runner_id = $2', [club, session.id]);
    if (has('session-outlives') && !held) return session;
    if (has('club-by-parameter') && !held) return { ...session, club };
    if (!held) throw refusal(401, 'sign in');
    return {
      id: session.id,
      club,
      rank: has('rank-by-body') && c.req.header('x-rank') ? (c.req.header('x-rank') as string) : has('rank-outlives') ? session.rank : held.rank,
    };
  };
  const isCoach = ({ rank }: Runner) => rank === 'coach';

  app.post('/clubs/:club/sign-in', async (c) => {
    const { email } = await bodyOf(c);
    const club = c.req.param('club');
    const [held] = isUuid(club)
      ? await rows('select r.id, m.rank from runners r join club_members m on m.runner_id = r.id where r.email = $1 and m.club_id = $2', [email, club])
      : [];
    if (!held) throw refusal(403, 'not so');
    const key = randomUUID();
    sessions.set(key, { id: held.id, club, rank: held.rank });
    return c.json({ session: key });
  });

  const MEMBER = 'select m.id, m.runner_id, m.rank, m.phone from club_members m';
  app.get('/members', async (c) => {
    const me = await asked(c);
    const data =
      isCoach(me) || has('phones-of-all')
        ? await rows(`${MEMBER} where m.club_id = $1 order by m.id`, [me.club])
        : await rows(`${MEMBER} where m.club_id = $1 and m.runner_id = $2`, [me.club, me.id]);
    return c.json({ data });
  });
  const memberOf = async (me: Runner, wanted: string, across = false) => {
    const [one] = isUuid(wanted) ? await rows('select * from club_members where id = $1', [wanted]) : [];
    if (!one || (!across && (one.club_id !== me.club || !(isCoach(me) || one.runner_id === me.id)))) throw missing();
    return one;
  };
  app.post('/members', async (c) => {
    const me = await asked(c);
    if (!isCoach(me)) throw refusal(403, 'coaches only');
    const { runner_id, rank, phone = null, ...more } = await bodyOf(c);
    if (!isUuid(runner_id) || !['coach', 'runner', 'helper'].includes(rank) || (phone !== null && !isWords(phone)))
      throw refusal(400, 'runner_id, rank, phone');
    if (!(await rows('select 1 from runners where id = $1', [runner_id])).length) throw refusal(400, 'runner_id');
    const club = has('member-of-body-club') && isUuid(more.club_id) ? more.club_id : me.club;
    const [made] = await rows('insert into club_members (club_id, runner_id, rank, phone) values ($1, $2, $3, $4) on conflict do nothing returning id', [
      club,
      runner_id,
      rank,
      phone,
    ]);
    if (!made) throw refusal(409, 'there already');
    return c.json({ data: { id: made.id } }, 201);
  });
  app.patch('/members/:member_id', async (c) => {
    const me = await asked(c);
    const one = await memberOf(me, c.req.param('member_id'), has('member-changed-across'));
    const { phone = one.phone, rank = one.rank } = await bodyOf(c);
    if (!(phone === null || isWords(phone)) || !['coach', 'runner', 'helper'].includes(rank)) throw refusal(400, 'phone, rank');
    if (rank !== one.rank && !isCoach(me) && !has('rank-taken')) throw refusal(403, 'coaches only');
    await rows('update club_members set phone = $2, rank = $3 where id = $1', [one.id, phone, rank]);
    return c.json({ data: { id: one.id } });
  });
  app.delete('/members/:member_id', async (c) => {
    const me = await asked(c);
    const one = await memberOf(me, c.req.param('member_id'), has('put-out-across') && isCoach(me));
    if (!isCoach(me)) throw refusal(403, 'coaches only');
    await rows('delete from club_members where id = $1', [one.id]);
    return c.json({ data: null });
  });

  const teamShown = (me: Runner, { id: own, name, captain_id, created_by, budget, secret }: any, open = false) => ({
    id: own,
    name,
    captain_id,
    created_by,
    secret,
    ...((isCoach(me) || open) && { budget }),
  });
  const teamsSeen = (me: Runner) => (isCoach(me) ? 't.club_id = $1 and $2::uuid is not null' : 't.club_id = $1 and (not t.secret or t.captain_id = $2)');
  app.get('/teams', async (c) => {
    const me = await asked(c);
    const values: unknown[] = [me.club, me.id];
    let where = has('teams-hidden-too') ? 't.club_id = $1 and $2::uuid is not null' : teamsSeen(me);
    const { name, order_by, cursor, limit = '20', columns } = c.req.query();
    if (!/^\d{1,3}$/.test(limit) && !has('breaks-at-limit')) throw refusal(400, 'limit');
    if (name !== undefined) where += ` and t.name ilike $${values.push(`%${name}%`)}`;
    if (cursor !== undefined) {
      const last = Buffer.from(cursor, 'base64url').toString();
      if (!isUuid(last)) throw refusal(400, 'cursor');
      where = has('cursor-loses-condition')
        ? `$1::uuid is not null and $2::uuid is not null and t.id > $${values.push(last)}`
        : `${where} and t.id > $${values.push(last)}`;
    }
    const orders: Record<string, string> = { name: 't.name', ...((isCoach(me) || has('ordered-by-budget')) && { budget: 't.budget' }) };
    const found = await rows(`select t.* from teams t where ${where} order by ${orders[order_by ?? ''] ?? 't.id'} limit ${limit}`, values);
    const open = has('budget-in-list') || (has('columns-obeyed') && columns?.split(',').includes('budget') === true);
    const [{ count }] = await rows(
      `select count(*)::int from teams t where ${has('total-of-hidden') ? 't.club_id = $1 and $2::uuid is not null' : teamsSeen(me)}`,
      [me.club, me.id],
    );
    return c.json({
      data: found.map((one) => teamShown(me, one, open)),
      meta: { total: count, next: found.length ? Buffer.from(found.at(-1).id).toString('base64url') : null },
    });
  });
  const teamOf = async (me: Runner, wanted: string, how?: 'hidden' | 'any') => {
    const [one] = isUuid(wanted) ? await rows('select * from teams where id = $1', [wanted]) : [];
    const sees = one && (how === 'any' || (one.club_id === me.club && (how === 'hidden' || !one.secret || isCoach(me) || one.captain_id === me.id)));
    if (!sees) throw missing();
    return one;
  };
  app.get('/teams/:team_id', async (c) => {
    const me = await asked(c);
    return c.json({
      data: teamShown(me, await teamOf(me, c.req.param('team_id'), has('team-of-any-club') ? 'any' : has('hidden-team') ? 'hidden' : undefined)),
    });
  });
  app.post('/teams', async (c) => {
    const me = await asked(c);
    if (!isCoach(me)) throw refusal(403, 'coaches only');
    const { name, budget = null, secret = false, captain_id = null, ...more } = await bodyOf(c);
    if (!isWords(name) || !(budget === null || isCount(budget) || has('breaks-at-budget')) || typeof secret !== 'boolean')
      throw refusal(400, 'name, budget, secret');
    const there =
      captain_id === null ||
      (isUuid(captain_id) &&
        (has('captain-from-elsewhere') || (await rows('select 1 from club_members where club_id = $1 and runner_id = $2', [me.club, captain_id])).length > 0));
    if (!there) throw refusal(400, 'captain_id');
    const by = has('founded-by-another') && isUuid(more.created_by) ? more.created_by : me.id;
    const made = await inTurn(pool, me.club, async (one) => {
      if ((await one('select 1 from teams where club_id = $1 and name = $2', [me.club, name])).length > 0) throw refusal(409, 'there is one called so');
      const insert = 'insert into teams (club_id, name, captain_id, created_by, budget, secret) values ($1, $2, $3, $4, $5, $6) returning id';
      return (await one(insert, [me.club, name, captain_id, by, budget, secret]))[0];
    });
    return c.json({ data: { id: made.id } }, 201);
  });
  app.patch('/teams/:team_id', async (c) => {
    const me = await asked(c);
    const one = await teamOf(me, c.req.param('team_id'));
    const captain = me.rank === 'runner' && one.captain_id === me.id;
    if (!isCoach(me) && !captain && !(has('named-by-runners') && me.rank === 'runner')) throw refusal(403, 'coaches and captains only');
    const { name, ...more } = await bodyOf(c);
    if (!isWords(name)) throw refusal(400, 'name');
    const among = has('taken-by-hidden') ? '$2::uuid is not null and t.club_id = $1' : teamsSeen(me);
    const columns = has('all-columns-taken') ? ['name', 'budget', 'secret', 'captain_id'] : ['name'];
    const set = Object.entries({ name, ...more }).filter(([column, value]) => columns.includes(column) && value !== undefined);
    await inTurn(pool, me.club, async (its) => {
      const [other] = await its(`select 1 from teams t where ${among} and t.name = $3 and t.id <> $4`, [me.club, me.id, name, one.id]);
      if (other) throw refusal(409, 'there is one called so');
      await its(`update teams set ${set.map(([column], i) => `${column} = $${i + 2}`).join(', ')} where id = $1`, [one.id, ...set.map(([, value]) => value)]);
    });
    return c.json({ data: { id: one.id } });
  });
  app.delete('/teams/:team_id', async (c) => {
    const me = await asked(c);
    const one = await teamOf(me, c.req.param('team_id'));
    if (!isCoach(me) && !has('dissolved-by-captain')) throw refusal(403, 'coaches only');
    await rows('delete from teams where id = $1', [one.id]);
    return c.json({ data: null });
  });

  const startShown = (me: Runner, { id: own, team_id, runner_id, race, at, remark }: any, open = false) => ({
    id: own,
    team_id,
    runner_id,
    race,
    at,
    ...((isCoach(me) || runner_id === me.id || open) && { remark }),
  });
  const START = 'select s.*, t.club_id from starts s join teams t on t.id = s.team_id';
  const startsSeen = (me: Runner) => (me.rank === 'runner' ? 't.club_id = $1 and s.runner_id = $2' : 't.club_id = $1 and $2::uuid is not null');
  app.get('/starts', async (c) => {
    const me = await asked(c);
    const { race, expand } = c.req.query();
    const where = has('starts-of-all-clubs') && me.rank !== 'runner' ? '$1::uuid is not null and $2::uuid is not null' : startsSeen(me);
    const found = await rows(`${START} where ${where} ${race === undefined ? '' : 'and s.race = $3'} order by s.id`, [
      me.club,
      me.id,
      ...(race === undefined ? [] : [race]),
    ]);
    const data = found.map((one) => startShown(me, one, has('remarks-to-helpers')));
    if (has('expand-obeyed') && expand === 'team') for (const one of data as any[]) [one.team] = await rows('select * from teams where id = $1', [one.team_id]);
    return c.json({ data });
  });
  const startOf = async (me: Runner, wanted: string, how?: 'any') => {
    const [one] = isUuid(wanted) ? await rows(`${START} where s.id = $1`, [wanted]) : [];
    if (!one || (how !== 'any' && (one.club_id !== me.club || (me.rank === 'runner' && one.runner_id !== me.id)))) throw missing();
    return one;
  };
  app.post('/teams/:team_id/starts', async (c) => {
    const me = await asked(c);
    const team = await teamOf(me, c.req.param('team_id'), has('entered-for-hidden') ? 'hidden' : undefined);
    const { race, at, runner_id = me.id } = await bodyOf(c);
    if (!isWords(race) || !isWords(at) || !/^2\d{3}-\d\d-\d\dT[\d:.]+Z$/.test(at) || Number.isNaN(Date.parse(at)) || !isUuid(runner_id))
      throw refusal(400, 'race, at, runner_id');
    if (runner_id !== me.id && !isCoach(me) && !has('entered-by-another')) throw refusal(403, 'coaches only');
    if (!(await rows('select 1 from club_members where club_id = $1 and runner_id = $2', [me.club, runner_id])).length) throw refusal(400, 'runner_id');
    const [made] = await rows('insert into starts (team_id, runner_id, race, at) values ($1, $2, $3, $4) returning id', [team.id, runner_id, race, at]);
    return c.json({ data: { id: made.id } }, 201);
  });
  app.get('/teams/:team_id/starts/:start_id', async (c) => {
    const me = await asked(c);
    const team = await teamOf(me, c.req.param('team_id'));
    const one = await startOf(me, c.req.param('start_id'), has('start-of-any') ? 'any' : undefined);
    if (one.team_id !== team.id && !has('start-of-other-team') && !has('start-of-any')) throw missing();
    return c.json({ data: startShown(me, one) });
  });
  app.patch('/starts/:start_id', async (c) => {
    const me = await asked(c);
    const one = await startOf(me, c.req.param('start_id'), has('start-changed-anywhere') ? 'any' : undefined);
    if (!isCoach(me) && one.runner_id !== me.id && !has('start-changed-by-helper') && !has('start-changed-anywhere')) throw refusal(403, 'not yours');
    const { race, remark = one.remark, ...more } = await bodyOf(c);
    if (!isWords(race) || !(remark === null || isWords(remark))) throw refusal(400, 'race, remark');
    const team = has('moved-to-any-team') && isUuid(more.team_id) ? more.team_id : one.team_id;
    await rows('update starts set race = $2, remark = $3, team_id = $4 where id = $1', [one.id, race, remark, team]);
    return c.json({ data: { id: one.id } });
  });
  app.delete('/starts/:start_id', async (c) => {
    const me = await asked(c);
    const one = await startOf(me, c.req.param('start_id'));
    if (!isCoach(me) && one.runner_id !== me.id) throw refusal(403, 'not yours');
    await rows('delete from starts where id = $1', [one.id]);
    return c.json({ data: null });
  });
  app.get('/starts/:start_id/splits', async (c) => {
    const me = await asked(c);
    const one = await startOf(me, c.req.param('start_id'), has('splits-of-any') ? 'any' : undefined);
    return c.json({ data: await rows('select id, start_id, seconds, pulse from splits where start_id = $1 order by id', [one.id]) });
  });
  app.post('/starts/:start_id/splits', async (c) => {
    const me = await asked(c);
    const one = await startOf(me, c.req.param('start_id'), has('split-anywhere') ? 'any' : undefined);
    if (me.rank === 'runner' && !has('split-by-runner')) throw refusal(403, 'coaches and helpers only');
    const { seconds, pulse = null } = await bodyOf(c);
    if (!isCount(seconds) || !(pulse === null || isCount(pulse))) throw refusal(400, 'seconds, pulse');
    const [made] = await rows('insert into splits (start_id, seconds, pulse) values ($1, $2, $3) returning id', [one.id, seconds, pulse]);
    return c.json({ data: { id: made.id } }, 201);
  });
  app.get('/averages', async (c) => {
    const me = await asked(c);
    const where = has('averages-of-club') ? 't.club_id = $1 and $2::uuid is not null' : startsSeen(me);
    const [data] = await rows(
      `select avg(p.seconds)::int as mean_seconds, max(p.pulse) as highest_pulse from splits p join starts s on s.id = p.start_id join teams t on t.id = s.team_id where ${where}`,
      [me.club, me.id],
    );
    return c.json({ data });
  });

  return { app: (request: Request) => app.fetch(request), close: async () => {} };
}

export const club: Application = {
  name: 'club',
  charter,
  schema: SCHEMA,
  tables: ['club_members', 'teams', 'starts', 'splits'],
  start,
  target: async (pool, app) => ({
    app,
    sessions: 'tenant',
    signIn: async ({ address }, send, { tenant }) => {
      const answer = await send({ method: 'POST', path: `/clubs/${tenant}/sign-in`, body: { email: address } });
      return { authorization: `Session ${((await answer.json()) as { session: string }).session}` };
    },
    membership: { kind: 'clubMember', person: 'runnerId', role: 'rank' },
    people: (
      await connect<any>(pool)
        .selectFrom('club_members as m')
        .innerJoin('runners as r', 'r.id', 'm.runner_id')
        .select(['r.id', 'r.name', 'r.email', 'm.club_id', 'm.rank'])
        .orderBy('m.id')
        .execute()
    ).map(({ id: who, name, email, club_id, rank }) => ({ id: who, name, address: email, tenant: club_id, roles: [rank] })),
    routes: [
      { method: 'get', path: '/members', kind: 'clubMember' },
      { method: 'post', path: '/members', kind: 'clubMember', body: { runner_id: uid('a', 3), rank: 'runner', phone: 'Probe' } },
      { method: 'patch', path: '/members/:member_id', params: { member_id: 'clubMember' }, body: { phone: 'Probe' } },
      { method: 'delete', path: '/members/:member_id', params: { member_id: 'clubMember' } },
      { method: 'get', path: '/teams', query: ['name', 'order_by', 'cursor', 'limit'] },
      { method: 'get', path: '/teams/:team_id' },
      { method: 'post', path: '/teams', body: { name: 'Probe' } },
      { method: 'patch', path: '/teams/:team_id', body: { name: 'Probe' } },
      { method: 'delete', path: '/teams/:team_id' },
      { method: 'get', path: '/starts', query: ['race'] },
      { method: 'post', path: '/teams/:team_id/starts', kind: 'start', body: { race: 'Probe', at: '2026-11-01T08:00:00Z' } },
      { method: 'get', path: '/teams/:team_id/starts/:start_id' },
      { method: 'patch', path: '/starts/:start_id', body: { race: 'Probe' } },
      { method: 'delete', path: '/starts/:start_id' },
      { method: 'get', path: '/starts/:start_id/splits' },
      { method: 'post', path: '/starts/:start_id/splits', kind: 'split', body: { seconds: 300, pulse: 150 } },
      { method: 'get', path: '/averages', kind: 'split' },
    ],
  }),
  faults: [
    ['phones-of-all', 'a member list without a guard'],
    ['member-of-body-club', 'somebody taken into the club that the body names'],
    ['member-changed-across', 'a member of another club changed'],
    ['rank-taken', 'a rank that one gives oneself'],
    ['put-out-across', 'a removal across clubs'],
    ['session-outlives', 'a session that outlives the membership'],
    ['rank-outlives', 'a session that keeps the rank of before'],
    ['rank-by-body', 'a rank out of a header'],
    ['club-by-parameter', 'the club out of a parameter'],
    ['teams-hidden-too', 'hidden teams in the list of all'],
    ['hidden-team', 'a hidden team by its id'],
    ['team-of-any-club', 'a team by its id, of whatever club'],
    ['budget-in-list', 'the budget in the list of all'],
    ['columns-obeyed', 'a masked field that the address asks for by name'],
    ['ordered-by-budget', 'a list in the order of what is masked'],
    ['cursor-loses-condition', 'a next page without its condition'],
    ['total-of-hidden', 'a total that counts hidden teams'],
    ['taken-by-hidden', 'a name that is taken, also by a hidden team'],
    ['captain-from-elsewhere', 'a captain of another club'],
    ['founded-by-another', 'a team founded in the name of another'],
    ['named-by-runners', 'a team named by whoever sees it'],
    ['all-columns-taken', 'a change that takes whatever the body holds'],
    ['dissolved-by-captain', 'a team dissolved by whoever sees it'],
    ['starts-of-all-clubs', 'starts of all clubs, to those who see all of one'],
    ['remarks-to-helpers', 'what is to be heeded, to those who may not see it'],
    ['expand-obeyed', 'a parent with what is masked, that the address asks for by name'],
    ['entered-for-hidden', 'a start under a hidden team'],
    ['entered-by-another', 'a start in the name of another'],
    ['start-of-any', 'a start by its id, of whomever'],
    ['start-of-other-team', 'a start under another team than its own'],
    ['start-changed-anywhere', 'a start of another club changed'],
    ['start-changed-by-helper', 'a start of another changed'],
    ['moved-to-any-team', 'a start moved under a hidden team'],
    ['splits-of-any', 'what hangs on a hidden start'],
    ['split-by-runner', 'a split taken by whoever may not'],
    ['split-anywhere', 'a split taken in another club'],
    ['averages-of-club', 'a mean and a maximum over what is hidden'],
    ['breaks-without-json', 'a request without a body'],
    ['breaks-at-null', 'nothing in the place of an object'],
    ['breaks-at-limit', 'a limit that is no number'],
    ['breaks-at-budget', 'a budget that is no number'],
  ],
};

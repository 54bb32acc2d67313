/*
 * Allotments, and what goes wrong in the same second: two claim a plot, two wardens make each other gardeners, a plot is dug over while somebody sows, two new plots get one
 * number. Sound, it locks first what a check rests on; each fault leaves one lock out. Every request by itself is right in all of them.
 */
import { randomUUID } from 'node:crypto';
import { Hono } from 'hono';
import type pg from 'pg';
import { defineCharter, defineKinds, id, instant, maker, oneOf, owner, person, tenant, text, through } from 'warm-lintel';
import { connect } from 'warm-lintel/server';
import { type Application, inTurn, type Rows } from './application.js';

const SCHEMA = `
  create table gardeners (id serial primary key, name text not null, email text not null unique);
  create table places (id serial primary key, garden text not null, gardener_id int not null references gardeners (id), role text not null, unique (garden, gardener_id));
  create table plots (id serial primary key, garden text not null, sign text not null, holder int, unique (garden, sign));
  create table crops (id serial primary key, plot_id int not null, sown_by int not null, what text not null, sown_at timestamptz not null default now());
  insert into gardeners (name, email) values ('Ada Moor', 'ada@weir.example'), ('Bo Lind', 'bo@weir.example'), ('Cyn Vale', 'cyn@weir.example'), ('Eva Rook', 'eva@ridge.example'), ('Fay Hill', 'fay@ridge.example');
  insert into places (garden, gardener_id, role) values ('weir', 1, 'warden'), ('weir', 2, 'warden'), ('weir', 3, 'gardener'), ('ridge', 4, 'warden'), ('ridge', 5, 'gardener');
  insert into plots (garden, sign, holder) values ('weir', 'Plot 1', 3), ('weir', 'Plot 2', null), ('weir', 'Plot 3', 1), ('ridge', 'Plot 1', 5), ('ridge', 'Plot 2', null);
  insert into crops (plot_id, sown_by, what) values (1, 3, 'broad beans'), (1, 3, 'early peas'), (3, 1, 'black kale'), (4, 5, 'red onions');
`;
const number = { type: 'integer' } as const;

const kinds = defineKinds(
  {
    place: {
      table: 'places',
      label: 'role',
      fields: { id: id(number), garden: tenant({ type: 'text' }), gardenerId: person(number), role: oneOf(['warden', 'gardener'], { change: 'appoint' }) },
      actions: { read: { label: 'See who gardens' }, appoint: { label: 'Appoint somebody' } },
    },
    plot: {
      table: 'plots',
      label: 'sign',
      fields: { id: id(number), garden: tenant({ type: 'text' }), sign: text(), holder: owner(number) },
      actions: { read: { label: 'See a plot' }, create: { label: 'Mark out a plot' }, update: { label: 'Take a plot' }, delete: { label: 'Dig a plot over' } },
    },
    crop: {
      table: 'crops',
      label: 'what',
      fields: { id: id(number), plotId: through('plot', { ...number, follow: false }), sownBy: maker(number), what: text(), sownAt: instant() },
      actions: { read: { label: 'See what grows' }, create: { label: 'Sow' }, delete: { label: 'Dig out' } },
    },
  },
  { plot: { free: ({ record }) => record.holder.isEmpty() } },
);

const GARDENER = { 'place.read': 'tenant', 'plot.read': 'tenant', 'plot.update': 'free', 'crop.read': 'tenant', 'crop.create': 'tenant' } as const;
const charter = defineCharter(kinds, {
  roles: {
    warden: {
      label: 'Warden',
      may: { ...GARDENER, 'place.appoint': 'tenant', 'plot.create': 'tenant', 'plot.delete': 'tenant', 'crop.delete': 'tenant' },
    },
    gardener: { label: 'Gardener', may: GARDENER },
  },
});

class Refusal extends Error {
  readonly status: 400 | 401 | 403 | 404 | 409;
  constructor(status: Refusal['status'], message: string) {
    super(message);
    this.status = status;
  }
}

async function start(pool: pg.Pool, faults: ReadonlySet<string>) {
  const sessions = new Map<string, number>();
  const isText = (one: unknown): one is string => typeof one === 'string' && /^[^\0\ud800-\udfff]{1,200}$/u.test(one);
  /** One transaction; with the lock that a fault leaves out, one after the other for a garden. */
  const together = async <T>(garden: string, fault: string, work: (rows: Rows) => Promise<T>): Promise<T> => {
    if (!isText(garden)) throw new Refusal(404, 'Not found.');
    return inTurn(pool, faults.has(fault) ? undefined : garden, work);
  };
  const me = async (rows: Rows, request: Request, garden: string) => {
    const who = sessions.get(request.headers.get('authorization') ?? '');
    const [held] = isText(garden) ? await rows('select id, gardener_id, role from places where garden = $1 and gardener_id = $2', [garden, who]) : [];
    if (!held) throw new Refusal(404, 'Not found.');
    return held as { id: number; gardener_id: number; role: string };
  };
  const warden = async (rows: Rows, request: Request, garden: string) => {
    const held = await me(rows, request, garden);
    if (held.role !== 'warden') throw new Refusal(403, 'That is for wardens.');
    return held;
  };
  const asId = (one: string) => (/^\d{1,9}$/.test(one) ? Number(one) : 0);
  const plotOf = async (rows: Rows, garden: string, wanted: string) => {
    const [one] = await rows('select * from plots where garden = $1 and id = $2', [garden, asId(wanted)]);
    if (!one) throw new Refusal(404, 'Not found.');
    return one;
  };
  const bodyOf = async (request: Request) => (await request.json().catch(() => undefined)) as Readonly<Record<string, unknown>> | null | undefined;
  const plain: Rows = async (query, values = []) => (await pool.query(query, [...values])).rows;
  const shownPlot = ({ id: no, sign, holder }: any) => ({ id: no, sign, holder });

  const app = new Hono();
  app.post('/sign-in', async (c) => {
    const email = (await bodyOf(c.req.raw))?.email;
    const [one] = isText(email) ? await plain('select id from gardeners where email = $1', [email]) : [];
    if (!one) throw new Refusal(401, 'Nobody is called so.');
    const key = randomUUID();
    sessions.set(key, one.id);
    return c.json({ key });
  });
  app.get('/gardens/:garden/places', async (c) => {
    const { garden } = c.req.param();
    await me(plain, c.req.raw, garden);
    return c.json(await plain('select id, gardener_id as "gardenerId", role from places where garden = $1 order by id', [garden]));
  });
  app.patch('/gardens/:garden/places/:placeId', async (c) => {
    const { garden, placeId } = c.req.param();
    const role = (await bodyOf(c.req.raw))?.role;
    return together(garden, 'wardens-at-once', async (rows) => {
      await warden(rows, c.req.raw, garden);
      const [one] = await rows('select id, role from places where garden = $1 and id = $2', [garden, asId(placeId)]);
      if (!one) throw new Refusal(404, 'Not found.');
      if (role !== 'warden' && role !== 'gardener') throw new Refusal(400, 'role is warden or gardener.');
      const [{ others }] = await rows(`select count(*)::int as others from places where garden = $1 and role = 'warden' and id <> $2`, [garden, one.id]);
      if (role === 'gardener' && others === 0) throw new Refusal(409, 'One warden stays.');
      await rows('update places set role = $2 where id = $1', [one.id, role]);
      return c.json({});
    });
  });
  app.get('/gardens/:garden/plots', async (c) => {
    const { garden } = c.req.param();
    await me(plain, c.req.raw, garden);
    return c.json((await plain('select * from plots where garden = $1 order by id', [garden])).map(shownPlot));
  });
  app.get('/gardens/:garden/plots/:plotId', async (c) => {
    const { garden, plotId } = c.req.param();
    await me(plain, c.req.raw, garden);
    return c.json(shownPlot(await plotOf(plain, garden, plotId)));
  });
  app.post('/gardens/:garden/plots', async (c) => {
    const { garden } = c.req.param();
    return together(garden, 'signs-at-once', async (rows) => {
      await warden(rows, c.req.raw, garden);
      const [{ last }] = await rows(`select coalesce(max(substr(sign, 6)::int), 0) as last from plots where garden = $1`, [garden]);
      const [made] = await rows('insert into plots (garden, sign) values ($1, $2) returning id', [garden, `Plot ${last + 1}`]);
      return c.json({ id: made.id }, 201);
    });
  });
  app.post('/gardens/:garden/plots/:plotId/take', async (c) => {
    const { garden, plotId } = c.req.param();
    return together(garden, 'taken-at-once', async (rows) => {
      const who = await me(rows, c.req.raw, garden);
      const one = await plotOf(rows, garden, plotId);
      if (one.holder !== null) throw new Refusal(409, 'It is taken.');
      await rows('update plots set holder = $2 where id = $1', [one.id, who.gardener_id]);
      return c.json({});
    });
  });
  app.delete('/gardens/:garden/plots/:plotId', async (c) => {
    const { garden, plotId } = c.req.param();
    return together(garden, 'sown-at-once', async (rows) => {
      await warden(rows, c.req.raw, garden);
      const one = await plotOf(rows, garden, plotId);
      await rows('delete from crops where plot_id = $1', [one.id]);
      await rows('delete from plots where id = $1', [one.id]);
      return c.json({});
    });
  });
  app.get('/gardens/:garden/plots/:plotId/crops', async (c) => {
    const { garden, plotId } = c.req.param();
    await me(plain, c.req.raw, garden);
    const one = await plotOf(plain, garden, plotId);
    return c.json(await plain('select id, sown_by as "sownBy", what from crops where plot_id = $1 order by id', [one.id]));
  });
  app.post('/gardens/:garden/plots/:plotId/crops', async (c) => {
    const { garden, plotId } = c.req.param();
    const what = (await bodyOf(c.req.raw))?.what;
    return together(garden, 'sown-at-once', async (rows) => {
      const who = await me(rows, c.req.raw, garden);
      const one = await plotOf(rows, garden, plotId);
      if (!isText(what)) throw new Refusal(400, 'what is a text.');
      const [made] = await rows('insert into crops (plot_id, sown_by, what) values ($1, $2, $3) returning id', [one.id, who.gardener_id, what]);
      return c.json({ id: made.id }, 201);
    });
  });
  app.onError((error, c) => (error instanceof Refusal ? c.json({ error: error.message }, error.status) : c.json({ error: 'It failed.' }, 500)));
  return { app: (request: Request) => app.fetch(request), close: async () => {} };
}

export const garden: Application = {
  name: 'garden',
  charter,
  schema: SCHEMA,
  tables: ['places', 'plots', 'crops'],
  start,
  target: async (pool, app) => ({
    app,
    signIn: async ({ address }, send) => {
      const answer = await send({ method: 'POST', path: '/sign-in', body: { email: address } });
      return { authorization: ((await answer.json()) as { key: string }).key };
    },
    membership: { kind: 'place', person: 'gardenerId', role: 'role' },
    people: (
      await connect<any>(pool)
        .selectFrom('places as p')
        .innerJoin('gardeners as g', 'g.id', 'p.gardener_id')
        .select(['g.id', 'g.name', 'g.email', 'p.garden', 'p.role'])
        .orderBy('p.id')
        .execute()
    ).map(({ id: who, name, email, garden: where, role }) => ({ id: who, name, address: email, tenant: where, roles: [role] })),
    routes: [
      { method: 'get', path: '/gardens/:garden/places', params: { garden: 'tenant' } },
      { method: 'patch', path: '/gardens/:garden/places/:placeId', params: { garden: 'tenant' }, body: { role: 'gardener' } },
      { method: 'get', path: '/gardens/:garden/plots', params: { garden: 'tenant' } },
      { method: 'get', path: '/gardens/:garden/plots/:plotId', params: { garden: 'tenant' } },
      { method: 'post', path: '/gardens/:garden/plots', params: { garden: 'tenant' }, body: {} },
      { method: 'post', path: '/gardens/:garden/plots/:plotId/take', params: { garden: 'tenant' }, body: {} },
      { method: 'delete', path: '/gardens/:garden/plots/:plotId', params: { garden: 'tenant' } },
      { method: 'get', path: '/gardens/:garden/plots/:plotId/crops', params: { garden: 'tenant' } },
      { method: 'post', path: '/gardens/:garden/plots/:plotId/crops', params: { garden: 'tenant' }, body: { what: 'Probe' } },
    ],
  }),
  faults: [
    ['taken-at-once', 'a plot that two take at once'],
    ['wardens-at-once', 'two wardens who make each other gardeners at once'],
    ['sown-at-once', 'what is sown in a plot while it is dug over'],
    ['signs-at-once', 'two new plots at once, with one sign'],
  ],
};

/* Bicycle workshops on one platform: jobs, comments on them, and who watches them. Managers run a workshop, mechanics mend, customers see their own jobs. */
import { randomBytes, scryptSync, timingSafeEqual } from 'node:crypto';
import express, { type NextFunction, type Request, type Response } from 'express';
import type pg from 'pg';
import { forExpress } from 'warm-lintel/express';
import { problemOf } from 'warm-lintel/http';
import { createLintel } from 'warm-lintel/server';
import { charter } from './charter.js';

class Refused extends Error {
  readonly status: number;

  constructor(status: number) {
    super(status === 404 ? 'not found' : status === 403 ? 'not allowed' : status === 401 ? 'sign in first' : 'bad request');
    this.status = status;
  }
}

export const passwordHash = (password: string, salt = randomBytes(8).toString('hex')) => `${salt}:${scryptSync(password, salt, 32).toString('hex')}`;

function fits(password: string, kept: string): boolean {
  const [salt = ''] = kept.split(':');
  return timingSafeEqual(Buffer.from(passwordHash(password, salt)), Buffer.from(kept));
}

const idOf = (value: unknown): number => {
  const id = Number(value);
  if (!Number.isInteger(id) || id < 1 || id > 2_147_483_647) throw new Refused(404);
  return id;
};
const textOf = (value: unknown): string => {
  if (typeof value !== 'string' || value.trim() === '') throw new Refused(400);
  return value.trim();
};

/** What a manager is called in this API. */
const roleOf = ([held]: readonly { role: string }[]) => (held?.role === 'keyholder' ? 'manager' : held?.role);

export async function createApp(pool: pg.Pool): Promise<express.Express> {
  const rows = async <T = any>(sql: string, values: unknown[] = []): Promise<T[]> => (await pool.query(sql, values)).rows;
  const lintel = createLintel({ charter, db: pool });
  await lintel.prepare();
  const app = express();
  app.use(express.json());

  app.post('/sign-in', async (req, res) => {
    const [user] = await rows('select id, password from users where email = $1', [textOf(req.body.email).toLowerCase()]);
    if (!user || !fits(textOf(req.body.password), user.password)) throw new Refused(401);
    const token = randomBytes(24).toString('hex');
    await rows('insert into sessions (token, user_id) values ($1, $2)', [token, user.id]);
    res.json({ token });
  });

  const signedIn = async (req: Request): Promise<number> => {
    const [session] = await rows('select user_id from sessions where token = $1', [req.headers.authorization?.replace('Bearer ', '') ?? '']);
    if (!session) throw new Refused(401);
    return session.user_id;
  };

  app.get('/workshops', async (req, res) => {
    const me = await signedIn(req);
    const { standings } = await lintel.enterAll({ user: me });
    const mine = standings.map((one) => ({ id: Number(one.facts.tenant.id), name: one.facts.tenant.name, role: roleOf(one.roles()) }));
    res.json(mine.sort((a, b) => a.id - b.id));
  });

  const at = forExpress(lintel, { sender: async (req) => ({ user: await signedIn(req) }), tenant: (req) => req.params.workshop });
  app.use('/lintel', at.face());
  app.use('/w/:workshop', at.standing);
  const inWorkshop = ({ standing }: Request, user: number) => lintel.enter({ tenant: standing.facts.tenant.id, user });

  app.get('/w/:workshop/jobs', async (req, res) => {
    res.json(await req.scope.selectFrom('jobs').selectAll().orderBy('id').execute());
  });

  app.post('/w/:workshop/jobs', async (req, res) => {
    const values = { title: textOf(req.body.title) };
    res.status(201).json(await req.scope.insertInto('jobs').values(values).returning('id').executeTakeFirst());
  });

  app.get('/w/:workshop/jobs/:id', at.guard('job.read'), async ({ scope, record: job }, res) => {
    res.json(await scope.selectFrom('jobs').selectAll().where('id', '=', job.id).executeTakeFirst());
  });

  app.patch('/w/:workshop/jobs/:id', at.guard('job.read'), async (req, res) => {
    const { standing, record: job } = req;
    const { title, state, price } = req.body;
    if (title !== undefined || state !== undefined) standing.insist('job.update', job);
    if (price !== undefined) standing.insist('job.price', job);
    if (state !== undefined && state !== 'open' && state !== 'done') throw new Refused(400);
    if (price !== undefined && price !== null && !Number.isInteger(price)) throw new Refused(400);
    const set = { ...(title !== undefined && { title: textOf(title) }), ...(state && { state }), ...(price !== undefined && { price }) };
    await standing.change('job', [job.id], set);
    res.json({});
  });

  app.post('/w/:workshop/jobs/:id/mechanic', at.guard('job.read'), async (req, res) => {
    const { standing, record: job } = req;
    const to = idOf(req.body.to);
    // A mechanic takes what nobody has; a manager gives it to whom they like.
    if (String(to) !== standing.userId || !standing.may('job.take', job)) standing.insist('job.give', job);
    if (!(await inWorkshop(req, to)).may('area.bench')) throw new Refused(404);
    await rows('update jobs set mechanic_id = $2 where id = $1', [job.id, to]);
    res.json({});
  });

  app.delete('/w/:workshop/jobs/:id', at.guard('job.delete'), async ({ record: job }, res) => {
    await rows('delete from jobs where id = $1', [job.id]);
    res.status(204).end();
  });

  app.get('/w/:workshop/jobs/:id/comments', at.guard('job.read'), async ({ record: job }, res) => {
    res.json(
      await rows('select c.id, c.body, c.author_id, u.name as author from comments c join users u on u.id = c.author_id where c.job_id = $1 order by c.id', [
        job.id,
      ]),
    );
  });

  app.post('/w/:workshop/jobs/:id/comments', at.guard('job.read'), async ({ scope, record: job, body }, res) => {
    const values = { job_id: job.id, body: textOf(body.body) };
    res.status(201).json(await scope.insertInto('comments').values(values).returning('id').executeTakeFirst());
  });

  app.patch('/w/:workshop/comments/:id', at.guard('comment.update'), async ({ standing, record: comment, body }, res) => {
    await standing.change('comment', [comment.id], { body: textOf(body.body) });
    res.json({});
  });

  app.put('/w/:workshop/jobs/:id/watchers/:user', at.guard('job.watch'), async (req, res) => {
    const user = idOf(req.params.user);
    if (!(await inWorkshop(req, user)).isMember) throw new Refused(404);
    await rows('insert into watchers (job_id, user_id) values ($1, $2) on conflict do nothing', [req.record.id, user]);
    res.status(204).end();
  });

  app.get('/w/:workshop/staff', async (req, res) => {
    const known = (await req.standing.members.list()).map(({ userId, name, roles }) => ({ id: Number(userId), name, role: roleOf(roles) }));
    res.json(known.sort((a, b) => a.id - b.id));
  });

  app.use((error: unknown, _req: Request, res: Response, _next: NextFunction) => {
    const { status } = error instanceof Refused ? error : problemOf(error);
    res.status(status).json({ error: status === 500 ? 'something went wrong' : new Refused(status).message });
  });
  return app;
}

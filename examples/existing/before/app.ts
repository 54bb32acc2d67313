/* Bicycle workshops on one platform: jobs, comments on them, and who watches them. Managers run a workshop, mechanics mend, customers see their own jobs. */
import { randomBytes, scryptSync, timingSafeEqual } from 'node:crypto';
import express, { type NextFunction, type Request, type Response } from 'express';
import type pg from 'pg';

type Role = 'manager' | 'mechanic' | 'customer';
interface Job {
  id: number;
  workshop_id: number;
  title: string;
  state: 'open' | 'done';
  price: number | null;
  mechanic_id: number | null;
  opened_by: number;
}

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

export function createApp(pool: pg.Pool): express.Express {
  const rows = async <T = any>(sql: string, values: unknown[] = []): Promise<T[]> => (await pool.query(sql, values)).rows;
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
    res.json(await rows('select w.id, w.name, s.role from workshops w join staff s on s.workshop_id = w.id where s.user_id = $1 order by w.id', [me]));
  });

  /** Who asks, in which workshop, as what. */
  const here = async (req: Request) => {
    const me = await signedIn(req);
    const workshop = idOf(req.params.workshop);
    const [staff] = await rows<{ role: Role }>('select role from staff where workshop_id = $1 and user_id = $2', [workshop, me]);
    if (!staff) throw new Refused(404);
    return { me, workshop, role: staff.role };
  };
  type Here = Awaited<ReturnType<typeof here>>;

  /** Managers and mechanics see every job of the workshop; customers those that they opened or watch. */
  const seen = ({ me, workshop, role }: Here): [string, unknown[]] =>
    role === 'customer'
      ? ['j.workshop_id = $1 and (j.opened_by = $2 or exists (select 1 from watchers w where w.job_id = j.id and w.user_id = $2))', [workshop, me]]
      : ['j.workshop_id = $1', [workshop]];
  const jobOf = async (who: Here, id: unknown): Promise<Job> => {
    const [where, values] = seen(who);
    const [job] = await rows<Job>(`select j.* from jobs j where ${where} and j.id = $${values.length + 1}`, [...values, idOf(id)]);
    if (!job) throw new Refused(404);
    return job;
  };
  /** What is agreed about money stays between the manager and who opened the job. */
  const shown = ({ me, role }: Here, job: Job) => ({ ...job, price: role === 'manager' || job.opened_by === me ? job.price : null });

  app.get('/w/:workshop/jobs', async (req, res) => {
    const who = await here(req);
    const [where, values] = seen(who);
    const jobs = await rows<Job>(`select j.* from jobs j where ${where} order by j.id`, values);
    res.json(jobs.map((job) => shown(who, job)));
  });

  app.post('/w/:workshop/jobs', async (req, res) => {
    const { me, workshop } = await here(req);
    const [job] = await rows('insert into jobs (workshop_id, title, opened_by) values ($1, $2, $3) returning id', [workshop, textOf(req.body.title), me]);
    res.status(201).json(job);
  });

  app.get('/w/:workshop/jobs/:id', async (req, res) => {
    const who = await here(req);
    res.json(shown(who, await jobOf(who, req.params.id)));
  });

  app.patch('/w/:workshop/jobs/:id', async (req, res) => {
    const who = await here(req);
    const job = await jobOf(who, req.params.id);
    const { title, state, price } = req.body;
    const mine = who.role === 'manager' || (who.role === 'mechanic' && job.mechanic_id === who.me);
    if ((title !== undefined || state !== undefined) && !mine) throw new Refused(403);
    if (price !== undefined && who.role !== 'manager') throw new Refused(403);
    if (state !== undefined && state !== 'open' && state !== 'done') throw new Refused(400);
    if (price !== undefined && price !== null && !Number.isInteger(price)) throw new Refused(400);
    await rows('update jobs set title = $2, state = $3, price = $4 where id = $1', [
      job.id,
      title === undefined ? job.title : textOf(title),
      state ?? job.state,
      price === undefined ? job.price : price,
    ]);
    res.json({});
  });

  app.post('/w/:workshop/jobs/:id/mechanic', async (req, res) => {
    const who = await here(req);
    const job = await jobOf(who, req.params.id);
    const to = idOf(req.body.to);
    // A mechanic takes what nobody has; a manager gives it to whom they like.
    const takes = who.role === 'mechanic' && job.mechanic_id === null && to === who.me;
    if (who.role !== 'manager' && !takes) throw new Refused(403);
    const [mechanic] = await rows("select 1 from staff where workshop_id = $1 and user_id = $2 and role in ('manager', 'mechanic')", [who.workshop, to]);
    if (!mechanic) throw new Refused(404);
    await rows('update jobs set mechanic_id = $2 where id = $1', [job.id, to]);
    res.json({});
  });

  app.delete('/w/:workshop/jobs/:id', async (req, res) => {
    const who = await here(req);
    const job = await jobOf(who, req.params.id);
    if (who.role !== 'manager') throw new Refused(403);
    await rows('delete from jobs where id = $1', [job.id]);
    res.status(204).end();
  });

  app.get('/w/:workshop/jobs/:id/comments', async (req, res) => {
    const job = await jobOf(await here(req), req.params.id);
    res.json(
      await rows('select c.id, c.body, c.author_id, u.name as author from comments c join users u on u.id = c.author_id where c.job_id = $1 order by c.id', [
        job.id,
      ]),
    );
  });

  app.post('/w/:workshop/jobs/:id/comments', async (req, res) => {
    const who = await here(req);
    const job = await jobOf(who, req.params.id);
    const [comment] = await rows('insert into comments (job_id, author_id, body) values ($1, $2, $3) returning id', [job.id, who.me, textOf(req.body.body)]);
    res.status(201).json(comment);
  });

  app.patch('/w/:workshop/comments/:id', async (req, res) => {
    const who = await here(req);
    const [comment] = await rows('select id, job_id, author_id from comments where id = $1', [idOf(req.params.id)]);
    if (!comment) throw new Refused(404);
    await jobOf(who, comment.job_id);
    if (comment.author_id !== who.me) throw new Refused(403);
    await rows('update comments set body = $2 where id = $1', [comment.id, textOf(req.body.body)]);
    res.json({});
  });

  app.put('/w/:workshop/jobs/:id/watchers/:user', async (req, res) => {
    const who = await here(req);
    const job = await jobOf(who, req.params.id);
    if (who.role === 'customer') throw new Refused(403);
    const user = idOf(req.params.user);
    const [member] = await rows('select 1 from staff where workshop_id = $1 and user_id = $2', [who.workshop, user]);
    if (!member) throw new Refused(404);
    await rows('insert into watchers (job_id, user_id) values ($1, $2) on conflict do nothing', [job.id, user]);
    res.status(204).end();
  });

  app.get('/w/:workshop/staff', async (req, res) => {
    const { workshop, role, me } = await here(req);
    // Customers know whom they can ask, and not each other.
    const known = role === 'customer' ? "and (s.role = 'manager' or s.user_id = $2)" : 'and $2 = $2';
    res.json(
      await rows(`select u.id, u.name, s.role from staff s join users u on u.id = s.user_id where s.workshop_id = $1 ${known} order by u.id`, [workshop, me]),
    );
  });

  app.use((error: unknown, _req: Request, res: Response, _next: NextFunction) => {
    const status = error instanceof Refused ? error.status : 500;
    res.status(status).json({ error: error instanceof Refused ? error.message : 'something went wrong' });
  });
  return app;
}

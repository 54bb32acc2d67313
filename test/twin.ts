/* The workshops of examples/existing in Fastify: the same routes, the same charter, the same answers. */
import { randomBytes } from 'node:crypto';
import Fastify, { type FastifyInstance, type FastifyRequest } from 'fastify';
import type pg from 'pg';
import { forFastify } from 'warm-lintel/fastify';
import { problemOf } from 'warm-lintel/http';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/existing/after/charter.js';

class Refused extends Error {
  readonly status: number;

  constructor(status: number) {
    super();
    this.status = status;
  }
}
const WORDS: Readonly<Record<number, string>> = { 400: 'bad request', 401: 'sign in first', 403: 'not allowed', 404: 'not found' };
const textOf = (value: unknown): string => (typeof value === 'string' && value.trim() !== '' ? value.trim() : refuse(400));
const idOf = (value: unknown): number => (Number.isInteger(Number(value)) && Number(value) > 0 && Number(value) < 2 ** 31 ? Number(value) : refuse(404));
const refuse = (status: number): never => {
  throw new Refused(status);
};
const roleOf = ([held]: readonly { role: string }[]) => (held?.role === 'keyholder' ? 'manager' : held?.role);

export async function createTwin(pool: pg.Pool): Promise<FastifyInstance> {
  const rows = async (text: string, values: unknown[]): Promise<any[]> => (await pool.query(text, values)).rows;
  const lintel = createLintel({ charter, db: pool });
  await lintel.prepare();
  const app = Fastify();
  app.setErrorHandler((error, _request, reply) => {
    const { status } = error instanceof Refused ? error : problemOf(error);
    return reply.code(status).send({ error: WORDS[status] ?? 'something went wrong' });
  });
  const signedIn = async ({ headers }: FastifyRequest): Promise<number> => {
    const [session] = await rows('select user_id from sessions where token = $1', [headers.authorization?.replace('Bearer ', '') ?? '']);
    return session ? session.user_id : refuse(401);
  };
  // Everybody's password is the same in the test.
  app.post('/sign-in', async ({ body }) => {
    const [user] = await rows('select id from users where email = $1', [textOf((body as any).email).toLowerCase()]);
    const token = randomBytes(24).toString('hex');
    await rows('insert into sessions (token, user_id) values ($1, $2)', [token, user.id]);
    return { token };
  });
  app.get('/workshops', async (request) => {
    const { standings } = await lintel.enterAll({ user: await signedIn(request) });
    const mine = standings.map((one) => ({ id: Number(one.facts.tenant.id), name: one.facts.tenant.name, role: roleOf(one.roles()) }));
    return mine.sort((a, b) => a.id - b.id);
  });
  const at = forFastify(lintel, { sender: async (request) => ({ user: await signedIn(request) }), tenant: ({ params }: any) => params.workshop });
  app.register(at.face, { prefix: '/lintel' });
  await app.register(
    async (mine) => {
      mine.addHook('preHandler', at.standing);
      const guard = (action: Parameters<typeof at.guard>[0]) => ({ preHandler: at.guard(action) });
      const inWorkshop = ({ standing }: FastifyRequest, user: number) => lintel.enter({ tenant: standing.facts.tenant.id, user });
      mine.get('/jobs', ({ scope }) => scope.selectFrom('jobs').selectAll().orderBy('id').execute());
      mine.post('/jobs', async ({ scope, body }: any, reply) => {
        const values = { title: textOf(body.title) };
        return reply.code(201).send(await scope.insertInto('jobs').values(values).returning('id').executeTakeFirst());
      });
      mine.get('/jobs/:id', guard('job.read'), ({ scope, record }) => scope.selectFrom('jobs').selectAll().where('id', '=', record.id).executeTakeFirst());
      mine.patch('/jobs/:id', guard('job.read'), async ({ standing, record: job, body }: any) => {
        const { title, state, price } = body;
        if (title !== undefined || state !== undefined) standing.insist('job.update', job);
        if (price !== undefined) standing.insist('job.price', job);
        if (state !== undefined && state !== 'open' && state !== 'done') refuse(400);
        if (price !== undefined && price !== null && !Number.isInteger(price)) refuse(400);
        await standing.change('job', [job.id], {
          ...(title !== undefined && { title: textOf(title) }),
          ...(state && { state }),
          ...(price !== undefined && { price }),
        });
        return {};
      });
      mine.post('/jobs/:id/mechanic', guard('job.read'), async (request) => {
        const { standing, record: job, body } = request;
        const to = idOf((body as any).to);
        if (String(to) !== standing.userId || !standing.may('job.take', job)) standing.insist('job.give', job);
        if (!(await inWorkshop(request, to)).may('area.bench')) refuse(404);
        await rows('update jobs set mechanic_id = $2 where id = $1', [job.id, to]);
        return {};
      });
      mine.delete('/jobs/:id', guard('job.delete'), async ({ record }, reply) => {
        await rows('delete from jobs where id = $1', [record.id]);
        return reply.code(204).send();
      });
      mine.get('/jobs/:id/comments', guard('job.read'), ({ record }) =>
        rows('select c.id, c.body, c.author_id, u.name as author from comments c join users u on u.id = c.author_id where c.job_id = $1 order by c.id', [
          record.id,
        ]),
      );
      mine.post('/jobs/:id/comments', guard('job.read'), async ({ scope, record: job, body }: any, reply) => {
        const values = { job_id: job.id, body: textOf(body.body) };
        return reply.code(201).send(await scope.insertInto('comments').values(values).returning('id').executeTakeFirst());
      });
      mine.patch('/comments/:id', guard('comment.update'), async ({ standing, record, body }: any) => {
        await standing.change('comment', [record.id], { body: textOf(body.body) });
        return {};
      });
      mine.put('/jobs/:id/watchers/:user', guard('job.watch'), async (request, reply) => {
        const user = idOf((request.params as any).user);
        if (!(await inWorkshop(request, user)).isMember) refuse(404);
        await rows('insert into watchers (job_id, user_id) values ($1, $2) on conflict do nothing', [request.record.id, user]);
        return reply.code(204).send();
      });
      mine.get('/staff', async ({ standing }) => {
        const known = (await standing.members.list()).map(({ userId, name, roles }) => ({ id: Number(userId), name, role: roleOf(roles) }));
        return known.sort((a, b) => a.id - b.id);
      });
    },
    { prefix: '/w/:workshop' },
  );
  return app;
}

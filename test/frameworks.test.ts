/* An application in Express, 4 or 5, or in Fastify: the standing on the request, guarded routes, problem details, and the membership mounted. */
import { once } from 'node:events';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import express from 'express';
// @ts-expect-error: it has no types under this name.
import express4 from 'express4';
import Fastify from 'fastify';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { forExpress } from 'warm-lintel/express';
import { forFastify } from 'warm-lintel/fastify';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

let lintel: Apiary;
let db: Awaited<ReturnType<typeof apiaryOnPostgres>>['db'];
const closing: (() => unknown)[] = [];
beforeAll(async () => {
  ({ lintel, db } = await apiaryOnPostgres());
});
afterAll(async () => {
  for (const close of closing) await close();
  await db.destroy();
});

type Headers = Record<string, string | string[] | undefined>;
const sender = ({ headers }: { headers: Headers }) =>
  headers['x-user']
    ? { user: String(headers['x-user']), fulfilled: ['recentSignIn'], ...(headers['x-look'] && { look: String(headers['x-look']) }) }
    : undefined;

const inExpress = (framework: typeof express) => async (): Promise<string> => {
  const app = framework();
  const at = forExpress(lintel, { sender });
  app.use('/unread', at.face());
  app.use(express.json());
  app.use('/lintel', at.face());
  app.patch('/w/:tenant/hives/:id', at.tried, at.guard('hive.update'), async (req, res) => {
    const { changed } = await at.of(req).standing.change('hive', [req.params.id], req.body);
    // Some of it is sent ahead.
    res.writeHead(200, { 'content-type': 'application/json', 'x-own': 'kept' });
    res.write('{"changed":');
    res.end(`${JSON.stringify(changed)}}`);
  });
  app.use('/w/:tenant', at.standing);
  app.get('/w/:tenant/hives/:id', at.guard('hive.read'), (req, res) => void res.json(req.record));
  app.put('/w/:tenant/hives/:id', at.guard('hive.update'), (req, res) => void res.json({ changed: req.record.id }));
  app.get('/w/:tenant/count', async (req, res) => void res.json(await at.of(req).scope.selectFrom('hives').select('id').execute()));
  app.get('/w/:tenant/broken', (_req, _res, next) => next(new Error('of the application')));
  app.use(at.problems);
  app.use(((error, _req, res, _next) => void res.status(500).json({ mine: error.message })) as express.ErrorRequestHandler);
  const server: Server = createServer(app).listen(0, '127.0.0.1');
  await once(server, 'listening');
  closing.push(() => server.close());
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
};

async function inFastify(): Promise<string> {
  const app = Fastify();
  const at = forFastify(lintel, { sender });
  app.setErrorHandler(async (error, request, reply) => {
    await at.problems(error, request, reply).catch((other: Error) => reply.code(500).send({ mine: other.message }));
  });
  app.register(at.face, { prefix: '/lintel' });
  app.patch('/w/:tenant/hives/:id', { preHandler: [at.tried, at.guard('hive.update')] }, async (request, reply) => {
    const { changed } = await at.of(request).standing.change('hive', [(request.params as { id: string }).id], request.body as object);
    return reply.header('x-own', 'kept').send({ changed });
  });
  app.register(async (mine) => {
    mine.addHook('preHandler', at.standing);
    mine.get('/w/:tenant/hives/:id', { preHandler: at.guard('hive.read') }, async (request) => request.record);
    mine.put('/w/:tenant/hives/:id', { preHandler: at.guard('hive.update') }, async (request) => ({ changed: request.record.id }));
    mine.get('/w/:tenant/count', (request) => at.of(request).scope.selectFrom('hives').select('id').execute());
    mine.get('/w/:tenant/broken', async () => {
      throw new Error('of the application');
    });
  });
  closing.push(() => app.close());
  return app.listen({ port: 0, host: '127.0.0.1' });
}

describe.each([
  ['Express 4', inExpress(express4 as unknown as typeof express)],
  ['Express 5', inExpress(express)],
  ['Fastify 5', inFastify],
])('%s', (name, build) => {
  test('routes are guarded, the scope is narrowed, errors are problem details, and the membership is mounted', async () => {
    const on = await build();
    const ask = async (user: string | undefined, method: string, path: string, body?: unknown, headers: Record<string, string> = {}) => {
      const sent = { ...(user && { 'x-user': user }), ...(body !== undefined && { 'content-type': 'application/json' }), ...headers };
      const response = await fetch(on + path, { method, headers: sent, ...(body !== undefined && { body: JSON.stringify(body) }) });
      const text = await response.text();
      return { status: response.status, type: response.headers.get('content-type') ?? '', text, data: JSON.parse(text) };
    };
    expect((await ask('tobias', 'GET', '/w/alderbrook/hives/a-hive-02')).data).toMatchObject({ id: 'a-hive-02', may: ['hive.read'] });
    const [hidden, missing] = [await ask('tobias', 'GET', '/w/alderbrook/hives/q-hive-01'), await ask('tobias', 'GET', '/w/alderbrook/hives/no-such')];
    expect([hidden.status, hidden.text, hidden.type]).toEqual([404, missing.text, 'application/problem+json']);
    expect((await ask('tobias', 'PUT', '/w/alderbrook/hives/a-hive-02', {})).data).toMatchObject({ code: 'refused', status: 403 });
    expect((await ask('sela', 'PUT', '/w/alderbrook/hives/a-hive-02', {})).data).toEqual({ changed: 'a-hive-02' });
    // Tried by who looks as the keeper, it is answered as to them, and not done; what does not say that it may be tried is not reached.
    const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
    const { id } = await maren.lookAs({ user: 'sela', tries: true });
    const looks = { 'x-look': id };
    const tries = (path: string, body: object) =>
      fetch(`${on}/w/alderbrook/${path}`, {
        method: 'PATCH',
        headers: { 'x-user': 'maren', 'content-type': 'application/json', ...looks },
        body: JSON.stringify(body),
      });
    const [theirs] = await maren.find('hive', { where: { keeperId: 'tobias' } });
    const tried = await tries('hives/a-hive-02', { name: 'Tried hive' });
    expect([tried.status, tried.headers.get('lintel-look'), tried.headers.get('x-own'), await tried.json()]).toEqual([
      200,
      'tried',
      'kept',
      { changed: ['a-hive-02'] },
    ]);
    expect(await (await tries(`hives/${theirs?.id}`, { name: 'Tried hive' })).json()).toMatchObject({ status: 403 });
    expect((await maren.findOne('hive', 'a-hive-02')).name).not.toBe('Tried hive');
    expect((await ask('maren', 'PUT', '/w/alderbrook/hives/a-hive-02', {}, looks)).data).toMatchObject({ code: 'not-for-trial', status: 403 });
    expect((await ask('sela', 'PATCH', '/w/alderbrook/hives/a-hive-02', { name: `Hive of ${name}` })).data).toEqual({ changed: ['a-hive-02'] });
    expect((await maren.findOne('hive', 'a-hive-02')).name).toBe(`Hive of ${name}`);
    expect((await ask(undefined, 'GET', '/w/alderbrook/count')).status).toBe(401);
    expect((await ask('tobias', 'GET', '/w/quillmoor/count')).status).toBe(404);
    const found = await (await lintel.enter({ tenant: 'quillmoor', user: 'ingrid' })).find('hive');
    expect((await ask('ingrid', 'GET', '/w/quillmoor/count')).data.length).toBe(found.length);
    // What is no error of ours is the application's to answer.
    expect(await ask('tobias', 'GET', '/w/alderbrook/broken')).toMatchObject({ status: 500, data: { mine: 'of the application' } });

    const steps = { steps: [{ do: 'place', user: 'lene', units: [] }] };
    for (const mounted of name === 'Fastify 5' ? ['/lintel'] : ['/lintel', '/unread']) {
      expect((await ask('maren', 'GET', `${mounted}/tenants/alderbrook/members?limit=2`)).data.items.length).toBe(2);
      expect((await ask('maren', 'POST', `${mounted}/tenants/alderbrook/proposals`, steps)).data).toMatchObject({ problems: [] });
      expect((await ask('tobias', 'POST', `${mounted}/tenants/alderbrook/changes`, steps)).status).toBe(403);
      expect((await ask('tobias', 'GET', `${mounted}/tenants/quillmoor/members`)).text).toBe(
        (await ask('tobias', 'GET', `${mounted}/tenants/none/members`)).text,
      );
      // A form of another site changes nothing, and one of one's own does.
      const form = { cookie: 'session=1' };
      const as = (origin: string, type: string) =>
        fetch(`${on}${mounted}/tenants/alderbrook/proposals`, {
          method: 'POST',
          headers: { ...form, 'x-user': 'maren', origin, 'content-type': type },
          body: JSON.stringify(steps),
        });
      expect([(await as('https://evil.example', 'text/plain')).status >= 400, (await as(on, 'application/json')).status]).toEqual([true, 200]);
    }
  });

  test('an action that there is not is told when the route is made', () => {
    const guard = name === 'Fastify 5' ? forFastify(lintel, { sender }).guard : forExpress(lintel, { sender }).guard;
    expect(() => guard('hive.updte' as never)).toThrow(/did you mean "?hive\.update/);
  });
});

/* The typed client, against the face itself. */
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type Client, createClient, Refusal } from 'warm-lintel/client';
import { createFace, type Face } from 'warm-lintel/http';
import { ROUTES } from '../src/http/routes.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

let lintel: Apiary;
let face: Face;
let close: () => Promise<void>;
beforeAll(async () => {
  const world = await apiaryOnPostgres();
  lintel = world.lintel;
  close = () => world.db.destroy();
  const sender = (request: Request) => ({ user: request.headers.get('x-user') as string, fulfilled: ['recentSignIn'] });
  face = createFace(lintel as never, { sender, at: '/lintel', perMinute: 100_000, accounts: {} as never, signOn: {} as never, domains: {} as never });
});
afterAll(() => close());

const clientOf = (user: string, seen: RequestInit[] = []): Client =>
  createClient({
    at: 'http://apiary.example/lintel',
    fetch: (address, init) => {
      seen.push(init);
      return face.fetch(new Request(address, { ...init, headers: { ...init.headers, 'x-user': user } }));
    },
  });
const tenant = 'alderbrook';

test('each route is answered by an operation, and no part of a path is called like what goes with it', () => {
  const described = Object.entries((face.openApi as any).paths).flatMap(([path, methods]: any) =>
    Object.entries<any>(methods).map(([method, { operationId, parameters = [], requestBody }]) => {
      const body = requestBody?.content['application/json'].schema;
      const names = [
        ...(body?.anyOf ?? [body]).flatMap((one: any) => Object.keys(one?.properties ?? {})),
        ...parameters.filter((one: any) => one.in === 'query').map((one: any) => one.name),
      ];
      expect(parameters.filter((one: any) => one.in === 'path' && names.includes(one.name))).toEqual([]);
      return [operationId, `${method.toUpperCase()} ${path}`];
    }),
  );
  expect(Object.fromEntries(described)).toEqual(ROUTES);
});

test('lists are read page by page; a change that follows an older answer is refused, and its words are the server’s', async () => {
  const client = clientOf('maren');
  const all = await client.listMembers({ tenant, limit: 200 });
  const names: string[] = [];
  for (let after: string | undefined; ; ) {
    const part = await client.listMembers({ tenant, limit: 3, after });
    names.push(...part.items.map(({ name }) => name));
    if (part.next === null) break;
    after = part.next;
  }
  expect(names).toEqual(all.items.map(({ name }) => name));
  await client.change({ tenant, steps: [{ do: 'make-group', id: 'swarm', name: 'Swarm watch' }] }, { seen: all });
  const late = await client.change({ tenant, steps: [{ do: 'drop-group', id: 'swarm' }] }, { seen: all }).catch((error: unknown) => error as Refusal);
  expect(late).toMatchObject({ name: 'Refusal', status: 412, code: 'changed-meanwhile' });
  const proposal = await client.propose({ tenant, steps: [{ do: 'drop-group', id: 'swarm' }] });
  expect((await client.change({ tenant, ...proposal })).done[0]?.what).toBe('group dropped');
  await expect(client.change({ tenant, steps: [{ do: 'leave' }] }, { seen: {} })).rejects.toThrow('"seen" is no answer of this client');
});

test('the same invitation under one key is sent once; what is refused says what is to be done first', async () => {
  const sent: RequestInit[] = [];
  const client = clientOf('maren', sent);
  const invitations = [{ address: 'ada@fern.example', roles: [{ role: 'reader', anchor: { on: 'tenant' } as const }] }];
  const [first, again] = [await client.invite({ tenant, invitations }, { once: 'a' }), await client.invite({ tenant, invitations }, { once: 'a' })];
  // The link is a secret: it is answered once.
  expect(again.answers.map(({ token, invitationId }) => [token, invitationId])).toEqual([[undefined, first.answers[0]?.invitationId]]);
  expect(sent.map(({ headers }) => (headers as Record<string, string>)['idempotency-key'])).toEqual(['a', 'a']);
  await expect(clientOf('nobody').listMembers({ tenant })).rejects.toMatchObject({ status: 404, code: 'not-found' });
});

test('a part of the path that is missing, and a server that is away, are told apart', async () => {
  await expect((clientOf('maren').member as any)({ tenant })).rejects.toThrow('member: "user" is missing; give it as a text');
  const away = createClient({ fetch: () => Promise.reject(new TypeError('failed')) });
  await expect(away.myTenants()).rejects.toMatchObject({ status: 0, code: 'no-answer', message: 'The server does not answer. Try again.' });
  const [ids, odd] = ['a/b ?#', [] as string[]];
  const client = createClient({
    fetch: async (address) => {
      odd.push(address);
      return Response.json({});
    },
  });
  await client.member({ tenant, user: ids });
  expect(odd).toEqual(['/lintel/tenants/alderbrook/members/a%2Fb%20%3F%23']);
  expect(new Refusal(429, 'too-fast', 'Wait.', { seconds: 3 }).more).toEqual({ seconds: 3 });
});

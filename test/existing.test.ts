/* An application that exists already: Express, plain SQL, integer ids, people and members of its own. As it was, and with the library, it answers the same. */
import { once } from 'node:events';
import { readFileSync } from 'node:fs';
import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import fc from 'fast-check';
import pg from 'pg';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { createLintel, policyStatements } from 'warm-lintel/server';
import { createApp as createAfter } from '../examples/existing/after/app.js';
import { charter } from '../examples/existing/after/charter.js';
import { takeOver } from '../examples/existing/after/take-over.js';
import { createApp as createBefore, passwordHash } from '../examples/existing/before/app.js';
import { LONG } from './long.js';
import { databaseOn } from './setup.js';
import { createTwin } from './twin.js';

const NAMES = ['Ida', 'Jon', 'Kim', 'Lea', 'Max', 'Ned'];
const closing: (() => unknown)[] = [];
afterAll(async () => {
  for (const close of closing.reverse()) await close();
});

interface Answer {
  readonly status: number;
  readonly data: any;
}
type Ask = (name: string | undefined, method: string, path: string, body?: unknown) => Promise<Answer>;

async function world(): Promise<pg.Pool> {
  const pool = new pg.Pool({ connectionString: await databaseOn(inject('postgres')), max: 4 });
  closing.push(() => pool.end());
  await pool.query(readFileSync(new URL('../examples/existing/before/schema.sql', import.meta.url), 'utf8'));
  for (const name of NAMES)
    await pool.query('insert into users (name, email, password) values ($1, $2, $3)', [name, `${name.toLowerCase()}@wheels.example`, passwordHash('spokes')]);
  await pool.query("insert into workshops (name) values ('Hub'), ('Rim')");
  // Ida runs Hub; Jon and Kim mend there; Lea and Max are customers, Max of both; Jon runs Rim. Ned is nowhere.
  await pool.query(
    "insert into staff values (1, 1, 'manager'), (1, 2, 'mechanic'), (1, 3, 'mechanic'), (1, 4, 'customer'), (1, 5, 'customer'), (2, 2, 'manager'), (2, 5, 'customer')",
  );
  return pool;
}

async function inExpress(app: { listen(port: number, host: string): Server }): Promise<string> {
  const server = app.listen(0, '127.0.0.1');
  closing.push(() => server.close());
  await once(server, 'listening');
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

async function asking(url: string): Promise<Ask> {
  const tokens = new Map<string, string>();
  const send = async (method: string, path: string, body?: unknown, token?: string): Promise<Answer> => {
    const headers = { ...(body !== undefined && { 'content-type': 'application/json' }), ...(token && { authorization: `Bearer ${token}` }) };
    const response = await fetch(`${url}${path}`, {
      method,
      headers,
      ...(body !== undefined && { body: JSON.stringify(body) }),
    });
    const text = await response.text();
    return { status: response.status, data: text === '' ? undefined : JSON.parse(text) };
  };
  for (const name of NAMES) tokens.set(name, (await send('POST', '/sign-in', { email: `${name}@wheels.example`, password: 'spokes' })).data.token);
  return (name, method, path, body) => send(method, path, body, name === undefined ? undefined : tokens.get(name));
}

let before: Ask;
let pool: pg.Pool;
beforeAll(async () => {
  pool = await world();
  before = await asking(await inExpress(createBefore(pool)));
});

const WITH: Readonly<Record<string, (over: pg.Pool) => Promise<string>>> = {
  'in Express': async (over) => inExpress(await createAfter(over)),
  'in Fastify': async (over) => {
    const app = await createTwin(over);
    closing.push(() => app.close());
    return app.listen({ port: 0, host: '127.0.0.1' });
  },
};

/** A request that somebody may think of: lawful ones, and ids that are another's, are gone, or are none. */
const request = fc
  .record({
    name: fc.option(fc.constantFrom(...NAMES), { freq: 20, nil: undefined }),
    workshop: fc.constantFrom(1, 1, 1, 2, 3, 'x'),
    id: fc.oneof({ arbitrary: fc.integer({ min: 1, max: 36 }), weight: 12 }, fc.constantFrom('abc', 0, -1, 3_000_000_000, '1.5')),
    user: fc.oneof({ arbitrary: fc.integer({ min: 1, max: 7 }), weight: 12 }, fc.constantFrom('abc', 99_999_999_999)),
    route: fc.nat(12),
    text: fc.constantFrom('Flat tyre', 'Brakes', '', '  ', null, 7),
    state: fc.constantFrom(undefined, undefined, 'open', 'done', 'gone'),
    price: fc.constantFrom(undefined, undefined, 40, null, 1.5, '5'),
    title: fc.constantFrom(undefined, 'Newly called', ''),
  })
  .map(({ name, workshop, id, user, route, text, state, price, title }) => {
    const at = `/w/${workshop}`;
    const all: readonly (readonly [method: string, path: string, body?: unknown])[] = [
      ['GET', '/workshops'],
      ['GET', `${at}/jobs`],
      ['POST', `${at}/jobs`, { title: text }],
      ['POST', `${at}/jobs`, { title: 'Squeaks' }],
      ['GET', `${at}/jobs/${id}`],
      ['PATCH', `${at}/jobs/${id}`, { state, price, title }],
      ['POST', `${at}/jobs/${id}/mechanic`, { to: user }],
      ['DELETE', `${at}/jobs/${id}`],
      ['GET', `${at}/jobs/${id}/comments`],
      ['POST', `${at}/jobs/${id}/comments`, { body: text }],
      ['PATCH', `${at}/comments/${id}`, { body: text }],
      ['PUT', `${at}/jobs/${id}/watchers/${user}`],
      ['GET', `${at}/staff`],
    ];
    return { name, ask: all[route] as (typeof all)[number] };
  });

test.each(
  Object.entries(WITH)
    .slice(0, LONG ? undefined : 1)
    .map(([where, serve]) => [where, LONG ? 500 : 60, serve] as const),
)('%s, %i requests are answered the same as before the library, and leave the same rows', { timeout: 120_000 }, async (_where, count, serve) => {
  const over = await world();
  expect(await takeOver(over)).toMatchObject({ people: { brought: 6 }, members: { brought: 7 }, opened: 2, refused: [] });
  const after = await asking(await serve(over));
  await pool.query('truncate jobs, comments, watchers restart identity');

  const statuses = new Map<number, number>();
  // More jobs and comments than are deleted, so that there is something to ask about.
  for (let i = 0; i < 30; i++)
    for (const ask of [before, after]) {
      await ask('Lea', 'POST', '/w/1/jobs', { title: `Job ${i}` });
      await ask('Lea', 'POST', `/w/1/jobs/${i + 1}/comments`, { body: 'Please' });
    }
  for (const { name, ask } of fc.sample(request, { numRuns: count, seed: 13 })) {
    const [was, is] = [await before(name, ...ask), await after(name, ...ask)];
    expect({ name, ask, ...is }).toEqual({ name, ask, ...was });
    statuses.set(is.status, (statuses.get(is.status) ?? 0) + 1);
  }
  for (const status of [200, 201, 400, 401, 403, 404]) expect([status, (statuses.get(status) ?? 0) > 1]).toEqual([status, true]);
  const left = (one: pg.Pool) =>
    Promise.all(['jobs', 'comments', 'watchers'].map(async (table) => (await one.query(`select * from ${table} order by 1, 2`)).rows));
  const [was, is] = [await left(pool), await left(over)];
  expect(is).toEqual(was);
});

test('plain SQL in a transaction that carries who asks shows each what the routes show', { timeout: 60_000 }, async () => {
  const owner = await world();
  await takeOver(owner);
  const lintel = createLintel({ charter, db: owner });
  await owner.query('do $$ begin create role workshop_app login; exception when duplicate_object then null; end $$');
  for (const statement of policyStatements(charter, { role: 'workshop_app' })) await owner.query(statement);
  await owner.query("insert into jobs (workshop_id, title, opened_by, price) values (1, 'Flat tyre', 4, 10), (1, 'Brakes', 5, 20), (2, 'Gears', 5, 30)");
  await owner.query('insert into comments (job_id, author_id, body) values (1, 4, $1), (2, 5, $1), (3, 5, $1)', ['Please']);
  await owner.query('insert into watchers values (2, 4)');
  const { options } = owner as unknown as { options: { connectionString: string } };
  const pool = new pg.Pool({ connectionString: options.connectionString.replace('lintel@', 'workshop_app@'), max: 1 });
  closing.push(() => pool.end());
  const seen: Record<string, unknown> = {};
  for (const [user, name] of [
    [1, 'Ida'],
    [3, 'Kim'],
    [4, 'Lea'],
    [5, 'Max'],
    [6, 'Ned'],
  ] as const) {
    const standing = await lintel.enter({ tenant: 1, user });
    const client = await pool.connect();
    await client.query('begin');
    await standing.carryInto((text, values) => client.query(text, [...values]));
    const { rows: jobs } = await client.query('select id, title, state from jobs order by id');
    const { rows: comments } = await client.query('select id from comments order by id');
    await client.query('commit');
    client.release();
    seen[name] = [jobs.map(({ id }) => id), comments.map(({ id }) => id)];
  }
  expect(seen).toEqual({
    Ida: [
      [1, 2],
      [1, 2],
    ],
    Kim: [
      [1, 2],
      [1, 2],
    ],
    Lea: [
      [1, 2],
      [1, 2],
    ],
    Max: [[2], [2]],
    Ned: [[], []],
  });
});

test('the guide shows what the application does: each line of it stands there', () => {
  const all = ['examples/existing/after/app.ts', 'examples/existing/after/take-over.ts', 'test/existing.test.ts']
    .map((file) => readFileSync(file, 'utf8'))
    .join('\n');
  const known = new Set(all.split('\n').map((line) => line.trim().replace(/^return /, '')));
  const blocks = [...readFileSync('docs/guide/existing.md', 'utf8').matchAll(/```js\n([\s\S]*?)```/g)].map(([, block]) => block as string);
  const unknown = blocks.flatMap((block) => block.split('\n')).filter((line) => !known.has(line.trim().replace(/^await (?=lintel)/, '')));
  expect([blocks.length, unknown]).toEqual([3, []]);
});

test('what the library adds to it is less than what it takes out: at most 60 lines come in beside the charter', () => {
  const linesOf = (...files: string[]) =>
    files.flatMap((file) => readFileSync(new URL(`../examples/existing/${file}`, import.meta.url), 'utf8').split('\n')).filter((line) => line.trim() !== '');
  const [was, is] = [linesOf('before/app.ts'), linesOf('after/app.ts', 'after/take-over.ts')];
  const left = new Map<string, number>();
  for (const line of was) left.set(line, (left.get(line) ?? 0) + 1);
  const added = is.filter((line) => {
    const count = left.get(line) ?? 0;
    left.set(line, count - 1);
    return count <= 0;
  });
  expect(added.length).toBeLessThanOrEqual(60);
  expect(is.length).toBeLessThan(was.length);
});

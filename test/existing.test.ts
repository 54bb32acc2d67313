/* An application that exists already: Express, plain SQL, integer ids, people and members of its own. */
import { once } from 'node:events';
import { readFileSync } from 'node:fs';
import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import pg from 'pg';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { createApp, passwordHash } from '../examples/existing/before/app.js';
import { databaseOn } from './setup.js';

let pool: pg.Pool;
let server: Server;
beforeAll(async () => {
  pool = new pg.Pool({ connectionString: await databaseOn(inject('postgres')), max: 4 });
  await pool.query(readFileSync(new URL('../examples/existing/before/schema.sql', import.meta.url), 'utf8'));
  const names = ['Ida', 'Jon', 'Kim', 'Lea', 'Max'];
  for (const name of names)
    await pool.query('insert into users (name, email, password) values ($1, $2, $3)', [name, `${name.toLowerCase()}@wheels.example`, passwordHash('spokes')]);
  await pool.query("insert into workshops (name) values ('Hub'), ('Rim')");
  // Ida runs Hub; Jon and Kim mend there; Lea and Max are customers, Max of both; Jon runs Rim.
  await pool.query(
    "insert into staff values (1, 1, 'manager'), (1, 2, 'mechanic'), (1, 3, 'mechanic'), (1, 4, 'customer'), (1, 5, 'customer'), (2, 2, 'manager'), (2, 5, 'customer')",
  );
  server = createApp(pool).listen(0, '127.0.0.1');
  await once(server, 'listening');
});
afterAll(async () => {
  server.close();
  await pool.end();
});

async function as(name: string) {
  const send = async (method: string, path: string, body?: unknown, token?: string) => {
    const headers = { 'content-type': 'application/json', ...(token && { authorization: `Bearer ${token}` }) };
    const response = await fetch(`http://127.0.0.1:${(server.address() as AddressInfo).port}${path}`, {
      method,
      headers,
      ...(body !== undefined && { body: JSON.stringify(body) }),
    });
    const text = await response.text();
    return { status: response.status, data: text === '' ? undefined : JSON.parse(text) };
  };
  const { token } = (await send('POST', '/sign-in', { email: `${name}@wheels.example`, password: 'spokes' })).data;
  return (method: string, path: string, body?: unknown) => send(method, path, body, token);
}

test('as it was: each sees and changes what the application itself lets them', async () => {
  const [ida, jon, kim, lea, max] = await Promise.all([as('ida'), as('jon'), as('kim'), as('lea'), as('max')]);
  const { id } = (await lea('POST', '/w/1/jobs', { title: 'Flat tyre' })).data;
  const job = `/w/1/jobs/${id}`;
  expect([(await max('GET', job)).status, (await max('GET', `/w/2/jobs/${id}`)).status]).toEqual([404, 404]);
  expect((await jon('PATCH', job, { state: 'done' })).status).toBe(403);
  expect([(await jon('POST', `${job}/mechanic`, { to: 2 })).status, (await kim('POST', `${job}/mechanic`, { to: 3 })).status]).toEqual([200, 403]);
  expect([(await jon('PATCH', job, { state: 'done' })).status, (await jon('PATCH', job, { price: 5 })).status]).toEqual([200, 403]);
  expect((await ida('PATCH', job, { price: 40 })).status).toBe(200);
  expect([(await lea('GET', job)).data.price, (await jon('GET', job)).data.price]).toEqual([40, null]);
  const comment = (await lea('POST', `${job}/comments`, { body: 'Thanks' })).data.id;
  expect([(await ida('PATCH', `/w/1/comments/${comment}`, { body: 'x' })).status, (await max('GET', `${job}/comments`)).status]).toEqual([403, 404]);
  expect((await jon('PUT', `${job}/watchers/5`)).status).toBe(204);
  expect((await max('GET', `${job}/comments`)).data).toMatchObject([{ body: 'Thanks', author: 'Lea' }]);
  expect((await lea('GET', '/w/1/staff')).data.map(({ name }: any) => name)).toEqual(['Ida', 'Lea']);
  expect([(await jon('DELETE', job)).status, (await ida('DELETE', job)).status, (await lea('GET', '/w/1/jobs')).data]).toEqual([403, 204, []]);
});

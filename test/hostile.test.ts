/* Whatever is sent to any operation, of the shape that it describes or not: it is answered as described, and never as a fault of ours. */

import { Ajv2020 } from 'ajv/dist/2020.js';
import addFormats from 'ajv-formats';
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { createFace, type Face } from 'warm-lintel/http';
import { LONG } from './long.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

let lintel: Apiary;
let db: Kysely<any>;
let face: Face;
const faceOn = (on: unknown) =>
  createFace(on as never, {
    sender: (request) => ({ user: request.headers.get('x-user') as string, fulfilled: ['recentSignIn'] }),
    perMinute: 10_000_000,
    onError: (error) => faults.push(error),
  });
const faults: unknown[] = [];
beforeAll(async () => {
  ({ lintel, db } = await apiaryOnPostgres());
  face = faceOn(lintel);
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
  // Names as any other.
  await maren.carryOut([
    { do: 'add-unit', id: 'constructor', name: 'Constructor' },
    { do: 'add-unit', id: '__proto__', name: 'Proto', below: 'constructor' },
    { do: 'make-group', id: 'toString', name: 'To string', people: ['lene'] },
    { do: 'place', user: 'lene', units: ['constructor', '__proto__'] },
    { do: 'set-roles', holder: { user: 'lene' }, roles: [{ role: 'junior', anchor: { on: 'unit', unitId: '__proto__' } }] },
  ]);
});
afterAll(() => db.destroy());

const of = <T>(...values: readonly T[]) => fc.constantFrom(...values);
const ids = of(
  'maren',
  'tobias',
  'lene',
  'alderbrook',
  'orchards',
  'saturday',
  'keeper',
  'own-x',
  'hive',
  'hive.read',
  'a-hive-01',
  'tenant',
  'own',
  'user',
  'me',
);
const odd = of(
  'constructor',
  '__proto__',
  'toString',
  '',
  ' ',
  '\0',
  'a\ud800',
  '\u202ename',
  '%',
  '\\',
  "'",
  '5',
  '-1',
  'lintel:nobody',
  'x'.repeat(300),
  '2026-02-30T00:00:00Z',
  '9999-12-31T23:59:59Z',
);
const texts = fc.oneof({ weight: 5, arbitrary: ids }, { weight: 2, arbitrary: odd }, { weight: 1, arbitrary: fc.string({ unit: 'binary', maxLength: 12 }) });
const moment = of('2030-01-01T00:00:00Z', '2027-05-01T10:00:00+02:00');

/** Something of the shape that a schema describes, mostly. */
function shaped(schema: any, schemas: any, depth = 0): fc.Arbitrary<unknown> {
  if (schema.$ref) return shaped(schemas[schema.$ref.split('/').at(-1)], schemas, depth);
  if ('const' in schema) return fc.constant(schema.const);
  if (schema.enum) return of(...schema.enum);
  const ways = schema.oneOf ?? schema.anyOf;
  if (ways) return fc.oneof(...ways.map((way: any) => shaped(way, schemas, depth + 1)));
  if (schema.type === 'object' || schema.properties) {
    const { properties = {}, required = [], additionalProperties } = schema;
    const known = fc.record(Object.fromEntries(Object.entries(properties).map(([name, one]) => [name, shaped(one, schemas, depth + 1)])), {
      requiredKeys: required,
    });
    if (typeof additionalProperties !== 'object' || Object.keys(additionalProperties).length === 0) return known;
    return fc.tuple(known, fc.dictionary(texts, shaped(additionalProperties, schemas, depth + 1), { maxKeys: 2 })).map(([a, b]) => ({ ...a, ...b }));
  }
  if (schema.type === 'array') return fc.array(shaped(schema.items ?? {}, schemas, depth + 1), { minLength: schema.minItems ?? 0, maxLength: 3 });
  if (schema.type === 'string') return schema.format === 'date-time' ? fc.oneof({ weight: 4, arbitrary: moment }, texts) : texts;
  if (schema.type === 'integer' || schema.type === 'number') return of(0, 1, 3, -1, 1e308, 2 ** 53);
  if (schema.type === 'boolean') return fc.boolean();
  if (schema.type === 'null') return fc.constant(null);
  return fc.jsonValue({ maxDepth: 3 });
}

/** The same with something else somewhere, or something else altogether. */
function spoilt(shape: fc.Arbitrary<unknown>): fc.Arbitrary<unknown> {
  return fc.tuple(shape, fc.nat(40), fc.oneof(fc.jsonValue({ maxDepth: 2 }), texts)).map(([value, at, junk]) => {
    let left = at;
    const walk = (one: unknown): unknown => {
      if (left-- === 0) return junk;
      if (Array.isArray(one)) return one.map(walk);
      if (typeof one === 'object' && one !== null) return Object.fromEntries(Object.entries(one).map(([key, inner]) => [key, walk(inner)]));
      return one;
    };
    return walk(value);
  });
}

test('every operation answers whatever it is sent as it describes, and nothing is a fault', { timeout: 1_800_000 }, async () => {
  const { paths, components } = face.openApi as any;
  const ajv = addFormats.default(new Ajv2020({ strict: false }));
  const checks = new Map<object, ReturnType<typeof ajv.compile>>();
  const checkOf = (schema: object) => {
    const check = checks.get(schema) ?? ajv.compile({ ...schema, components });
    checks.set(schema, check);
    return check;
  };
  const operations = Object.entries<any>(paths).flatMap(([url, methods]) =>
    Object.entries<any>(methods).map(([method, operation]) => ({ url, method, operation })),
  );
  const asked = operations.map(({ url, method, operation }) => {
    const parameters = (where: string) =>
      fc.record(
        Object.fromEntries((operation.parameters ?? []).filter((p: any) => p.in === where).map((p: any) => [p.name, shaped(p.schema, components.schemas)])),
        where === 'path' ? {} : { requiredKeys: [] },
      );
    const shape = operation.requestBody ? shaped(operation.requestBody.content['application/json'].schema, components.schemas) : fc.constant(undefined);
    return fc.record({
      url: fc.constant(url as string),
      method: fc.constant(method as string),
      operation: fc.constant(operation),
      path: parameters('path'),
      query: parameters('query'),
      body: operation.requestBody ? fc.oneof({ weight: 3, arbitrary: shape }, { weight: 1, arbitrary: spoilt(shape) }) : shape,
      as: of('maren', 'maren', 'maren', 'lene', 'wim', 'nobody'),
    });
  });
  let within: Face | undefined;
  const inside = (tx: Kysely<any>) => (within ??= faceOn(lintel.within(tx)));
  let [done, sent] = [0, 0];
  const requests = LONG ? 20_000 : 150;
  class Undo extends Error {}
  const all = (tx: Kysely<any>) =>
    fc.assert(
      fc.asyncProperty(fc.oneof(...asked), async ({ url, method, operation, path, query, body, as }) => {
        const text = (value: unknown) => Buffer.from(typeof value === 'string' ? value : JSON.stringify(value)).toString();
        const full = url.replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(name === 'tenant' ? 'alderbrook' : text((path as any)[name]) || 'x'));
        const search = new URLSearchParams(Object.entries(query).map(([name, value]) => [name, text(value)]));
        const request = new Request(`http://face.example${full}?${search}`, {
          method: method.toUpperCase(),
          headers: { 'x-user': as, ...(body !== undefined && { 'content-type': 'application/json' }) },
          ...(body !== undefined && { body: JSON.stringify(body) }),
        });
        // Each from the same state.
        await sql`savepoint asked`.execute(tx);
        const response = await inside(tx).fetch(request);
        await sql`rollback to savepoint asked`.execute(tx);
        await sql`release savepoint asked`.execute(tx);
        const answer = response.status === 304 ? undefined : await response.json();
        expect([response.status < 500 || response.status === 502, faults.splice(0)]).toEqual([true, []]);
        const schema = response.ok ? operation.responses[200].content['application/json'].schema : components.schemas.Problem;
        const check = checkOf(schema);
        expect(check(answer) ? [] : [check.errors, answer]).toEqual([]);
        sent += 1;
        if (response.ok) done += 1;
      }),
      { numRuns: requests },
    );
  await db
    .transaction()
    .execute(async (tx) => {
      await all(tx);
      throw new Undo();
    })
    .catch((error: unknown) => {
      if (!(error instanceof Undo)) throw error;
    });
  // Some of it is right.
  expect(done / sent).toBeGreaterThan(0.1);
});

test('what is too large, too deep, or asked too often is refused before it is read', async () => {
  const send = (body: string, operation = 'proposals', on = face) =>
    on.fetch(
      new Request(`http://face.example/tenants/alderbrook/${operation}`, {
        method: 'POST',
        body,
        headers: { 'x-user': 'maren', 'content-type': 'application/json' },
      }),
    );
  const codeOf = async (response: Response | Promise<Response>) => ((await (await response).json()) as any).code;
  const large = JSON.stringify({ steps: [{ do: 'set-group', id: 'saturday', people: Array.from({ length: 100_000 }, (_, i) => `p${i}`) }] });
  expect(await codeOf(send(large))).toBe('too-large');
  const several = (count: number) =>
    JSON.stringify({ steps: Array.from({ length: 5 }, () => ({ do: 'set-group', id: 'saturday', people: Array.from({ length: count }, (_, i) => `p${i}`) })) });
  expect(await codeOf(send(several(9000)))).toBe('bad-request');
  expect(await codeOf(send('['.repeat(40_000)))).toBe('bad-request');
  const slow = createFace(lintel as never, { sender: () => ({ user: 'maren' }), perMinute: 25 });
  const steps = JSON.stringify({ steps: [{ do: 'place', user: 'lene', units: [] }] });
  // A proposal counts as ten.
  const came = [];
  for (let i = 0; i < 3; i++) came.push((await send(steps, 'proposals', slow)).status);
  expect(came).toEqual([200, 200, 429]);
  // Of whoever asks for tenants that are none a tenth is answered, and nobody else waits for that.
  const guessed = createFace(lintel as never, { sender: (request) => ({ user: request.headers.get('x-user') as string }), perMinute: 100 });
  const look = async (user: string, tenant: string) =>
    (await guessed.fetch(new Request(`http://face.example/tenants/${tenant}/members`, { headers: { 'x-user': user } }))).status;
  const looked = [];
  for (let i = 0; i < 11; i++) looked.push(await look('mads', `tenant-${i}`));
  expect([looked, await look('mads', 'quillmoor'), await look('maren', 'alderbrook')]).toEqual([[...Array(10).fill(404), 429], 429, 200]);
});

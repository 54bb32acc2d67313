/* One rule, several engines: generated predicates over awkward data give the same records in memory, on PGlite and on PostgreSQL. */

import { PGlite } from '@electric-sql/pglite';
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type Predicate, readCharter } from 'warm-lintel';
import { connect, createLintel } from 'warm-lintel/server';
import { emptyPostgres } from './worlds.js';

const texts = ['', 'a', 'A', 'ä', 'a ', '\u{1F41D}', '\uFB01', "o'hive", '%', null];
const instants = ['1970-01-01T00:00:00.000Z', '2026-05-01T12:00:00.000Z', '2026-05-01T12:00:00.001Z', '2037-12-31T23:59:59.999Z', null];
const integers = [-1, 0, 1, Number.MAX_SAFE_INTEGER, null];
const decimals = ['-0.50', '0.00', '1.10', '123456789012.34', null];
const users = ['u1', 'u2', 'U1', null];
const units = ['top', 'left', 'leaf', 'other', null];

interface Row {
  [field: string]: unknown;
  id: string;
}
const pick = <T>(all: readonly T[], i: number): T => all[i % all.length] as T;
const yards: Row[] = Array.from({ length: 6 }, (_, i) => ({
  id: `y${i % 5}`,
  tenantId: i === 5 ? 'other' : 'here',
  ownerId: pick(users, i),
  name: pick(texts, i * 3),
}));
const hives: Row[] = Array.from({ length: 60 }, (_, i) => ({
  id: `h${i}`,
  tenantId: i % 13 === 12 ? 'other' : 'here',
  ownerId: pick(users, i),
  unitId: pick(units, i * 3 + (i >> 2)),
  yardId: i % 7 === 0 ? null : i % 11 === 0 ? 'nowhere' : `y${i % 5}`,
  name: pick(texts, i * 7 + (i >> 3)),
  other: pick(texts, i * 3),
  count: pick(integers, i + (i >> 2)),
  price: pick(decimals, i * 2 + (i >> 3)),
  // Microseconds beyond the millisecond, as a database keeps them.
  at: pick(instants, i + (i >> 1))?.replace('Z', i % 2 ? '499Z' : 'Z') ?? null,
  open: pick([true, false, null], i),
  helpers: i % 4 === 0 ? ['u1', 'u2'] : i % 4 === 1 ? ['U1'] : [],
}));

const plainField = (type: string) => ({ role: 'plain', type });
const common = { id: { role: 'id', type: 'text' }, tenantId: { role: 'tenant', type: 'text' }, ownerId: { role: 'owner', type: 'text' } };
const kinds = (reach: Predicate) => ({
  yard: {
    table: 'yards',
    label: 'name',
    one: 'yard',
    many: 'yards',
    fields: { ...common, name: plainField('text') },
    actions: { read: { label: 'See' } },
    reaches: { own: { op: 'is', field: 'ownerId', to: { me: 'userId' } } },
  },
  hive: {
    table: 'hives',
    label: 'name',
    one: 'hive',
    many: 'hives',
    actions: { read: { label: 'See' } },
    reaches: { drawn: reach },
    fields: {
      ...common,
      unitId: { role: 'unit', type: 'text' },
      yardId: { role: 'parent', type: 'text', to: 'yard' },
      name: plainField('text'),
      other: plainField('text'),
      count: plainField('integer'),
      price: { ...plainField('decimal'), scale: 2 },
      at: plainField('instant'),
      open: plainField('boolean'),
      helpers: { role: 'people', type: 'text', link: { table: 'hive_helpers', tenant: 'tenant_id', record: 'hive_id', user: 'user_id' } },
    },
  },
});

const constantFrom = <T>(values: readonly T[]) => fc.constantFrom(...values.filter((v) => v !== null)).map((value) => ({ value }));
const ordered = fc.constantFrom('is', 'before', 'after', 'atLeast', 'atMost');
const attribute = (name: string) => fc.constantFrom({ me: `attributes.${name}` }, { me: 'attributes.missing' }, { context: 'absent' });
const comparison = (field: string, to: fc.Arbitrary<unknown>, op: fc.Arbitrary<string> = ordered) => fc.record({ op, field: fc.constant(field), to });
const person = fc.oneof(constantFrom(users), fc.constant({ me: 'userId' }), attribute('friend'));
const onYard = fc.oneof(
  comparison('ownerId', person, fc.constant('is')),
  comparison('name', constantFrom(texts)),
  fc.constant({ op: 'isEmpty', field: 'name' }),
  fc.constant({ op: 'always' }),
);
const leaf = fc.oneof(
  comparison('name', fc.oneof(constantFrom(texts), attribute('word'), fc.constant({ field: 'other' }))),
  comparison('count', fc.oneof(constantFrom(integers), attribute('number'), attribute('word'))),
  comparison('price', constantFrom(decimals)),
  comparison('at', constantFrom(instants)),
  comparison('open', constantFrom([true, false]), fc.constant('is')),
  comparison('ownerId', person, fc.constant('is')),
  comparison('helpers', person, fc.constant('includes')),
  comparison('unitId', fc.constant({ me: 'unitIds' }), fc.constant('within')),
  comparison(
    'ownerId',
    fc.oneof(
      fc.constant({ me: 'groupIds' }),
      fc.subarray(['u1', 'u2', 'zz']).map((value) => ({ value })),
    ),
    fc.constant('in'),
  ),
  fc.record({ op: fc.constant('isEmpty'), field: fc.constantFrom('ownerId', 'unitId', 'name', 'at') }),
  fc.record({
    op: fc.constant('parent'),
    via: fc.constant('yardId'),
    where: fc.oneof(
      onYard,
      onYard.map((of) => ({ op: 'not', of })),
    ),
  }),
  fc.constant({ op: 'followed', via: 'yardId' }),
);
const predicate = fc.letrec<{ p: unknown }>((tie) => ({
  p: fc.oneof(
    { depthSize: 'small' },
    leaf,
    tie('p').map((of) => ({ op: 'not', of })),
    fc.record({ op: fc.constantFrom('and', 'or'), of: fc.array(tie('p'), { minLength: 1, maxLength: 3 }) }),
  ),
})).p as fc.Arbitrary<Predicate>;

async function build(db: Kysely<any>): Promise<void> {
  const owner = readCharter({ kinds: kinds({ op: 'always' }) });
  const lintel = createLintel({ charter: owner, db });
  for (const statement of [
    'create table yards (id text, tenant_id text, owner_id text, name text)',
    'create table hives (id text, tenant_id text, owner_id text, unit_id text, yard_id text, name text, other text, count bigint, price numeric(20, 2), at timestamptz, open boolean)',
    'create table hive_helpers (tenant_id text, hive_id text, user_id text)',
  ])
    await sql.raw(statement).execute(db);
  await lintel.prepare();
  for (const id of ['u1', 'boss']) await lintel.addPerson({ id, name: id, address: `${id}@agree.example` });
  await lintel.openTenant({ id: 'here', name: 'Here', keyholder: 'boss' });
  const boss = await lintel.enter({ tenant: 'here', user: 'boss' });
  await boss.tenant.addUnit({ id: 'top', name: 'top' });
  await boss.tenant.addUnit({ id: 'left', name: 'left', below: 'top' });
  await boss.tenant.addUnit({ id: 'leaf', name: 'leaf', below: 'left' });
  await boss.tenant.addUnit({ id: 'other', name: 'other' });
  await db
    .insertInto('lintel_member')
    .values({ tenant_id: 'here', user_id: 'u1', status: 'active', since: new Date(0), attributes: JSON.stringify({ word: 'a', number: 1, friend: 'u2' }) })
    .execute();
  await boss.members.place('u1', ['left']);
  await db.insertInto('lintel_assignment').values({ tenant_id: 'here', user_id: 'u1', role: 'drawn', anchor: 'tenant', anchor_id: 'here' }).execute();
  await db
    .insertInto('yards')
    .values(yards.map((y) => ({ id: y.id, tenant_id: y.tenantId, owner_id: y.ownerId, name: y.name })))
    .execute();
  await db
    .insertInto('hives')
    .values(
      hives.map(({ tenantId, ownerId, unitId, yardId, helpers: _h, ...h }) => ({
        ...h,
        tenant_id: tenantId,
        owner_id: ownerId,
        unit_id: unitId,
        yard_id: yardId,
      })),
    )
    .execute();
  await db
    .insertInto('hive_helpers')
    .values(hives.flatMap((h) => (h.helpers as string[]).map((user_id) => ({ tenant_id: h.tenantId, hive_id: h.id, user_id }))))
    .execute();
  // The same link in another tenant opens nothing here.
  await db
    .insertInto('hive_helpers')
    .values(hives.map((h) => ({ tenant_id: 'other', hive_id: h.id, user_id: 'u2' })))
    .execute();
}

const engines: { name: string; db: Kysely<any> }[] = [];
beforeAll(async () => {
  engines.push({ name: 'PGlite', db: connect<any>(new PGlite()) }, { name: 'PostgreSQL', db: (await emptyPostgres()).db });
  for (const { db } of engines) await build(db);
});
afterAll(async () => {
  for (const { db } of engines) await db.destroy();
});

/** The record as it is loaded: with its parent, if there is one in the same tenant. */
const inMemory = hives.map((h) => {
  const helpers = h.tenantId === 'other' ? [...(h.helpers as string[]), 'u2'] : h.helpers;
  return { ...h, helpers, parents: { yardId: yards.find((y) => y.id === h.yardId && y.tenantId === h.tenantId) ?? null } };
});

test('a drawn rule reaches the same records in memory, on PGlite and on PostgreSQL', async () => {
  let [none, some] = [0, 0];
  await fc.assert(
    fc.asyncProperty(predicate, fc.constantFrom(['drawn'], ['drawn', 'limited']), async (reach, [, limited]) => {
      const charter = readCharter({
        kinds: kinds(reach),
        roles: { drawn: { label: 'Drawn', may: { 'hive.read': limited ? ['tenant'] : ['drawn'], 'yard.read': ['own'] } } },
        // The same predicate as a limit: what is missing then counts the other way.
        limits: limited ? { hive: { drawn: { actions: ['read'], where: reach, sentence: 'no', lasting: true } } } : {},
      });
      const found: Record<string, string[]> = {};
      for (const { name, db } of engines) {
        const standing = await createLintel({ charter, db }).enter({ tenant: 'here', user: 'u1' });
        found[name] = (await standing.find('hive', { limit: 1000 })).map((h) => String((h as unknown as Row).id)).sort();
        found.memory = inMemory
          .filter((h) => standing.may('hive.read', h as never))
          .map((h) => h.id)
          .sort();
      }
      expect(found.PGlite).toEqual(found.memory);
      expect(found.PostgreSQL).toEqual(found.memory);
      if (found.memory?.length) some += 1;
      else none += 1;
    }),
    { numRuns: process.env.LINTEL_LONG ? 5000 : 300 },
  );
  // A generator that reaches nothing, or everything, would prove nothing.
  expect(some).toBeGreaterThan(none / 4);
});

test('what is missing about the person counts against them: no reach widens and no limit narrows by it', async () => {
  const { db } = engines[1] as { db: Kysely<any> };
  const missing: Predicate = { op: 'is', field: 'name', to: { me: 'attributes.missing' } };
  const count = async (where: Predicate, asLimit: boolean) => {
    const charter = readCharter({
      kinds: kinds(where),
      roles: { drawn: { label: 'Drawn', may: { 'hive.read': asLimit ? ['tenant'] : ['drawn'] } } },
      limits: asLimit ? { hive: { l: { actions: ['read'], where, sentence: 'no', lasting: true } } } : {},
    });
    return (await (await createLintel({ charter, db }).enter({ tenant: 'here', user: 'u1' })).find('hive', { limit: 1000 })).length;
  };
  for (const where of [missing, { op: 'not', of: missing }] as Predicate[]) {
    expect(await count(where, false)).toBe(0);
    expect(await count(where, true)).toBe(0);
  }
});

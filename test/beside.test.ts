/* Fitting in beside what an application has: other builders, its own queries, its own schema. */

import { sql as drizzleSql } from 'drizzle-orm';
import { drizzle } from 'drizzle-orm/node-postgres';
import { pgTable, text } from 'drizzle-orm/pg-core';
import { CamelCasePlugin, Kysely, SqliteDialect, sql } from 'kysely';
import Database from 'libsql';
import type pg from 'pg';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { isLintelError, readCharter } from 'warm-lintel';
import { createLintel, type ScopeDifference } from 'warm-lintel/server';
import { type Apiary, apiaryOnPostgres, emptyPostgres } from './worlds.js';

let lintel: Apiary;
let db: Kysely<any>;
let pool: pg.Pool;
beforeAll(async () => {
  ({ lintel, db, pool } = await apiaryOnPostgres());
});
afterAll(() => db.destroy());

const ids = (rows: readonly any[]) => rows.map((row) => String(row.id)).sort();
const enter = (user: string) => lintel.enter({ tenant: 'alderbrook', user });
const code = (work: () => Promise<unknown>) =>
  work().then(
    () => 'done',
    (error: unknown) => (isLintelError(error) ? error.code : `not ours: ${String(error)}`),
  );

test('the same condition serves SQL by hand, another builder, and an array in memory', async () => {
  const hives = pgTable('hives', { id: text('id').primaryKey(), name: text('name') });
  const all = (await db.selectFrom('hives').selectAll().execute()).map(({ tenant_id, keeper_id, site_id, ...row }) => ({
    ...row,
    tenantId: tenant_id,
    keeperId: keeper_id,
    siteId: site_id,
  }));
  for (const user of ['maren', 'tobias', 'otto', 'lene']) {
    const standing = await enter(user);
    const mine = ids(await standing.find('hive', { limit: 1000 }));
    const { text: where, values } = standing.condition('hive.read', 'h', { first: 2 });
    const byHand = await pool.query(`select h.id from hives h where h.name <> $1 and ${where}`, ['nothing', ...values]);
    expect(ids(byHand.rows)).toEqual(mine);
    expect([...where.matchAll(/\$(\d+)/g)].map(([, number]) => Number(number))).toEqual(values.map((_, i) => i + 2));
    const other = await drizzle(pool).select({ id: hives.id }).from(hives).where(standing.condition('hive.read', 'hives').tag(drizzleSql));
    expect(ids(other)).toEqual(mine);
    expect(ids(standing.keep('hive.update', all))).toEqual(
      ids((await standing.find('hive', { limit: 1000, may: ['hive.update'] })).filter((hive) => hive.may?.includes('hive.update'))),
    );
  }
});

test('beside an application’s own queries it is reported where scope would differ, and nothing changes', async () => {
  const reported: ScopeDifference[] = [];
  const own = (await enter('ingrid')).beside<any>((difference) => reported.push(difference)) as any;
  const all = await own.selectFrom('hives').select('id').execute();
  expect(all.length).toBe((await db.selectFrom('hives').select('id').execute()).length);
  expect(reported).toHaveLength(1);
  expect(ids(reported[0]?.only ?? []).length).toBe(all.length - 5);
  reported.length = 0;
  await own.selectFrom('sheets').select('id').execute();
  expect(reported).toEqual([]);
  // The same row as often as it stands there; and as many others instead are others all the same.
  await own.selectFrom('hives').select('tenant_id').execute();
  await own.selectFrom('hives').select('id').orderBy('id', 'desc').limit(1).execute();
  await own.withPlugin(new CamelCasePlugin()).selectFrom('hives').select('tenantId').execute();
  expect(reported.map(({ only, missing }) => [only?.length, missing?.length])).toEqual([
    [all.length - 5, 0],
    [1, 1],
    [all.length - 5, 0],
  ]);
  reported.length = 0;
  // A write is done once.
  const maren = (await enter('maren')).beside<any>((difference) => reported.push(difference)) as any;
  const named = async () => (await db.selectFrom('hives').select('name').where('id', '=', 'a-hive-01').executeTakeFirstOrThrow()).name;
  const before = await named();
  const louder = (eb: any) => ({ name: eb('name', '||', '!') });
  await maren.updateTable('hives').set(louder).where('id', '=', 'a-hive-01').execute();
  expect(await named()).toBe(`${before}!`);
  expect(reported).toEqual([]);
  await own.selectFrom('hives').select(sql`1`.as('one')).limit(1).execute();
  expect(reported[0]?.refused).toMatch(/raw SQL fragment/);
  reported.length = 0;
  await own.transaction().execute((trx: any) => trx.updateTable('hives').set({ keeper_id: 'nobody', name: 'x' }).where('id', '=', 'not there').execute());
  expect(reported[0]?.refused).toMatch(/new owner together with other changes/);
});

test('past the scope there is one door, with a name and a reason on the record', async () => {
  const tobias = await enter('tobias');
  expect(await code(() => tobias.door('export', ' ', async () => 1))).toBe('bad-reason');
  const count = await tobias.door('export', 'Yearly count for the county', async (past) => (await past.selectFrom('hives').select('id').execute()).length);
  expect(count).toBe((await db.selectFrom('hives').select('id').execute()).length);
  const [last] = await db
    .selectFrom('lintel_audit')
    .select(['what', 'event', 'actor'])
    .where('tenant_id', '=', 'alderbrook')
    .orderBy('number', 'desc')
    .limit(1)
    .execute();
  expect(last).toMatchObject({ what: 'scope passed', actor: 'tobias', event: { door: 'export' } });
  expect(await code(async () => (await lintel.enter({ tenant: 'alderbrook', user: 'rosa' })).door('export', 'x', async () => 1))).toBe('not-found');
});

const key = (role: string) => ({ role, type: 'text' });
const keys = { id: key('id'), tenantId: key('tenant'), name: key('plain') };
const words = (...names: string[]) => Object.fromEntries(names.map((label) => [label, { label }]));
const yards = readCharter({
  kinds: {
    yard: {
      table: 'yards',
      label: 'name',
      one: 'yard',
      many: 'yards',
      fields: { ...keys, ownerId: key('owner') },
      actions: words('read', 'choose'),
      reaches: { own: { op: 'is', field: 'ownerId', to: { me: 'userId' } }, named: { op: 'not', of: { op: 'is', field: 'name', to: { value: 'secret' } } } },
    },
    crate: {
      table: 'crates',
      label: 'name',
      one: 'crate',
      many: 'crates',
      fields: { ...keys, yardId: { ...key('parent'), to: 'yard', follow: false, change: 'create' } },
      actions: words('read', 'create'),
    },
  },
  roles: { packer: { label: 'Packer', may: { 'yard.read': ['own'], 'yard.choose': ['named'], 'crate.read': ['tenant'], 'crate.create': ['tenant'] } } },
});

test('what may be chosen is shown by id and label, and named as a parent; on SQLite beside the membership too', async () => {
  const records = new Kysely<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) });
  for (const where of [db, records]) {
    await sql`create table yards (id text, tenant_id text, owner_id text, name text)`.execute(where);
    await sql`create table crates (id text primary key, tenant_id text, yard_id text, name text)`.execute(where);
    await where
      .insertInto('yards')
      .values(['tobias', 'sela', 'secret'].map((name) => ({ id: name, tenant_id: 'alderbrook', owner_id: name === 'tobias' ? 'tobias' : 'sela', name })))
      .execute();
  }
  await db
    .insertInto('lintel_assignment')
    .values({ tenant_id: 'alderbrook', user_id: 'tobias', role: 'packer', anchor: 'tenant', anchor_id: 'alderbrook' })
    .execute();
  for (const options of [{}, { records }] as { records?: Kysely<any> }[]) {
    const standing = await createLintel({ charter: yards, db, ...options }).enter({ tenant: 'alderbrook', user: 'tobias' });
    expect(ids(await standing.find('yard'))).toEqual(['tobias']);
    expect(await standing.choices('yard')).toEqual(['sela', 'tobias'].map((name) => ({ id: name, label: name })));
    expect(await standing.choices('yard', { like: 'SEL' })).toEqual([{ id: 'sela', label: 'sela' }]);
    const pack = (yard_id: string) => code(() => standing.scope<any>().insertInto('crates').values({ id: yard_id, yard_id, name: 'x' }).execute());
    expect(await pack('sela')).toBe('done');
    expect(await pack('secret')).toBe('no-such-value');
    expect(await pack('nowhere')).toBe('no-such-value');
    // All of a write or nothing, also of two at once on one connection; what another constraint says of it is passed on.
    const packAll = (...rows: [string, string][]) =>
      code(() =>
        standing
          .scope<any>()
          .insertInto('crates')
          .values(rows.map(([id, yard_id]) => ({ id, yard_id, name: 'x' })))
          .execute(),
      );
    expect(await Promise.all([packAll(['lost', 'sela'], ['spoils it', 'secret']), packAll(['kept', 'sela'])])).toEqual(['no-such-value', 'done']);
    expect(await packAll(['lost', 'sela'], ['kept', 'sela'])).toMatch(/^not ours: .*(duplicate key|UNIQUE)/i);
    expect(ids(await (options.records ?? db).selectFrom('crates').select('id').execute())).toEqual(['kept', 'sela']);
  }
  await records.destroy();
});

test('a column in which acme and ACME are one is refused before anything runs, on PostgreSQL and on SQLite', async () => {
  const { db: other } = await emptyPostgres();
  await sql`create collation blind (provider = icu, locale = 'und-u-ks-level2', deterministic = false)`.execute(other);
  const records = new Kysely<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) });
  for (const [where, collation] of [
    [other, 'collate blind'],
    [records, 'collate nocase'],
  ] as const) {
    await sql.raw(`create table yards (id text, tenant_id text ${collation}, owner_id text, name text)`).execute(where);
    await sql.raw('create table crates (id text, tenant_id text, name text)').execute(where);
  }
  for (const options of [{}, { records }]) {
    const error = await createLintel({ charter: yards, db: other, ...options })
      .prepare()
      .catch((e: Error) => e.message);
    expect(error).toMatch(/kinds.yard.fields.tenantId: "yards"."tenant_id" has a collation that holds different texts for equal/);
    expect(error).toMatch(/kinds.crate.fields.yardId: the table "crates" has no column "yard_id"/);
  }
  await other.destroy();
  await records.destroy();
});

test('a rule that is nested ten thousand deep is refused by its depth', () => {
  let where: object = { op: 'always' };
  for (let i = 0; i < 10_000; i++) where = { op: 'not', of: where };
  const kinds = { yard: { ...yards.data.kinds.yard, reaches: { deep: where } } };
  expect(() => readCharter({ kinds })).toThrow(/is nested deeper than/);
});

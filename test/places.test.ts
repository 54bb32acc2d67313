/* Records in several places, each a PostgreSQL server of its own, and copies of them to read from. */
import { Kysely, SqliteDialect, sql } from 'kysely';
import Database from 'libsql';
import pg from 'pg';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, test } from 'vitest';
import { defineCharter, defineKinds, id, owner, people, tenant, text } from 'warm-lintel';
import { connect, createLintel, type Lintel, type ServerStanding } from 'warm-lintel/server';
import { testLong } from './long.js';
import { emptyPglite } from './pglite.js';
import { type Cluster, databaseOn, startPostgres } from './setup.js';
import { emptyPostgres } from './worlds.js';

const label = { label: 'Do' };
const charter = defineCharter(
  defineKinds(
    {
      hive: {
        table: 'hives',
        label: 'name',
        journal: {},
        fields: {
          id: id({ type: 'text' }),
          farmId: tenant({ type: 'text' }),
          keeperId: owner({ type: 'text', change: 'give' }),
          name: text(),
          helpers: people({ table: 'helpers', tenant: 'farm_id', record: 'hive_id', user: 'user_id', type: 'text', change: 'appoint' }),
        },
        actions: { read: label, create: label, update: label, delete: label, give: label, appoint: label },
      },
    },
    { hive: { own: ({ record, me }) => record.keeperId.is(me.userId), helped: ({ record, me }) => record.helpers.includes(me.userId) } },
  ),
  { roles: { keeper: { label: 'Keeper', may: { 'hive.read': ['own', 'helped'], 'hive.create': 'own', 'hive.update': 'own' } } } },
);
const TABLES = [
  'create table hives (id text primary key, farm_id text, keeper_id text, name text collate "C")',
  'create table helpers (farm_id text, hive_id text, user_id text)',
];

let now = Date.UTC(2026, 5, 1);
let second: Cluster;
beforeAll(async () => {
  second = await startPostgres();
});
afterAll(() => second?.stop());

const poolOn = (connectionString: string) => new pg.Pool({ connectionString, max: 4, connectionTimeoutMillis: 20_000 });
const code = (work: Promise<unknown>) => work.then(() => 'done').catch((error: { code?: string }) => error.code);
const names = (rows: readonly object[]) => rows.map((row) => (row as { readonly name: string }).name);

async function filled(url: string, rows: readonly (readonly [id: string, farm: string, keeper: string, name: string])[]): Promise<pg.Pool> {
  const pool = poolOn(url);
  const db = connect<any>(pool);
  for (const statement of TABLES) await sql.raw(statement).execute(db);
  for (const [id, farm_id, keeper_id, name] of rows) await db.insertInto('hives').values({ id, farm_id, keeper_id, name }).execute();
  return pool;
}

async function peopled(lintel: Lintel<any>, farms: Readonly<Record<string, string | undefined>>) {
  for (const who of ['kim', 'ada', 'bo']) await lintel.addPerson({ id: who, name: who, address: `${who}@farm.example`, confirmedAt: new Date(0) });
  for (const [farm, place] of Object.entries(farms)) {
    await lintel.openTenant({ id: farm, name: farm, keyholder: 'kim', ...(place !== undefined && { place }) });
    for (const who of ['ada', 'bo']) await letIn(lintel, farm, who);
  }
}

async function invite(lintel: Lintel<any>, farm: string, who: string): Promise<string> {
  const kim = await lintel.enter({ tenant: farm, user: 'kim' });
  const [sent] = await kim.invitations.send([{ address: `${who}@farm.example`, roles: [{ role: 'keeper', anchor: { on: 'tenant' } }] }]);
  return sent?.token as string;
}

const letIn = async (lintel: Lintel<any>, farm: string, who: string) => lintel.acceptInvitation(who, { token: await invite(lintel, farm, who) });

describe('in two places', () => {
  let lintel: Lintel<any>;
  let [north, south]: pg.Pool[] = [];
  let db: Kysely<any>;
  beforeEach(async () => {
    ({ db } = await emptyPostgres(4));
    north = await filled(await databaseOn(inject('postgres')), [
      ['h1', 'fell', 'ada', 'Zinnia'],
      ['h2', 'fell', 'bo', 'amber'],
      ['h9', 'dale', 'ada', 'Misplaced'],
    ]);
    south = await filled(await databaseOn(second.url), [
      ['h1', 'dale', 'ada', 'Bramble'],
      ['h2', 'dale', 'kim', 'Ångström'],
      ['h3', 'dale', 'ada', 'amber'],
    ]);
    lintel = createLintel({ charter, db, places: { north: north as pg.Pool, south: south as pg.Pool }, clock: () => now }) as Lintel<any>;
    expect(await lintel.prepare()).toEqual({ away: [] });
    await peopled(lintel, { fell: 'north', dale: 'south' });
  });

  test('a tenant’s records are where it has said when it was opened, and nowhere else', async () => {
    const [fell, dale] = [await lintel.enter({ tenant: 'fell', user: 'ada' }), await lintel.enter({ tenant: 'dale', user: 'ada' })];
    expect([names(await fell.find('hive')), names(await dale.find('hive', { order: 'name' }))]).toEqual([['Zinnia'], ['Bramble', 'amber']]);
    await dale.scope<any>().insertInto('hives').values({ id: 'h4', name: 'New' }).execute();
    await dale.change('hive', ['h4'], { name: 'Newer' });
    expect([
      names((await (south as pg.Pool).query("select name from hives where id = 'h4'")).rows),
      (await (north as pg.Pool).query('select * from hives')).rows.length,
    ]).toEqual([['Newer'], 3]);
    const kim = await lintel.enter({ tenant: 'dale', user: 'kim' });
    expect((await kim.journal('hive', 'h4')).items.map(({ what }) => what)).toEqual(['changed', 'made']);
    // The Kysely of another place, or one that nobody knows, is not written to.
    const [here, there] = [await lintel.recordsOf('dale'), await lintel.recordsOf('fell')];
    for (const other of [there, connect<any>(south as pg.Pool)]) expect(await code((async () => dale.scope(other))())).toBe('other-place');
    expect(await code(there.transaction().execute(async (tx) => dale.scope(tx)))).toBe('other-place');
    const inside = await here.transaction().execute((tx) => dale.scope<any>(tx).selectFrom('hives').select('name').where('id', '=', 'h1').execute());
    expect(names(inside)).toEqual(['Bramble']);
    expect(await code((async () => lintel.records)())).toBe('several-places');
    expect(await code(lintel.openTenant({ id: 'x', name: 'X', keyholder: 'kim', place: 'norht' }))).toBe('no-place');
    expect(await code(lintel.openTenant({ id: 'x', name: 'X', keyholder: 'kim' }))).toBe('no-place');
  });

  test('a tenant that has named none is an error of its own, until it names one, once', async () => {
    await db.updateTable('lintel_tenant').set({ place: null }).where('id', '=', 'fell').execute();
    const again = createLintel({ charter, db, places: { north: north as pg.Pool, south: south as pg.Pool } }) as Lintel<any>;
    const ada = await again.enter({ tenant: 'fell', user: 'ada' });
    expect([ada.may('hive.create'), await code(ada.find('hive')), await code((async () => ada.scope())())]).toEqual([true, 'no-place', 'no-place']);
    expect(names(await (await again.enter({ tenant: 'dale', user: 'ada' })).find('hive', { limit: 1 }))).toEqual(['Bramble']);
    expect([
      await code(again.placeTenant('fell', 'nroth')),
      await code(again.placeTenant('fell', 'north')),
      await code(again.placeTenant('fell', 'south')),
    ]).toEqual(['no-place', 'done', 'place-named']);
    expect(names(await (await again.enter({ tenant: 'fell', user: 'ada' })).find('hive'))).toEqual(['Zinnia']);
  });

  test('one list out of both is in one order, part by part, and counts what is out of reach nowhere', async () => {
    const all = await lintel.enterAll({ user: 'ada' });
    for (const order of ['name', '-name', 'id', undefined]) {
      const whole = await all.find('hive', { ...(order && { order }) });
      expect(whole.length).toBe(3);
      const parts = [];
      for (let offset = 0; offset < 4; offset++) parts.push(...(await all.find('hive', { ...(order && { order }), limit: 1, offset })));
      expect(parts).toEqual(whole);
    }
    expect(names(await all.find('hive', { order: 'name' }))).toEqual(['Bramble', 'Zinnia', 'amber']);
    expect(await code((async () => all.scope())())).toBe('several-places');
    expect(names(await (all.in('fell') as ServerStanding<any>).find('hive'))).toEqual(['Zinnia']);
    expect(names(await (await lintel.enterAll({ user: 'ada', tenants: ['dale'] })).find('hive'))).toEqual(['Bramble', 'amber']);
  });

  test('a place that is taken away is missed by its tenants alone; what is to be taken off records there is, when it is back, and nobody comes in again before', async () => {
    const kim = await lintel.enter({ tenant: 'dale', user: 'kim' });
    await kim.change('hive', ['h1'], { helpers: { add: ['bo'] } });
    const bo = () => lintel.enter({ tenant: 'dale', user: 'bo' });
    expect(names(await (await bo()).find('hive'))).toEqual(['Bramble']);
    const helpers = async () => (await (south as pg.Pool).query("select user_id from helpers where farm_id = 'dale'")).rows.map(({ user_id }) => user_id);
    let token = '';
    await second.takeAway();
    try {
      const all = await lintel.enterAll({ user: 'ada' });
      const missing: string[] = [];
      expect(names(await all.find('hive', { away: (tenants) => missing.push(...tenants) }))).toEqual(['Zinnia']);
      expect([missing, await code(all.find('hive'))]).toEqual([['dale'], 'place-away']);
      expect([
        await code((await lintel.enter({ tenant: 'dale', user: 'ada' })).find('hive')),
        await code((await lintel.enter({ tenant: 'fell', user: 'ada' })).find('hive')),
      ]).toEqual(['place-away', 'done']);
      // The membership goes on.
      await kim.members.remove('bo');
      token = await invite(lintel, 'dale', 'bo');
      expect((await bo()).isMember).toBe(false);
      expect(await lintel.takeOffRecords()).toEqual({ done: 0, waiting: 1 });
      expect(await code(lintel.acceptInvitation('bo', { token }))).toBe('still-leaving');
      const started = createLintel({ charter, db, places: { north: north as pg.Pool, south: south as pg.Pool } }) as Lintel<any>;
      expect(await started.prepare()).toEqual({ away: ['south'] });
      const there = await started.enter({ tenant: 'dale', user: 'ada' });
      expect([await code(there.find('hive')), await code((await started.enter({ tenant: 'fell', user: 'ada' })).find('hive'))]).toEqual(['place-away', 'done']);
      await second.giveBack();
      expect(await code(there.find('hive'))).toBe('place-away');
      expect([await started.prepare(), await code(there.find('hive'))]).toEqual([{ away: [] }, 'done']);
    } finally {
      await second.giveBack();
    }
    expect(await helpers()).toEqual(['bo']);
    expect(await code(lintel.acceptInvitation('bo', { token }))).toBe('still-leaving');
    const done = await Promise.all([lintel.takeOffRecords(), lintel.takeOffRecords()]);
    expect(done.map((one) => one.done).sort()).toEqual([0, 1]);
    expect(await helpers()).toEqual([]);
    await lintel.acceptInvitation('bo', { token });
    expect(await (await bo()).find('hive')).toEqual([]);
    // Where it can be reached it is done with the change itself.
    await kim.change('hive', ['h1'], { helpers: ['bo'] });
    await kim.members.remove('bo');
    expect(await helpers()).toEqual([]);
    await letIn(lintel, 'dale', 'bo');
  });

  test('of a removal and an appointment in the same moment nothing is left that comes back with whoever was removed', async () => {
    const kim = await lintel.enter({ tenant: 'dale', user: 'kim' });
    const at = (await (south as pg.Pool).connect()) as pg.PoolClient;
    // An appointment is held up after it was found that they are a member.
    await at.query(`create function held() returns trigger language plpgsql as 'begin perform pg_advisory_xact_lock(77); return new; end'`);
    await at.query('create trigger held before insert on helpers for each row execute function held()');
    const isWaited = async (on: { query(text: string): Promise<{ rows: unknown[] }> }) =>
      (await on.query("select 1 from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'")).rows.length > 0;
    await at.query('select pg_advisory_lock(77)');
    const appointed = code(kim.change('hive', ['h1'], { helpers: { add: ['bo'] } }));
    while (!(await isWaited(at)));
    let isOver = false;
    const removed = code(kim.members.remove('bo')).finally(() => {
      isOver = true;
    });
    const membership = { query: async (text: string) => sql.raw(text).execute(db) };
    while (!isOver && !(await isWaited(membership)));
    await at.query('select pg_advisory_unlock(77)');
    expect([await appointed, await removed]).toEqual(['done', 'done']);
    await at.query('drop trigger held on helpers');
    at.release();
    await lintel.takeOffRecords();
    await letIn(lintel, 'dale', 'bo');
    expect(await (await lintel.enter({ tenant: 'dale', user: 'bo' })).find('hive')).toEqual([]);
  });

  test('whom a transaction of the application has linked, and not committed, is let in again once they are taken off after it', async () => {
    const kim = await lintel.enter({ tenant: 'dale', user: 'kim' });
    const token = await kim.together(async (inside) => {
      await inside.change('hive', ['h1'], { helpers: { add: ['bo'] } });
      await kim.members.remove('bo');
      expect(await lintel.takeOffRecords()).toEqual({ done: 0, waiting: 1 });
      const invited = await invite(lintel, 'dale', 'bo');
      expect(await code(lintel.acceptInvitation('bo', { token: invited }))).toBe('still-leaving');
      // Nor is somebody linked who has left.
      expect(await code(inside.change('hive', ['h2'], { helpers: { add: ['bo'] } }))).toBe('no-such-value');
      return invited;
    });
    expect(await lintel.takeOffRecords()).toEqual({ done: 1, waiting: 0 });
    await lintel.acceptInvitation('bo', { token });
    expect(await (await lintel.enter({ tenant: 'dale', user: 'bo' })).find('hive')).toEqual([]);
  });
});

test('a copy is read from, but by whoever has just changed something, in whatever process, not until it must be there', async () => {
  const { db } = await emptyPostgres(4);
  const row = ['h1', 'fell', 'ada', 'As it was'] as const;
  // What is written does not come to the copy until the delay is over: here, until the test says so.
  const [primary, copy] = [await filled(await databaseOn(inject('postgres')), [row]), await filled(await databaseOn(inject('postgres')), [row])];
  const options = { charter, db, records: connect<any>(primary), readsFrom: { db: connect<any>(copy), behind: 10 }, clock: () => now };
  const [here, elsewhere] = [createLintel(options) as Lintel<any>, createLintel(options) as Lintel<any>];
  await here.prepare();
  await peopled(here, { fell: undefined });
  const seen = async (of: Lintel<any>, user: string) => {
    const standing = await of.enter({ tenant: 'fell', user });
    return [names(await standing.find('hive')), names(await standing.scope<any>().selectFrom('hives').select('name').execute())].flat();
  };
  const writes: readonly ((name: string) => Promise<unknown>)[] = [
    async (name) => (await here.enter({ tenant: 'fell', user: 'ada' })).change('hive', ['h1'], { name }),
    async (name) => (await here.enter({ tenant: 'fell', user: 'ada' })).scope<any>().updateTable('hives').set({ name }).execute(),
    async (name) =>
      (await here.enter({ tenant: 'fell', user: 'ada' }))
        .scope<any>()
        .transaction()
        .execute((tx) => tx.updateTable('hives').set({ name }).execute()),
    async (name) => (await here.enter({ tenant: 'fell', user: 'ada' })).together((inside) => inside.change('hive', ['h1'], { name })),
  ];
  for (const [i, write] of writes.entries()) {
    const [before, name] = [i === 0 ? 'As it was' : `Name ${i - 1}`, `Name ${i}`];
    expect(await seen(here, 'ada')).toEqual([before, before]);
    await write(name);
    for (const of of [here, elsewhere]) expect([name, await seen(of, 'ada'), await seen(of, 'kim')]).toEqual([name, [name, name], [before, before]]);
    now += 10_000;
    expect(await seen(elsewhere, 'ada')).toEqual([name, name]);
    await copy.query('update hives set name = $1', [name]);
    now += 1;
    expect(await seen(elsewhere, 'ada')).toEqual([name, name]);
  }
  // From here on it is the copy that answers; a decision is made where it is written.
  await primary.query("update hives set keeper_id = 'bo'");
  const ada = await here.enter({ tenant: 'fell', user: 'ada' });
  expect([names(await ada.find('hive')), (await ada.decideById('hive.update', 'h1')).allowed]).toEqual([['Name 3'], false]);
  expect((await ada.change('hive', ['h1'], { name: 'x' })).changed).toEqual([]);
});

testLong('beside a membership that is one connection, embedded, all of it is done as elsewhere', async () => {
  const db = connect<any>(await emptyPglite());
  const places = { here: new Kysely<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) }) };
  for (const statement of TABLES) await sql.raw(statement.replace(' collate "C"', '')).execute(places.here);
  const lintel = createLintel({ charter, db, places, readsFrom: { here: { db: places.here, behind: 1 } }, clock: () => now }) as Lintel<any>;
  await lintel.prepare();
  await peopled(lintel, { fell: 'here' });
  const kim = await lintel.enter({ tenant: 'fell', user: 'kim' });
  await kim.scope<any>().insertInto('hives').values({ id: 'h1', name: 'One' }).execute();
  await kim.change('hive', ['h1'], { keeperId: 'ada', helpers: { add: ['bo'] } });
  const bo = async () => names(await (await lintel.enter({ tenant: 'fell', user: 'bo' })).find('hive'));
  expect(await bo()).toEqual(['One']);
  const again = createLintel({ charter, db, places, clock: () => now }) as Lintel<any>;
  await again.within(db).enter({ tenant: 'fell', user: 'kim' });
  await db.transaction().execute(async (tx) => (await lintel.within(tx).enter({ tenant: 'fell', user: 'kim' })).members.remove('bo'));
  const token = await invite(lintel, 'fell', 'bo');
  expect(await code(lintel.acceptInvitation('bo', { token }))).toBe('still-leaving');
  expect(await again.takeOffRecords()).toEqual({ done: 1, waiting: 0 });
  await lintel.acceptInvitation('bo', { token });
  expect(await bo()).toEqual([]);
});

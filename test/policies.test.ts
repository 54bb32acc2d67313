/* The second wall: row policies on a real PostgreSQL, for a role that owns nothing; and somebody with SQL in its connection. */
import { sql as drizzleSql } from 'drizzle-orm';
import { drizzle } from 'drizzle-orm/node-postgres';
import { CompiledQuery, type Kysely, sql, type Transaction } from 'kysely';
import pg from 'pg';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { defineCharter, defineKinds, id, instant, not, parent, people, tenant, text } from 'warm-lintel';
import { run } from 'warm-lintel/cli';
import { checkPolicies, connect, createLintel, dropStatements, policyStatements } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { LONG } from './long.js';
import { type Apiary, apiaryOnPostgres, emptyPostgres } from './worlds.js';

const ROLE = 'apiary_app';
let owner: Kysely<any>;
let lintel: Apiary;
let url: string;
let pool: pg.Pool;
let app: Kysely<any>;

async function putUp(): Promise<void> {
  for (const statement of policyStatements(charter as never, { role: ROLE })) await sql.raw(statement).execute(owner);
}
beforeAll(async () => {
  ({ db: owner, lintel, url } = await apiaryOnPostgres());
  await sql.raw(`do $$ begin create role ${ROLE} login; exception when duplicate_object then null; end $$`).execute(owner);
  await putUp();
  // A second time changes nothing.
  await putUp();
  pool = new pg.Pool({ connectionString: url.replace('lintel@', `${ROLE}@`), max: 2 });
  app = connect<any>(pool);
});
afterAll(async () => {
  await app.destroy();
  await owner.destroy();
});

const enter = (user: string, tenant = 'alderbrook') => lintel.enter({ tenant, user });
const say = async (db: Kysely<any>, text: string) => (await sql.raw<any>(text).execute(db)).rows;
const under = async <R>(user: string, work: (tx: Transaction<any>) => Promise<R>, tenant?: string) => (await enter(user, tenant)).withPolicies(app, work);
/** What the database says to a statement of this person: `done`, or its error. */
const answer = (user: string, text: string) =>
  under(user, (tx) => say(tx, text)).then(
    (rows) => rows,
    (error: Error) => error.message,
  );
const ids = (rows: readonly any[]) => rows.map((row) => row.id).sort();

test('plain SQL shows each person what they may read, and nobody anything without a standing', async () => {
  for (const [user, tenant] of [
    ['maren', 'alderbrook'],
    ['tobias', 'alderbrook'],
    ['otto', 'alderbrook'],
    ['ingrid', 'alderbrook'],
    ['junia', 'alderbrook'],
    ['ingrid', 'quillmoor'],
  ] as const) {
    const standing = await enter(user, tenant);
    for (const kind of ['hive', 'inspection', 'entry', 'sheet'] as const) {
      const { table } = charter.kind(kind);
      const plain = await standing.withPolicies(app, (tx) => say(tx, `select id from ${table}`));
      expect({ user, tenant, kind, ids: ids(plain as any[]) }).toEqual({ user, tenant, kind, ids: ids(await standing.find(kind, { limit: 1000 })) });
    }
  }
  expect(await say(app, 'select * from hives')).toEqual([]);
  expect(await say(app, 'select * from hive_inspectors')).toEqual([]);
});

test('kinds and tables may be called however long, alike and strange: each has policies of its own', async () => {
  const { db } = await emptyPostgres();
  const [one, two] = ['One', 'Two'].map((end) => `colonyThatWasTakenOverFromAnotherSocietyInTheHillsByTheRiver${end}`) as [string, string];
  const type = 'text' as const;
  const kept = (table: string, more: object) => ({
    table,
    label: 'note',
    fields: { id: id({ type }), tenantId: tenant({ type }), note: text(), ...more },
    actions: { read: { label: 'Read' } },
  });
  const kinds: any = defineKinds(
    {
      hiveNote: kept('kept_0', {}),
      hivenote: kept('kept_1', { on: parent('hiveNote', { type, column: 'on_id' }) }),
      [one]: kept('kept_2', { seenBy: people({ table: 'Seen "by"', record: 'of', user: 'who', tenant: 'tenant_id', type }) }),
      [two]: kept('kept_3', { on: parent(one, { type, column: 'on_id' }) }),
    } as never,
    {
      hivenote: { noted: ({ record }: any) => record.note.is('x') },
      [one]: { seen: ({ record, me }: any) => record.seenBy.includes(me.userId) },
      [two]: { noted: ({ record }: any) => record.note.is('x') },
    } as never,
  );
  const may = { 'hiveNote.read': 'tenant', 'hivenote.read': ['noted', 'followed'], [`${one}.read`]: 'seen', [`${two}.read`]: ['noted', 'followed'] };
  const alike: any = defineCharter(kinds, { roles: { reader: { label: 'Reader', may } } } as never);
  for (const [i, on] of [null, '0y', null, '2y'].entries()) {
    await sql.raw(`create table kept_${i} (id text primary key, tenant_id text, note text, on_id text references kept_${i & 2})`).execute(db);
    const rows = [
      ['x', 'north', 'x', on],
      ['y', 'north', 'y', null],
      ['z', 'south', 'x', null],
    ].map(([called, where, note, at]) => ({ id: `${i}${called}`, tenant_id: where, note, on_id: at }));
    await db
      .insertInto(`kept_${i}` as never)
      .values(rows as never)
      .execute();
  }
  await sql.raw(`create table "Seen ""by""" (of text, who text, tenant_id text)`).execute(db);
  await sql.raw(`insert into "Seen ""by""" values ('2y', 'ada', 'north')`).execute(db);
  const here: any = createLintel({ charter: alike, db });
  await here.prepare();
  for (const who of ['kim', 'ada']) await here.addPerson({ id: who, name: who, address: `${who}@north.example`, confirmedAt: new Date(0) });
  await here.openTenant({ id: 'north', name: 'North', keyholder: 'kim' });
  const kim = await here.enter({ tenant: 'north', user: 'kim' });
  const [sent] = await kim.invitations.send([{ address: 'ada@north.example', roles: [{ role: 'reader', anchor: { on: 'tenant' } }] }]);
  await here.acceptInvitation('ada', { token: sent.token });
  for (const statement of policyStatements(alike, { role: ROLE })) await sql.raw(statement).execute(db);
  const ada = await here.enter({ tenant: 'north', user: 'ada' });
  const seen = await ada.withPolicies(db, async (tx: Transaction<any>) => {
    await sql.raw(`set local role ${ROLE}`).execute(tx);
    return Promise.all([0, 1, 2, 3].map(async (i) => ids(await say(tx, `select id from kept_${i}`))));
  });
  expect(seen).toEqual(await Promise.all(Object.keys(alike.data.kinds).map(async (kind) => ids(await ada.find(kind)))));
  expect(seen).toEqual([['0x', '0y'], ['1x'], ['2y'], ['3x']]);
  await db.destroy();
});

test('few or very many, one reaches the same records by a list as by scope; and what one reaches by an index is read by it', async () => {
  const lines = [
    "insert into hives (id, tenant_id, keeper_id, made_by, name) select 'z-hive-' || i, 'quillmoor', 'rosa', 'rosa', 'Hive' from generate_series(1, 2000) i",
    "insert into inspections (id, tenant_id, hive_id, made_by, held_at, summary) select 'z-visit-' || i, 'quillmoor', 'z-hive-' || i, 'rosa', '2026-05-01', 'x' from generate_series(1, 2000) i",
    'analyze hives',
    'analyze inspections',
    'create index hives_alone on hives (tenant_id, id, keeper_id)',
  ];
  for (const text of lines) await sql.raw(text).execute(owner);
  const ingrid = await enter('ingrid', 'quillmoor');
  const before = { hive: ids(await ingrid.find('hive', { limit: 1000 })), inspection: ids(await ingrid.find('inspection', { limit: 1000 })) };
  expect(before.hive.length).toBeGreaterThan(0);
  // At the most that go by an array, one more, and many.
  for (const most of [200 - before.hive.length, 201 - before.hive.length, 400]) {
    await sql`insert into hive_inspectors select 'quillmoor', 'z-hive-' || i, 'ingrid' from generate_series(1, ${most}::int) i on conflict do nothing`.execute(
      owner,
    );
    const reached = Array.from({ length: most }, (_, i) => i + 1);
    for (const [kind, table, name] of [
      ['hive', 'hives', 'z-hive-'],
      ['inspection', 'inspections', 'z-visit-'],
    ] as const) {
      const seen = await under('ingrid', (tx) => say(tx, `select id from ${table}`), 'quillmoor');
      expect([most, ids(seen)]).toEqual([most, [...before[kind], ...reached.map((i) => name + i)].sort()]);
    }
  }
  const [{ 'QUERY PLAN': plan }] = await under('tobias', (tx) => say(tx, 'explain (analyze, format json) select id from hives'));
  const visited = (node: any): number =>
    (node['Relation Name'] === 'hives' ? node['Actual Rows'] + (node['Rows Removed by Filter'] ?? 0) : 0) +
    (node.Plans ?? []).reduce((sum: number, one: any) => sum + visited(one), 0);
  const own = ids(await (await enter('tobias')).find('hive', { limit: 1000 }));
  expect(visited(plan[0].Plan)).toBe(own.length);
  for (const text of [
    "delete from hive_inspectors where hive_id like 'z-%'",
    "delete from inspections where id like 'z-%'",
    "delete from hives where id like 'z-%'",
    'drop index hives_alone',
  ])
    await sql.raw(text).execute(owner);
});

test('a transaction of whatever client carries a standing until its end', async () => {
  const [tobias, text] = [await enter('tobias'), 'select id from hives'];
  const own = ids(await tobias.find('hive', { limit: 1000 }));
  const client = await pool.connect();
  try {
    await client.query('begin');
    await tobias.carryInto((text, values) => client.query(text, [...values]));
    expect(ids((await client.query(text)).rows)).toEqual(own);
    await client.query('commit');
    expect((await client.query(text)).rows).toEqual([]);
    // No transaction, and none that is one: nothing is seen, and it is said.
    await expect(tobias.carryInto((text, values) => client.query(text, [...values]))).rejects.toMatchObject({ code: 'no-transaction' });
  } finally {
    client.release();
  }
  await expect(tobias.carryInto((text, values) => pool.query(text, [...values]))).rejects.toMatchObject({ code: 'no-transaction' });
  const seen = await app.transaction().execute(async (tx) => {
    await tobias.carryInto((text, values) => tx.executeQuery(CompiledQuery.raw(text, [...values])));
    return say(tx, text);
  });
  const drizzled = await drizzle(pool).transaction(async (tx) => {
    await tobias.carryInto((text, values) =>
      tx.execute(drizzleSql.join(text.split(/\$\d/).flatMap((part, i) => [...(i > 0 ? [drizzleSql`${values[i - 1]}`] : []), drizzleSql.raw(part)]))),
    );
    return (await tx.execute(drizzleSql.raw(text))).rows;
  });
  expect([ids(seen as any[]), ids(drizzled)]).toEqual([own, own]);
  const past = owner.transaction().execute((tx) => tobias.carryInto((text, values) => tx.executeQuery(CompiledQuery.raw(text, [...values]))));
  await expect(past).rejects.toMatchObject({ code: 'policies-bypassed' });
});

/** One connection that is lent to one after the other. */
async function oneConnection(): Promise<Kysely<any>> {
  return connect<any>(new pg.Pool({ connectionString: url.replace('lintel@', `${ROLE}@`), max: 1 }));
}

test('whoever had the connection before leaves nothing in it that acts as the next, or keeps what the next one sees', async () => {
  const single = await oneConnection();
  const as = async (user: string, ...texts: string[]) => {
    const standing = await enter(user);
    let last: any[] = [];
    await standing.withPolicies(single, async (tx) => {
      for (const text of texts) last = await say(tx, text);
    });
    return last;
  };
  const alone = ids(await as('ingrid', 'select id from hives'));
  const maren = ids(await as('maren', 'select id from hives'));
  expect(maren.length).toBeGreaterThan(alone.length);
  // Left by somebody with SQL in the connection, in a transaction that was carried or in none.
  const left: Record<string, string> = {
    'a cursor that is held': `declare kept cursor with hold for select id from hives`,
    'a statement under a name': `prepare theirs as select 1`,
    'another path': `set search_path = pg_temp, public`,
    'policies that are off': `set row_security = off`,
    'a standing of its own': `set lintel.standing = 'x'`,
  };
  for (const [what, text] of Object.entries(left)) {
    await as('maren', text);
    await single.connection().execute((connection) => say(connection, text.replace('select id from hives', 'select 1')).catch(() => []));
    expect({ what, ids: ids(await as('ingrid', 'select id from hives')) }).toEqual({ what, ids: alone });
    const state = `select (select count(*) from pg_cursors where is_holdable)::int as held, (select count(*) from pg_prepared_statements)::int as prepared, current_setting('search_path') as path, current_setting('row_security') as rows`;
    expect({ what, state: await as('ingrid', state) }).toEqual({
      what,
      state: [{ held: 0, prepared: 0, path: 'pg_catalog, public, pg_temp', rows: 'on' }],
    });
  }
  // A transaction that was left open does not go on.
  await single.connection().execute((connection) => say(connection, 'begin; set transaction isolation level repeatable read'));
  expect(await as('ingrid', 'show transaction_isolation')).toEqual([{ transaction_isolation: 'read committed' }]);
  for (const text of ['create temp view hives as select 1', 'create temp table mine (id text)', 'create table public.mine (id text)', 'create schema mine'])
    await expect(as('maren', text)).rejects.toThrow(/permission denied/);
  await single.destroy();
});

test('a standing that was carried before does not come back: not by a savepoint, not by its own text', async () => {
  const [maren, ingrid] = [await enter('maren'), await enter('ingrid')];
  const alone = ids(await ingrid.withPolicies(app, (tx) => say(tx, 'select id from hives')));
  const after = await app.transaction().execute(async (tx) => {
    const carried = await maren.withPolicies(tx as never, async (within: any) => {
      const rows = await say(within, `select current_setting('lintel.standing') as standing, current_setting('lintel.tenant') as tenant`);
      await say(within, 'savepoint theirs');
      return rows[0];
    });
    return ingrid.withPolicies(tx as never, async (within: any) => {
      const own = ids(await say(within, 'select id from hives'));
      await say(within, 'rollback to savepoint theirs');
      const back = ids(await say(within, 'select id from hives'));
      await sql`select set_config('lintel.standing', ${carried.standing}, true), set_config('lintel.tenant', ${carried.tenant}, true)`.execute(within);
      return { own, back, forged: ids(await say(within, 'select id from hives')) };
    });
  });
  expect(after).toEqual({ own: alone, back: [], forged: [] });
});

test('an insert that meets a hidden row does not show it, and what is not declared is nobody’s', async () => {
  const [hidden] = (await owner
    .selectFrom('hives')
    .select('id')
    .where('tenant_id', '=', 'alderbrook')
    .where('keeper_id', '=', 'sela')
    .limit(1)
    .execute()) as any[];
  await sql.raw(`alter table hives add column remark text default 'between us'`).execute(owner);
  await putUp();
  const seen = await under('ingrid', async (tx) => {
    await say(tx, `insert into hives (id, tenant_id, made_by, name) values ('${hidden.id}', 'alderbrook', 'ingrid', 'x') on conflict do nothing`).catch(
      () => [],
    );
    return [];
  }).catch(() => []);
  expect(seen).toEqual([]);
  const shown = await under('tobias', async (tx) => {
    const name = (
      await say(
        tx,
        `insert into hives (id, tenant_id, keeper_id, made_by, name) values ('q-hive-01', 'alderbrook', 'tobias', 'tobias', 'x') on conflict do nothing`,
      )
    ).length;
    return [name, await say(tx, `select name from hives where id = 'q-hive-01'`)];
  });
  expect(shown).toEqual([0, []]);
  expect(await answer('maren', 'select remark from hives')).toMatch(/permission denied/);
  expect(await answer('maren', `update hives set remark = 'x'`)).toMatch(/permission denied/);
  expect(await checkPolicies(owner, charter as never, { role: ROLE })).toEqual([]);
  await sql.raw('alter table hives drop column remark').execute(owner);
});

test('plain SQL writes what scope would write, and no more', async () => {
  expect(await answer('tobias', `update hives set name = 'Mine' where id in ('a-hive-01', 'a-hive-02', 'q-hive-01') returning id`)).toEqual([
    { id: 'a-hive-01' },
  ]);
  expect(await answer('tobias', `update hives set tenant_id = 'quillmoor' where id = 'a-hive-01'`)).toMatch(/never changes|row-level security/);
  expect(await answer('tobias', `update hives set registration_no = 'X' where id = 'a-hive-01'`)).toMatch(/lintel: register does not reach this hive/);
  expect(await answer('tobias', `update hives set keeper_id = 'rosa' where id = 'a-hive-01'`)).toMatch(/not yours to hand over/);
  expect(await answer('tobias', `delete from hives where keeper_id is distinct from 'tobias' returning id`)).toEqual([]);
  expect(await answer('tobias', `insert into hives (id, tenant_id, keeper_id, made_by, name) values ('p-1', 'quillmoor', 'tobias', 'tobias', 'x')`)).toMatch(
    /row-level security/,
  );
  expect(await answer('tobias', `insert into hives (id, tenant_id, keeper_id, made_by, name) values ('p-1', 'alderbrook', 'tobias', 'maren', 'x')`)).toMatch(
    /row-level security/,
  );
  expect(
    await answer('tobias', `insert into hives (id, tenant_id, keeper_id, made_by, name) values ('p-1', 'alderbrook', 'tobias', 'tobias', 'x') returning id`),
  ).toEqual([{ id: 'p-1' }]);
  expect(await answer('tobias', `insert into hive_inspectors (tenant_id, hive_id, user_id) values ('alderbrook', 'a-hive-02', 'tobias')`)).toMatch(
    /row-level security/,
  );
  const link = `(tenant_id, hive_id, user_id) values ('alderbrook', 'a-hive-02', 'tobias')`;
  expect(await answer('maren', `insert into hive_inspectors ${link} returning user_id`)).toEqual([{ user_id: 'tobias' }]);
  expect(await answer('tobias', `delete from hive_inspectors where user_id = 'tobias' returning user_id`)).toEqual([]);
  expect(await answer('maren', `delete from hive_inspectors where user_id = 'tobias' returning user_id`)).toEqual([{ user_id: 'tobias' }]);
  // A limit holds on what a row was, and on what it becomes.
  const [{ id: archived }] = (await answer('tobias', `select id from hives where keeper_id = 'tobias' and status = 'archived' limit 1`)) as [{ id: string }];
  expect(await answer('tobias', `update hives set name = 'x' where id = '${archived}'`)).toMatch(/lintel: update does not reach this hive/);
  expect(await answer('tobias', `update hives set name = 'x', status = 'active' where id = '${archived}'`)).toMatch(/lintel: update does not reach this hive/);
  expect(await answer('tobias', `update hives set name = 'z', status = 'archived' where id = 'p-1'`)).toMatch(/lintel: update does not reach this hive/);
  expect(await answer('tobias', `update hives set status = 'archived' where id = 'p-1' returning id`)).toEqual([{ id: 'p-1' }]);
  expect(await answer('tobias', `update hives set status = 'active' where id = 'p-1' returning id`)).toEqual([{ id: 'p-1' }]);
  expect(await answer('maren', `update hives set keeper_id = 'sela', status = 'archived' where id = 'p-1'`)).toMatch(/not yours to hand over/);
  // Handing over ends the giver's sight with the transaction, not before: the database would refuse the write.
  expect(await answer('tobias', `update hives set keeper_id = 'sela' where id = 'a-hive-01' returning id`)).toEqual([{ id: 'a-hive-01' }]);
  expect((await enter('tobias')).may('hive.update', { tenantId: 'alderbrook', keeperId: 'sela' } as never)).toBe(false);
});

test('a row that one comes to see by another way than before stays in sight of the statement that changed it', async () => {
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
  await maren.carryOut([
    {
      do: 'set-roles',
      holder: { user: 'lene' },
      roles: [
        { role: 'junior', anchor: { on: 'tenant' } },
        { role: 'warden', anchor: { on: 'unit', unitId: 'junior-yard' } },
      ],
    },
    { do: 'set-permissions', holder: { user: 'lene' }, permissions: [{ permission: 'hive.move', reach: 'tenant', anchor: { on: 'tenant' } }] },
    { do: 'place', user: 'lene', units: ['heath'] },
  ]);
  const [{ id }] = (await answer('lene', `select id from hives where site_id = 'heath' limit 1`)) as [{ id: string }];
  expect(await answer('lene', `update hives set site_id = 'junior-yard' where id = '${id}' returning site_id`)).toEqual([{ site_id: 'junior-yard' }]);
  expect(await answer('lene', `update hives set site_id = 'orchards' where id = '${id}'`)).toMatch(/does not reach|row-level security/);
});

test('scope works under the policies as it does without', async () => {
  const standing = await enter('sela');
  const both: any[] = await standing.withPolicies(app, (_tx, scope) => (scope as any).selectFrom('inspections').select('id').execute());
  expect(ids(both)).toEqual(ids((await standing.scope<any>().selectFrom('inspections').select('id').execute()) as any[]));
});

test('masked fields are empty in the view that is made for plain SQL', async () => {
  const rows = (await answer('tobias', 'select id, keeper_id, registration_no from lintel_wall.masked_hives')) as any[];
  expect(rows.length).toBeGreaterThan(3);
  expect(rows.filter((row) => row.registration_no !== null).every((row) => row.keeper_id === 'tobias')).toBe(true);
});

test('what is missing of a person counts against them on whichever side of a “not”, and instants are compared as in memory', async () => {
  const ids_ = { type: 'text' } as const;
  const kinds = defineKinds(
    {
      remark: {
        table: 'remarks',
        label: 'topic',
        fields: { id: id(ids_), tenantId: tenant(ids_), topic: text(), due: instant() },
        actions: { read: { label: 'Read a remark' } },
      },
    },
    {
      remark: {
        others: ({ record, me }) => not(record.topic.is(me.attribute('topic'))),
        later: ({ record, me }) => record.due.after(me.attribute('since')),
      },
    },
  );
  const small = defineCharter(kinds, {
    roles: { others: { label: 'Others', may: { 'remark.read': 'others' } }, later: { label: 'Later', may: { 'remark.read': 'later' } } },
  });
  const { db, url: at } = await emptyPostgres();
  await sql.raw(`create table remarks (id text primary key, tenant_id text not null, topic text not null, due timestamptz not null)`).execute(db);
  const own = createLintel({ charter: small, db });
  await own.prepare();
  await own.addPerson({ id: 'key', name: 'Key', address: 'key@small.example', confirmedAt: new Date(0) });
  await own.openTenant({ id: 'small', name: 'Small', keyholder: 'key' });
  const since = '2026-01-01T00:00:00.000Z';
  const people = { knowing: ['others', { topic: 'bees' }], unknowing: ['others', {}], timed: ['later', { since }], untimed: ['later', {}] } as const;
  for (const [user, [role, attributes]] of Object.entries(people)) {
    await own.addPerson({ id: user, name: user, address: `${user}@small.example`, confirmedAt: new Date(0) });
    const member = { tenant_id: 'small', user_id: user, status: 'active', since: new Date(0), attributes: JSON.stringify({ '': attributes }) };
    await sql`insert into lintel_member ${sql.raw(`(${Object.keys(member).join(', ')})`)} values (${sql.join(Object.values(member))})`.execute(db);
    await (await own.enter({ tenant: 'small', user: 'key' })).carryOut([{ do: 'set-roles', holder: { user }, roles: [{ role, anchor: { on: 'tenant' } }] }]);
  }
  // Half a millisecond later, which no value in memory has.
  await sql
    .raw(
      `insert into remarks values ('a', 'small', 'bees', '${since}'), ('b', 'small', 'wax', '2026-01-01T00:00:00.0005Z'), ('c', 'small', 'wax', '2026-01-01T00:00:00.001Z')`,
    )
    .execute(db);
  for (const statement of policyStatements(small as never, { role: ROLE })) await sql.raw(statement).execute(db);
  const through = connect<any>(new pg.Pool({ connectionString: at.replace('lintel@', `${ROLE}@`), max: 1 }));
  const seen: Record<string, string[]> = {};
  for (const user of Object.keys(people)) {
    const standing = await own.enter({ tenant: 'small', user });
    seen[user] = ids(await standing.withPolicies(through, (tx) => say(tx, 'select id from remarks')));
    expect([user, seen[user]]).toEqual([user, ids(await standing.find('remark'))]);
  }
  expect(seen).toEqual({ knowing: ['b', 'c'], unknowing: [], timed: ['c'], untimed: [] });
  await through.destroy();
  await db.destroy();
});

test('what all tenants share is read by everybody and written by nobody', async () => {
  expect((await answer('maren', 'select id from sheets')).length).toBeGreaterThan(0);
  expect(await answer('maren', `insert into sheets select (jsonb_populate_record(s, '{"id":"mine"}')).* from sheets as s limit 1`)).toMatch(
    /row-level security/,
  );
  for (const text of ['update sheets set id = id returning id', 'delete from sheets returning id'])
    expect([text, await answer('maren', text)]).toEqual([text, []]);
});

/** Rows of Maren's tenant or of the other that the attempt brings up beyond what Tobias may see, or the error it meets. */
const OWN = `select count(*)::int as n from hives where keeper_id is distinct from 'tobias' and status = 'archived'`;
const ATTACKS: Readonly<Record<string, string>> = {
  'reads the key': 'select * from lintel_wall.key',
  'reads the key by a definer function of the wall': `select lintel_wall.seal('x')`,
  'marks a row as its own writing': `select lintel_wall.give('hive:q-hive-01')`,
  'forges the mark of a written row': `select set_config('lintel.given', repeat('a', 64) || '["hive:q-hive-01"]', true)`,
  'becomes the owner': 'set role lintel',
  'becomes somebody else for the session': 'set session authorization lintel',
  'resets the role': 'reset role; reset session authorization',
  'turns row security off': 'set row_security = off',
  'drops a policy': 'drop policy lintel_select on hives',
  'turns the policies off': 'alter table hives disable row level security',
  'drops the trigger': 'drop trigger lintel_changed on hives',
  'disables triggers': 'set session_replication_role = replica',
  truncates: 'truncate hives cascade',
  'puts a table before the real one': `create temp table lintel_member as select 'alderbrook' as tenant_id, 'tobias' as user_id, 'active' as status`,
  'puts a function before the real one': `create function pg_temp.current_setting(text, boolean) returns text language sql as $$ select '' $$; set search_path = pg_temp, public`,
  'replaces a function of the wall': `create or replace function lintel_wall.told(what text, key text default '', only_with text default null) returns text language sql as $$ select 'quillmoor' $$`,
  'makes a function in the wall': `create function lintel_wall.mine() returns int language sql as $$ select 1 $$`,
  'grants itself more': `grant all on lintel_wall.key to ${ROLE}`,
  'carries a standing with another signature': `select set_config('lintel.standing', repeat('0', 64) || substr(current_setting('lintel.standing'), 65), true)`,
  'carries a changed standing': `select set_config('lintel.standing', replace(current_setting('lintel.standing'), '"tobias"', '"maren"'), true)`,
  'carries a standing of another tenant': `select set_config('lintel.standing', replace(current_setting('lintel.standing'), 'alderbrook', 'quillmoor'), true)`,
  'carries what is no standing': `select set_config('lintel.standing', repeat('f', 65) || '{', true)`,
  'reads the membership': 'select * from lintel_member',
  'reads credentials': 'select * from lintel_credential',
  'runs as an anonymous block': `do $$ begin perform set_config('role', 'lintel', false); end $$`,
  'reads files': `select pg_read_file('PG_VERSION')`,
  'lists who may bypass and becomes them': `select set_config('session_authorization', (select rolname from pg_roles where rolsuper limit 1), false)`,
};

test.for(Object.entries(ATTACKS))('somebody with SQL in the connection %s: no row more', async ([, attack]) => {
  const standing = await enter('tobias');
  const mine = ids(await standing.find('hive', { limit: 1000 }));
  const seen: any[] = await standing
    .withPolicies(app, async (tx) => {
      await sql`savepoint attack`.execute(tx);
      for (const statement of attack.includes('$$') ? [attack] : attack.split('; '))
        await say(tx, statement).catch(() => sql`rollback to savepoint attack`.execute(tx));
      await say(tx, OWN);
      return say(tx, 'select id from hives').catch(() => []);
    })
    .catch(() => []);
  for (const id of ids(seen)) expect(mine).toContain(id);
  // And nothing of it is left on the connection.
  expect(await say(app, 'select id from hives')).toEqual([]);
});

test('a standing cannot be kept: not for the session, not on another connection, not in the next transaction', async () => {
  const token = await under('maren', async (tx) => {
    const [{ token: carried }] = await say(
      tx,
      `select current_setting('lintel.standing') as token, set_config('lintel.standing', current_setting('lintel.standing'), false)`,
    );
    return carried as string;
  });
  expect(token).toContain('"maren"');
  expect(await say(app, 'select id from hives')).toEqual([]);
  const client = new pg.Client(url.replace('lintel@', `${ROLE}@`));
  await client.connect();
  for (const text of [`set lintel.standing = '${token.replaceAll("'", "''")}'`, 'begin']) await client.query(text);
  expect((await client.query('select id from hives')).rows).toEqual([]);
  // In one message: the transaction ends and the next begins within the same instant.
  await client.query('rollback');
  await client.query(`begin; select 1; commit; begin; select set_config('lintel.standing', '${token.replaceAll("'", "''")}', true)`);
  expect((await client.query('select id from hives')).rows).toEqual([]);
  await client.end();
  const held = await under('maren', async (tx) => {
    await say(tx, 'declare kept cursor with hold for select id from hives');
    return say(tx, 'fetch 1 from kept');
  });
  expect(held.length).toBe(1);
});

test('a live database is compared with the charter, and each hole is named', async () => {
  const check = () => checkPolicies(owner, charter as never, { role: ROLE });
  expect(await check()).toEqual([]);
  const holes: Readonly<Record<string, readonly [make: string, mend: string, code: string]>> = {
    'a rule that was changed': ['alter policy lintel_select on hives using (true)', '', 'differs'],
    'a policy that is gone': ['drop policy lintel_delete on entries', '', 'differs'],
    'row security turned off': ['alter table inspections disable row level security', '', 'differs'],
    'a function of the wall that was replaced': [
      `create or replace function lintel_wall.told(what text, key text default '', only_with text default null) returns text language sql as $$ select 'quillmoor'::text $$`,
      '',
      'differs',
    ],
    'a trigger turned off': ['alter table hives disable trigger lintel_changed', '', 'differs'],
    'a role that bypasses': [`alter role ${ROLE} bypassrls`, `alter role ${ROLE} nobypassrls`, 'bypasses'],
    'a role that can become the owner': [`grant lintel to ${ROLE}`, `revoke lintel from ${ROLE}`, 'bypasses'],
    'a right to truncate': [`grant truncate on hives to ${ROLE}`, `revoke truncate on hives from ${ROLE}`, 'truncate'],
    'a view that runs as its owner': [
      `create view all_hives as select * from hives; grant select on all_hives to ${ROLE}`,
      'drop view all_hives',
      'view-of-owner',
    ],
    'a partition reached directly': [`create table hives_old () inherits (hives); grant select on hives_old to ${ROLE}`, 'drop table hives_old', 'partition'],
    'a foreign policy': ['create policy everybody on hives using (true)', 'drop policy everybody on hives', 'foreign-policy'],
    'a definer function': [
      `create function leak() returns setof hives language sql security definer as 'select * from hives'`,
      'drop function leak()',
      'definer-function',
    ],
    'the membership readable': [`grant select on lintel_member to ${ROLE}`, `revoke select on lintel_member from ${ROLE}`, 'membership-readable'],
  };
  for (const [what, [make, mend, code]] of Object.entries(holes).filter((_, i) => LONG || i % 7 === 0)) {
    for (const statement of make.includes('$$') ? [make] : make.split('; ')) await say(owner, statement);
    const found = await check();
    expect({ what, found: found.some((f) => f.code === code) ? code : found }).toEqual({ what, found: code });
    if (mend === '') await putUp();
    else await say(owner, mend);
  }
  expect(await check()).toEqual([]);
});

test('the command prints them, checks them, and prints the way back', async () => {
  const lintelCommand = async (...args: string[]) => {
    const out: string[] = [];
    const code = await run(args, { cwd: process.cwd(), out: (t) => out.push(t), err: (t) => out.push(t), colours: false, width: 120 });
    return { code, out: out.join('\n') };
  };
  expect((await lintelCommand('policies', '--role', ROLE)).out).toContain('create policy lintel_select on "public"."hives" as restrictive for select');
  expect((await lintelCommand('policies', '--role', ROLE, '--check', '--database', url)).out).toMatch(/nothing was found/);
  for (const statement of (await lintelCommand('policies', '--undo')).out.split(';\n')) await say(owner, statement);
  expect(dropStatements(charter as never).length).toBeGreaterThan(5);
  expect((await lintelCommand('policies', '--role', ROLE, '--check', '--database', url)).code).toBe(1);
  const afresh = await createLintel({ charter, db: owner }).enter({ tenant: 'alderbrook', user: 'maren' });
  await expect(afresh.withPolicies(app, async () => 1)).rejects.toMatchObject({ code: 'no-policies' });
  expect(inject('postgres')).toContain('postgres');
});

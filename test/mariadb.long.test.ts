/* Records in a real MariaDB, the membership beside it in PostgreSQL: what the generators do not ask of it. */
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { decimal, defineCharter, defineKinds, flag, id, instant, integer, maker, owner, parent, people, tenant, text } from 'warm-lintel';
import { createLintel } from 'warm-lintel/server';
import { tallyRecords } from '../src/scoping/index.js';
import { readSchema } from '../src/starting/schema.js';
import { type MariaDb, startMariaDb } from './mariadb.js';
import { emptyPostgres } from './worlds.js';

const label = { label: 'Do' };
const number = { type: 'integer' } as const;
const charter = defineCharter(
  defineKinds(
    {
      shed: {
        table: 'sheds',
        label: 'name',
        fields: { id: id(number), farmId: tenant({ type: 'text' }), ownerId: owner({ type: 'text', change: 'give' }), name: text() },
        actions: { read: label, update: label, give: label },
      },
      tool: {
        table: 'tools',
        label: 'name',
        journal: {},
        fields: {
          id: id(number),
          farmId: tenant({ type: 'text' }),
          shedId: parent('shed', { ...number, change: 'move' }),
          ownerId: owner({ type: 'text', change: 'give' }),
          madeBy: maker({ type: 'text' }),
          name: text(),
          code: text(),
          price: decimal({ scale: 2, read: 'appraise', change: 'appraise' }),
          bought: instant(),
          lent: flag(),
          uses: integer(),
          hands: people({ table: 'hands', tenant: 'farm_id', record: 'tool_id', user: 'user_id', type: 'text', change: 'appoint' }),
        },
        actions: { read: label, create: label, update: label, delete: label, give: label, move: label, appraise: label, appoint: label },
      },
    },
    {
      tool: {
        own: ({ record, me }) => record.ownerId.is(me.userId),
        inShed: ({ record, me }) => record.shedId.parent.ownerId.is(me.userId),
      },
    },
  ),
  {
    roles: {
      hand: {
        label: 'Hand',
        may: {
          'shed.read': 'tenant',
          'tool.read': 'tenant',
          'tool.create': 'own',
          'tool.update': ['own', 'inShed'],
          'tool.delete': 'own',
          'tool.appoint': 'own',
          'tool.appraise': 'own',
        },
      },
    },
  },
);

const BINARY = 'character set utf8mb4 collate utf8mb4_nopad_bin';
const TABLES = [
  `create table sheds (id int primary key, farm_id varchar(40), owner_id varchar(40), name varchar(40)) ${BINARY}`,
  `create table tools (id int primary key auto_increment, farm_id varchar(40), shed_id int, owner_id varchar(40), made_by varchar(40), name varchar(40), code varchar(20), price decimal(8, 2), bought datetime(3), lent boolean, uses int, unique (farm_id, code)) ${BINARY}`,
  `create table hands (farm_id varchar(40), tool_id int, user_id varchar(40)) ${BINARY}`,
];
const ROWS = [
  "insert into sheds values (1, 'north', 'ada', 'By the gate'), (2, 'north', 'bo', 'Under the oak'), (3, 'south', 'ada', 'Theirs')",
  `insert into tools (id, farm_id, shed_id, owner_id, made_by, name, code, price, bought, lent, uses) values
    (1, 'north', 1, 'ada', 'ada', 'Smoker', 'A1', 12.50, '2026-05-01 12:00:00.001', true, 3), (2, 'north', 1, 'bo', 'bo', 'Brush', 'A2', 3.10, '2026-05-02 00:00:00', false, 0),
    (3, 'north', 2, 'bo', 'bo', 'veil', 'A3', 40.00, null, null, null), (4, 'south', 3, 'ada', 'ada', 'Fork', 'A1', 1.00, null, false, 1)`,
];

let server: MariaDb;
beforeAll(async () => {
  server = await startMariaDb();
});
afterAll(() => server?.stop());

async function world() {
  const { db } = await emptyPostgres(4);
  const records = await server.open();
  for (const statement of [...TABLES, ...ROWS]) await sql.raw(statement).execute(records);
  const lintel = createLintel({ charter, db, records }) as any;
  await lintel.prepare();
  for (const who of ['kim', 'ada', 'bo']) await lintel.addPerson({ id: who, name: who, address: `${who}@farm.example`, confirmedAt: new Date(0) });
  for (const farm of ['north', 'south']) await lintel.openTenant({ id: farm, name: farm, keyholder: 'kim' });
  const kim = await lintel.enter({ tenant: 'north', user: 'kim' });
  for (const who of ['ada', 'bo']) {
    const [sent] = await kim.invitations.send([{ address: `${who}@farm.example`, roles: [{ role: 'hand', anchor: { on: 'tenant' } }] }]);
    await lintel.acceptInvitation(who, { token: sent?.token as string });
  }
  const enter = (user: string) => lintel.enter({ tenant: 'north', user });
  const all = async () => (await sql<any>`select * from tools order by id`.execute(records)).rows;
  return { lintel, records: records as Kysely<any>, enter, all };
}

const ids = (rows: readonly { readonly id: unknown }[]) => rows.map((row) => Number(row.id));

describe('records', () => {
  let it: Awaited<ReturnType<typeof world>>;
  beforeAll(async () => {
    it = await world();
  });

  test('are found, ordered, counted and chosen as elsewhere, and each value has its type', async () => {
    const [ada, kim] = [await it.enter('ada'), await it.enter('kim')];
    const found = await ada.find('tool', { order: '-bought', may: ['tool.update'] });
    expect(found.map(({ id, may }: any) => [id, may])).toEqual([
      [3, []],
      [2, ['tool.update']],
      [1, ['tool.update']],
    ]);
    expect(ids(await ada.find('tool', { order: 'name' }))).toEqual([2, 1, 3]);
    expect(found[2]).toMatchObject({ price: '12.50', bought: new Date('2026-05-01T12:00:00.001Z'), lent: true, uses: 3, hands: [] });
    expect(found[1]).not.toHaveProperty('price');
    expect(ids(await ada.find('tool', { where: { bought: '2026-05-01T12:00:00.001Z', lent: true } }))).toEqual([1]);
    expect(ids(await kim.find('tool', { where: { price: '3.1' } }))).toEqual([2]);
    for (const [field, value] of [
      ['name', 'smoker'],
      ['name', 'Smoker '],
      ['name', 0],
      ['lent', 'yes'],
    ])
      expect(await ada.find('tool', { where: { [field as string]: value } })).toEqual([]);
    expect((await ada.choices('shed', { like: '%' })).length + (await ada.choices('shed', { like: 'GATE' })).length).toBe(1);
    const { records: differ } = await kim.access.compare(['ada', 'bo'], 'tool.update');
    expect(differ.groups.map(({ count }: any) => count).sort()).toEqual([1, 1, 1]);
    const rules = ['ada', 'bo', 'kim'].map(async (who) => (await it.enter(who)).reachOf('tool.update'));
    const many = Array.from({ length: 12 }, (_, i) => ({ op: 'is', field: 'ownerId', to: { value: i === 0 ? 'bo' : `p${i}` } }) as const);
    const asked = [...(await Promise.all(rules)), ...many];
    expect((await tallyRecords(it.records, it.lintel.charter.shapes, 'tool', 'north', asked)).counts.slice(0, 5)).toEqual([2, 2, 3, 2, 0]);
    const proposal = await kim.propose([{ do: 'set-roles', holder: { user: 'bo' }, roles: [] }]);
    expect(JSON.stringify(proposal)).toContain('"records"');
  });

  test('are asked for by queries of the application, in which no value is more than a value', async () => {
    const ada = await it.enter('ada');
    const tools = () => ada.scope(it.records).selectFrom('tools').select(['id']).orderBy('id');
    expect(ids(await tools().where('name', 'in', ['Smoker', 'Fork', "x' or 1=1 -- "]).execute())).toEqual([1]);
    expect(ids(await tools().where('name', 'like', '%\\%').execute())).toEqual([]);
    expect(ids(await tools().where('bought', '>=', new Date('2026-05-02T00:00:00Z')).execute())).toEqual([2]);
    // Past the types of the builder, as a body of a request would bring them.
    for (const value of [{ name: 1 }, ['Smoker', 'Fork'], { toSqlString: () => '1 or 1=1' }, Number.NaN])
      await expect(tools().where('name', '=', value).execute()).rejects.toMatchObject({ code: expect.stringMatching(/^(bad-value|scope-refused)$/) });
    await expect(tools().select('name as a?b').execute()).rejects.toMatchObject({ code: 'scope-refused' });
    expect(await ada.scope(it.records).selectFrom('tools').select('name as a`b"c').where('id', '=', 1).execute()).toEqual([{ 'a`b"c': 'Smoker' }]);
    for (const [operator, value] of [
      ['||', '1'],
      ['ilike', 's%'],
      ['is distinct from', 'x'],
    ])
      await expect(tools().where('name', operator, value).execute()).rejects.toMatchObject({
        code: 'scope-refused',
        message: expect.stringContaining('allowed are'),
      });
    await expect(tools().where('price', '>', '1').execute()).resolves.toEqual([{ id: 1 }]);
  });
});

describe('writes', () => {
  test('reach what they may, check what becomes, return what may be read, and are put down', async () => {
    const { enter, records, all } = await world();
    const [ada, kim] = [await enter('ada'), await enter('kim')];
    const scope = ada.scope(records);
    const updated = await scope
      .updateTable('tools')
      .set({ name: 'Ours', bought: new Date('2026-06-01T00:00:00Z') })
      .returning(['id', 'price'])
      .execute();
    expect(updated.sort((a: any, b: any) => a.id - b.id)).toEqual([
      { id: 1, price: '12.50' },
      { id: 2, price: null },
    ]);
    expect((await all())[0]).toMatchObject({ name: 'Ours', bought: new Date('2026-06-01T00:00:00Z') });
    // What would end out of reach, or is guarded, or names what is not theirs: nothing of the whole is done.
    const now = await all();
    await expect(scope.updateTable('tools').set({ price: '1.00' }).where('id', 'in', [1, 2]).execute()).resolves.toMatchObject([{ numUpdatedRows: 1n }]);
    await expect(scope.insertInto('tools').values({ name: 'x', shed_id: 3 }).execute()).rejects.toMatchObject({ code: 'no-such-value' });
    await expect(scope.insertInto('tools').values({ name: 'x', owner_id: 'bo' }).execute()).rejects.toMatchObject({
      code: expect.stringMatching(/guarded-field|no-such-value/),
    });
    await expect(scope.insertInto('tools').values({ name: 'x', uses: 'many' }).execute()).rejects.toMatchObject({ code: 'bad-value' });
    await expect(ada.change('tool', [1], { uses: 2 ** 40 })).rejects.toMatchObject({ code: 'bad-value' });
    expect(await all()).toEqual([{ ...now[0], price: '1.00' }, ...now.slice(1)]);
    const [made] = await scope
      .insertInto('tools')
      .values([{ name: 'New', code: 'B1', lent: true }])
      .returning(['id', 'owner_id', 'made_by', 'farm_id', 'lent'])
      .execute();
    expect(made).toMatchObject({ owner_id: 'ada', made_by: 'ada', farm_id: 'north', lent: 1 });
    await expect(ada.change('tool', [made.id, 3], { uses: 7, hands: { add: ['bo'] } })).resolves.toMatchObject({ changed: [made.id] });
    expect((await ada.find('tool', { where: { id: made.id } }))[0]).toMatchObject({ uses: 7, hands: ['bo'] });
    await kim.members.remove('bo');
    expect((await ada.find('tool', { where: { id: made.id } }))[0]).toMatchObject({ hands: [] });
    expect(await scope.deleteFrom('tools').where('id', 'in', [made.id, 3]).returning('id').execute()).toEqual([{ id: made.id }]);
    const { items } = await kim.journal('tool', made.id);
    expect(items.map(({ what, by }: any) => [what, by.name])).toEqual([
      ['deleted', 'ada'],
      ['changed', 'ada'],
      ['changed', 'ada'],
      ['made', 'ada'],
    ]);
    await expect(
      scope
        .with('other', (q: any) => q.selectFrom('tools').select('id'))
        .deleteFrom('tools')
        .execute(),
    ).rejects.toMatchObject({ code: 'scope-refused' });
  });

  test('an upsert makes what is new and changes what is there and within reach; a row of others stays and is not told of', async () => {
    const { enter, records, all } = await world();
    const ada = await enter('ada');
    const upsert = (rows: object[], by: readonly string[] = ['farm_id', 'code']) =>
      ada
        .scope(records)
        .insertInto('tools')
        .values(rows)
        .onConflict((c: any) => c.columns(by).doUpdateSet((eb: any) => ({ name: eb.ref('excluded.name'), uses: eb.ref('excluded.uses') })))
        .returning(['id', 'name', 'uses'])
        .execute();
    const before = await all();
    const done = await upsert([
      { code: 'A1', name: 'Smoker 2', uses: 9 },
      { code: 'A3', name: 'Not theirs', uses: 9 },
      { code: 'N1', name: 'Fresh', uses: null },
    ]);
    expect(done.map(({ name, uses }: any) => [name, uses]).sort()).toEqual([
      ['Fresh', null],
      ['Smoker 2', 9],
    ]);
    const after = await all();
    expect(after.slice(2, 4)).toEqual(before.slice(2));
    expect(after).toHaveLength(5);
    const nothing = await ada
      .scope(records)
      .insertInto('tools')
      .values([
        { code: 'A1', name: 'Again' },
        { code: 'N2', name: 'Second' },
      ])
      .onConflict((c: any) => c.columns(['farm_id', 'code']).doNothing())
      .returning('name')
      .execute();
    expect(nothing).toEqual([{ name: 'Second' }]);
    await expect(ada.scope(records).insertInto('tools').values({ code: 'A1', name: 'x' }).onDuplicateKeyUpdate({ name: 'x' }).execute()).rejects.toMatchObject({
      code: 'scope-refused',
      message: expect.stringContaining('onConflict'),
    });
    // Another key than the named one is the database's to refuse.
    await expect(upsert([{ id: 4, code: 'Z9', name: 'x' }])).rejects.toMatchObject({ errno: 1062 });
    expect((await all()).length).toBe(6);
  });

  test('of two who write in the same moment neither goes past a rule that the other has made hold', async () => {
    const { enter, records, all } = await world();
    const [ada, kim] = [await enter('ada'), await enter('kim')];
    // Ada changes what stands in her shed; kim takes the tool out of it and has not committed.
    for (const level of ['read committed', 'repeatable read'] as const) {
      await sql`update tools set shed_id = 1, name = 'Brush' where id = 2`.execute(records);
      let begun = () => {};
      const started = new Promise<void>((resolve) => {
        begun = resolve;
      });
      const theirs = records
        .transaction()
        .setIsolationLevel(level)
        .execute(async (tx) => {
          // A snapshot from before.
          await sql`select * from sheds, tools`.execute(tx);
          begun();
          await moved;
          const { numUpdatedRows } = await ada.scope(tx).updateTable('tools').set({ name: 'Hers' }).where('id', '=', 2).executeTakeFirstOrThrow();
          return numUpdatedRows;
        });
      let move = () => {};
      const moved = new Promise<void>((resolve) => {
        move = resolve;
      });
      await started;
      await sql`update sheds set owner_id = 'bo' where id = 1`.execute(records);
      move();
      const told = await theirs.catch((error: { code?: string }) => error.code);
      expect([level, told]).toEqual([level, level === 'read committed' ? 0n : 'try-again']);
      expect((await all())[1].name).toBe('Brush');
      await sql`update sheds set owner_id = 'ada' where id = 1`.execute(records);
    }
    expect(await Promise.all(Array.from({ length: 8 }, (_, i) => kim.change('tool', [1], { uses: i })))).toHaveLength(8);
  });

  test('whom an open transaction has linked is taken off after it, and the removal does not wait for that', async () => {
    const { lintel, enter, records } = await world();
    const kim = await enter('kim');
    await kim.together(async (inside: typeof kim) => {
      await inside.change('tool', [1], { hands: { add: ['bo'] } });
      await kim.members.remove('bo');
      expect(await lintel.takeOffRecords()).toEqual({ done: 0, waiting: 1 });
    });
    expect(await lintel.takeOffRecords()).toEqual({ done: 1, waiting: 0 });
    expect((await sql`select * from hands`.execute(records)).rows).toEqual([]);
  });
});

test('tables and connections in which it would not hold are refused at the start, each with its mend', async () => {
  const { db } = await emptyPostgres(2);
  const refused = async (statements: readonly string[], options: object = {}) => {
    const records = await server.open(options);
    for (const statement of statements) await sql.raw(statement).execute(records);
    return createLintel({ charter, db, records })
      .prepare()
      .then(
        () => 'taken',
        (error: Error) => error.message,
      );
  };
  expect(await refused(TABLES)).toBe('taken');
  const wrong: readonly [from: string, to: string, words: string][] = [
    ['name varchar(40), code', 'name varchar(40) collate utf8mb4_general_ci, code', 'give it utf8mb4_nopad_bin'],
    ['name varchar(40), code', 'name varchar(40) collate utf8mb4_bin, code', 'give it utf8mb4_nopad_bin'],
    ['name varchar(40), code', 'name char(40), code', 'is of the type char'],
    ['bought datetime(3)', 'bought datetime', 'keeps 0 places'],
    ['bought datetime(3)', 'bought timestamp(3) null', 'is of the type timestamp'],
    ['price decimal(8, 2)', 'price double', 'is of the type double'],
    ['price decimal(8, 2)', 'price decimal(8, 1)', 'keeps 1 places'],
    ['lent boolean', 'lent int', 'is of the type int'],
  ];
  for (const [from, to, words] of wrong) expect(await refused(TABLES.map((one) => one.replace(from, to)))).toContain(words);
  const sessions: readonly [object, string][] = [
    [{ timezone: '+02:00' }, "say timezone: 'Z'"],
    [{ decimalNumbers: true }, 'decimalNumbers: false'],
    [{ dateStrings: true }, 'no dateStrings'],
    [{ charset: 'latin1' }, "charset: 'utf8mb4'"],
  ];
  for (const [options, words] of sessions) expect(await refused(TABLES, options)).toContain(words);
  for (const [mode, words] of [
    ['', 'STRICT_TRANS_TABLES'],
    ['STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES', 'take NO_BACKSLASH_ESCAPES out'],
  ] as const) {
    const records = await server.open({ connectionLimit: 1 });
    for (const statement of TABLES) await sql.raw(statement).execute(records);
    await sql.raw(`set session sql_mode = '${mode}'`).execute(records);
    await expect(createLintel({ charter, db, records }).prepare()).rejects.toThrow(words);
  }
});

test('a schema is read as its tables say: keys, foreign keys, choices, types', async () => {
  const records = await server.open();
  for (const statement of [
    ...TABLES,
    `create table visits (id uuid primary key, tool_id int not null, state varchar(10) not null check (state in ('open', 'done')), mood enum('good', 'bad'), at datetime(3), foreign key (tool_id) references tools (id)) ${BINARY}`,
  ])
    await sql.raw(statement).execute(records);
  const visits = (await readSchema(records)).find(({ name }) => name === 'visits');
  expect(visits?.columns).toEqual([
    expect.objectContaining({ name: 'id', type: 'uuid', isKey: true }),
    expect.objectContaining({ name: 'tool_id', type: 'integer', to: 'tools', mayBeEmpty: false }),
    expect.objectContaining({ name: 'state', type: 'text', options: ['open', 'done'] }),
    expect.objectContaining({ name: 'mood', options: ['good', 'bad'] }),
    expect.objectContaining({ name: 'at', type: 'instant' }),
  ]);
});

/* Records that have their tenant through another, and people of a record whose links name no tenant: tables that nobody has to alter. */
import { Kysely, SqliteDialect, sql } from 'kysely';
import Database from 'libsql';
import pg from 'pg';
import { beforeAll, describe, expect, test, vi } from 'vitest';
import { defineCharter, defineKinds, id, maker, owner, people, tenant, text, through } from 'warm-lintel';
import { createLintel, policyStatements } from 'warm-lintel/server';
import { APP_ROLE } from '../properties/agree/engines.js';
import { emptyPostgres } from './worlds.js';

const actions = { read: { label: 'Read' }, create: { label: 'Make' }, update: { label: 'Change' }, delete: { label: 'Delete' } };
const integer = { type: 'integer' } as const;
const charter = defineCharter(
  defineKinds(
    {
      job: { table: 'jobs', label: 'title', fields: { id: id(integer), shopId: tenant({ type: 'text' }), title: text() }, actions },
      remark: {
        table: 'remarks',
        label: 'words',
        fields: {
          id: id(integer),
          jobId: through('job', integer),
          madeBy: maker({ type: 'text' }),
          words: text(),
          watchers: people({ table: 'remark_watchers', record: 'remark_id', user: 'user_id', type: 'text' }),
        },
        actions,
      },
      mark: {
        table: 'marks',
        label: 'sign',
        fields: { id: id(integer), remarkId: through('remark', integer), painterId: owner({ type: 'text', change: 'give' }), sign: text() },
        actions: { ...actions, give: { label: 'Give' } },
      },
    },
    { remark: { own: ({ record, me }) => record.madeBy.is(me.userId), watched: ({ record, me }) => record.watchers.includes(me.userId) } },
  ),
  {
    roles: {
      fitter: {
        label: 'Fitter',
        may: {
          'job.read': 'tenant',
          'remark.read': ['own', 'watched'],
          'remark.create': 'own',
          'remark.update': 'own',
          'remark.delete': 'watched',
          'mark.read': 'followed',
          'mark.create': 'followed',
        },
      },
      // Sees no remark on which a mark stands.
      painter: { label: 'Painter', may: { 'mark.read': 'tenant', 'mark.update': 'tenant', 'mark.give': 'tenant' } },
    },
  },
);

const TABLES = [
  'create table jobs (id integer primary key, shop_id text, title text)',
  'create table remarks (id integer primary key, job_id integer references jobs, made_by text, words text)',
  'create table remark_watchers (remark_id integer, user_id text)',
  'create table marks (id integer primary key, remark_id integer references remarks, painter_id text, sign text)',
  "insert into jobs values (1, 'north', 'Brakes'), (2, 'south', 'Gears')",
  "insert into remarks values (11, 1, 'ada', 'worn'), (12, 1, 'bo', 'ordered'), (21, 2, 'ada', 'theirs'), (31, null, 'ada', 'nobody''s')",
  "insert into remark_watchers values (12, 'ada'), (21, 'ada'), (11, 'bo')",
  "insert into marks values (111, 11, null, 'a'), (121, 12, null, 'b'), (211, 21, null, 'c'), (311, 31, null, 'd'), (411, null, null, 'e')",
];

async function world(records?: Kysely<any>) {
  const { db } = await emptyPostgres(2);
  const place = records ?? db;
  for (const statement of TABLES) await sql.raw(statement).execute(place);
  const lintel = createLintel({ charter, db, ...(records && { records }) });
  await lintel.prepare();
  for (const who of ['kim', 'ada', 'bo', 'cy']) await lintel.addPerson({ id: who, name: who, address: `${who}@through.example`, confirmedAt: new Date(0) });
  for (const shop of ['north', 'south']) {
    await lintel.openTenant({ id: shop, name: shop, keyholder: 'kim' });
    const kim = await lintel.enter({ tenant: shop, user: 'kim' });
    for (const [who, role] of [
      ['ada', 'fitter'],
      ['bo', 'fitter'],
      ['cy', 'painter'],
    ] as const) {
      const [sent] = await kim.invitations.send([{ address: `${who}@through.example`, roles: [{ role, anchor: { on: 'tenant' } }] }]);
      await lintel.acceptInvitation(who, { token: sent?.token as string });
    }
  }
  const enter = (user: string, shop = 'north') => lintel.enter({ tenant: shop, user });
  return { lintel, db, place, enter };
}
const ids = (rows: readonly object[]) => rows.map((row) => Number((row as { id: unknown }).id)).sort();

describe.each(['beside the membership', 'in SQLite'])('%s', (where) => {
  let it: Awaited<ReturnType<typeof world>>;
  beforeAll(async () => {
    it = await world(where === 'in SQLite' ? new Kysely<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) }) : undefined);
  });

  test('a record is of its parent’s tenant, however many steps away, and one without a parent is nobody’s', async () => {
    const [ada, kim, south] = [await it.enter('ada'), await it.enter('kim'), await it.enter('kim', 'south')];
    expect(ids(await ada.find('remark'))).toEqual([11, 12]);
    expect(ids(await ada.find('mark'))).toEqual([111, 121]);
    expect(ids(await kim.scope<any>(it.place).selectFrom('marks').select('id').execute())).toEqual([111, 121]);
    expect(ids(await south.scope<any>(it.place).selectFrom('marks').select('id').execute())).toEqual([211]);
    expect((await kim.decideById('mark.update', 111)).allowed).toBe(true);
    // Of what was found it is known whose it is; what somebody hands over says nothing of that.
    const [found] = await kim.find('mark', { where: { id: 111 } });
    expect([kim.may('mark.update', found as object), kim.may('mark.update', { ...found, remarkId: 21 })]).toEqual([true, false]);
    for (const hidden of [211, 311, 411, 999]) expect(await kim.decideById('mark.update', hidden)).toMatchObject({ allowed: false, visibility: 'hidden' });
  });

  test('an id that is none, as a request brings it, is told so and is no error of the database', async () => {
    const kim = (await it.enter('kim')).scope<any>(it.place);
    for (const value of ['abc', '1.5', '']) {
      await expect(kim.selectFrom('jobs').select('id').where('id', '=', value).execute()).rejects.toMatchObject({ code: 'bad-value' });
      await expect(kim.deleteFrom('jobs').where('id', 'in', ['1', value]).execute()).rejects.toMatchObject({ code: 'bad-value' });
    }
    expect(ids(await kim.selectFrom('jobs').select('id').where('id', '=', '1').execute())).toEqual([1]);
  });

  test('what is made hangs on a record that its maker reads, and never on none', async () => {
    const ada = await it.enter('ada');
    const make = (values: object) => ada.scope<any>(it.place).insertInto('marks').values(values).execute();
    await make({ id: 901, remark_id: 12, sign: 'f' });
    for (const values of [{ remark_id: 21 }, { remark_id: 31 }, { remark_id: null }, {}])
      await expect(make({ id: 902, sign: 'g', ...values })).rejects.toMatchObject({ code: expect.stringMatching(/^(no-such-value|write-out-of-reach)$/) });
    expect(await it.place.selectFrom('marks').select('id').where('id', '=', 902).execute()).toEqual([]);
  });

  test('who leaves is taken off the records of that tenant, and of no other', async () => {
    const kim = await it.enter('kim');
    await kim.members.remove('ada');
    if (where === 'beside the membership')
      expect(await it.place.selectFrom('remark_watchers').selectAll().orderBy('remark_id').execute()).toEqual([
        { remark_id: 11, user_id: 'bo' },
        { remark_id: 21, user_id: 'ada' },
      ]);
  });
});

test('under the row policies plain SQL sees the same, and no function tells of another tenant', async () => {
  // What goes over a connection to ask for somebody else.
  const sent: unknown[] = [];
  const query = pg.Client.prototype.query;
  const noted = vi.spyOn(pg.Client.prototype, 'query').mockImplementation(function (this: pg.Client, ...of: any[]) {
    if (String(of[0]?.text ?? of[0]).includes('lintel_wall.asked(')) sent.push(...(of[0].values ?? of[1]));
    return (query as any).apply(this, of);
  } as never);
  const { lintel, db, enter } = await world();
  await sql.raw(`do $$ begin create role ${APP_ROLE}; exception when duplicate_object then null; end $$`).execute(db);
  for (const statement of policyStatements(lintel.charter, { role: APP_ROLE })) await sql.raw(statement).execute(db);
  const ada = await enter('ada');
  const [view, ...linked] = (
    await sql<{ called: string }>`select oid::regclass::text as called from pg_class where relname like 'here\\_remark\\_%' union all
      select oid::regproc::text from pg_proc where proname like 'linked\\_remark\\_watchers\\_%'`.execute(db)
  ).rows.map(({ called }) => called);
  const seen = await ada.withPolicies(db, async (tx) => {
    await sql.raw(`set local role ${APP_ROLE}`).execute(tx);
    const list = async (text: string) => ids((await sql.raw<any>(text).execute(tx)).rows);
    return {
      marks: await list('select id from marks'),
      remarks: await list('select id from remarks'),
      here: await list(`select id from ${view}`),
      watched: [...new Set((await Promise.all(linked.map((one) => list(`select id from ${one}() as id`)))).flat())],
    };
  });
  expect(seen).toEqual({ marks: [111, 121], remarks: [11, 12], here: [11, 12], watched: [12] });
  // Each rule is asked of the function that does what it asks, whichever is asked first; where none does, that is said.
  await sql.raw('delete from marks where remark_id = 12').execute(db);
  const drop = () =>
    ada.withPolicies(db, async (tx, scope) => {
      await sql.raw(`set local role ${APP_ROLE}`).execute(tx);
      return (scope as any).deleteFrom('remarks').returning('id').execute();
    });
  const renamed = (from: string, to: string) => sql.raw(`alter function ${from} rename to ${to.replace('lintel_wall.', '')}`).execute(db);
  for (const one of linked) await renamed(`${one}()`, `${one}_before`);
  await expect(drop()).rejects.toMatchObject({ code: 'no-policies' });
  for (const one of linked) await renamed(`${one}_before()`, one);
  expect(ids(await drop())).toEqual([12]);
  // Whose tenant a record has shows where whoever gives it away does not see what it stands on.
  const given = await (await enter('cy')).withPolicies(db, async (tx, scope) => {
    await sql.raw(`set local role ${APP_ROLE}`).execute(tx);
    expect(await (scope as any).selectFrom('remarks').select('id').execute()).toEqual([]);
    return (scope as any).updateTable('marks').set({ painter_id: 'kim' }).where('id', 'in', [111, 211]).returning('id').execute();
  });
  expect(ids(given)).toEqual([111]);
  // What the right of whoever gets it rests on is looked at as it is, also where whoever gives it sees nothing of that.
  const give = async (to: string) =>
    (await enter('cy')).withPolicies(db, async (tx, scope) => {
      await sql.raw(`set local role ${APP_ROLE}`).execute(tx);
      return (scope as any).updateTable('marks').set({ painter_id: to }).where('id', '=', 111).returning('id').execute();
    });
  expect(ids(await give('bo'))).toEqual([111]);
  await sql.raw('delete from remark_watchers where remark_id = 11').execute(db);
  await sql.raw('update marks set painter_id = null where id = 111').execute(db);
  await expect(give('bo')).rejects.toMatchObject({ code: 'no-such-value' });
  // The wall answers for somebody else only what the library asks, and in the transaction in which it asks.
  expect(ids(await give('ada'))).toEqual([111]);
  const question = sent.findLast((value) => String(value).includes('jsonb_populate_record'));
  const signature = sent[sent.lastIndexOf(question) + 1];
  const asked = await ada.withPolicies(db, async (tx) => {
    const [{ carried }] = (await sql<any>`select current_setting('lintel.standing') as carried`.execute(tx)).rows;
    const ask = async (what: unknown, by: unknown) =>
      (await sql<any>`select lintel_wall.asked(${what}, ${by}, to_jsonb(m)) as yes from marks as m where id = 111`.execute(tx)).rows[0].yes;
    return [
      await ask(question, signature),
      await ask('select true', signature),
      await ask('select true', carried.slice(0, 64)),
      await ask(carried.slice(65), carried.slice(0, 64)),
      await ask('select true', null),
      await ask(null, signature),
    ];
  });
  expect([String(signature).length, asked]).toEqual([64, Array(6).fill(false)]);
  noted.mockRestore();
});

test('a parent whose id is not unique by itself is refused, with the place and the remedy', async () => {
  const { lintel, db } = await world();
  await lintel.prepare();
  for (const statement of ['alter table marks drop constraint marks_remark_id_fkey', 'alter table remarks drop constraint remarks_pkey'])
    await sql.raw(statement).execute(db);
  const refused = await lintel.prepare().catch((error: Error) => error.message);
  expect(refused).toMatch(/kinds\.mark\.fields\.remarkId: .*"remarks"\."id" to be unique by itself/);
  expect(refused).toMatch(/kinds\.remark\.fields\.watchers: .*make it the key/);
});

/* The application's own Kysely, narrowed: on PostgreSQL with parallel connections, and on the embedded database. */
import { CamelCasePlugin, type Kysely, type KyselyPlugin, sql } from 'kysely';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { isLintelError, readCharter } from 'warm-lintel';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { type Apiary, apiaryOnPglite, apiaryOnPostgres } from './worlds.js';

type Standing = Awaited<ReturnType<Apiary['enter']>>;
const swap: KyselyPlugin = {
  transformQuery: ({ node }) => JSON.parse(JSON.stringify(node).replaceAll('"sheets"', '"lintel_person"')),
  transformResult: async ({ result }) => result,
};
const code = (work: () => Promise<unknown>) =>
  work().then(
    () => 'done',
    (error: unknown) => (isLintelError(error) ? error.code : `not ours: ${String(error)}`),
  );

describe.each([
  ['PostgreSQL', apiaryOnPostgres],
  ['PGlite', apiaryOnPglite],
] as const)('on %s', (_name, open) => {
  let db: Kysely<any>;
  let lintel: Apiary;
  let tobias: Standing;
  let maren: Standing;
  let ingrid: Standing;
  beforeAll(async () => {
    ({ db, lintel } = await open());
    const enter = (user: string) => lintel.enter({ tenant: 'alderbrook', user });
    [tobias, maren, ingrid] = [await enter('tobias'), await enter('maren'), await enter('ingrid')];
  });
  afterAll(() => db.destroy());
  const scope = (standing: Standing) => standing.scope<any>();
  const ids = (rows: { id?: unknown }[]) => rows.map((r) => String(r.id)).sort();

  test('every shape of read reaches the same records', async () => {
    const s = scope(ingrid);
    const mine = ids(await ingrid.find('hive', { limit: 1000 }));
    expect(mine.length).toBe(5);
    const shapes: Record<string, Promise<{ id?: unknown }[]>> = {
      plain: s.selectFrom('hives').select('id').execute(),
      'all columns': s.selectFrom('hives').selectAll().execute(),
      alias: s.selectFrom('hives as h').select('h.id').execute(),
      subquery: s.selectFrom(s.selectFrom('hives').selectAll().as('x')).select('x.id').execute(),
      'join to itself': s.selectFrom('hives as a').innerJoin('hives as b', 'b.id', 'a.id').select('b.id').execute(),
      'right join': s.selectFrom('inspections as i').rightJoin('hives as h', 'h.id', 'i.hive_id').select('h.id').execute(),
      cte: (s as any)
        .with('x', (q: any) => q.selectFrom('hives').select('id'))
        .selectFrom('x')
        .select('x.id')
        .execute(),
      'cte in a subquery': (s as any)
        .selectFrom((eb: any) => eb.selectFrom('hives').select('id').as('y'))
        .select('y.id')
        .execute(),
      'recursive cte': (s as any)
        .withRecursive('x', (q: any) => q.selectFrom('hives').select('id').union(q.selectFrom('x').select('x.id')))
        .selectFrom('x')
        .select('x.id')
        .execute(),
      union: s.selectFrom('hives').select('id').union(s.selectFrom('hives as h2').select('h2.id')).execute(),
      exists: s
        .selectFrom('hives')
        .select('id')
        .where((eb: any) => eb.exists(eb.selectFrom('hives as o').select('o.id').whereRef('o.id', '=', 'hives.id')))
        .execute(),
      or: s
        .selectFrom('hives')
        .select('id')
        .where((eb: any) => eb.or([eb('id', '=', 'x'), eb('tenant_id', '=', 'quillmoor'), eb('tenant_id', '=', 'alderbrook')]))
        .execute(),
    };
    for (const [shape, rows] of Object.entries(shapes)) expect({ shape, ids: ids(await rows) }).toEqual({ shape, ids: mine });
    const { n } = await (s as any)
      .selectFrom('hives')
      .select((eb: any) => eb.fn.countAll().as('n'))
      .executeTakeFirstOrThrow();
    expect(Number(n)).toBe(mine.length);
    const left = await scope(maren)
      .selectFrom('hives as h')
      .leftJoin('entries as e', 'e.tenant_id', 'h.tenant_id')
      .select(['h.id', 'e.id as entry'])
      .distinct()
      .execute();
    expect(left.every((row: any) => row.id.startsWith('a-'))).toBe(true);
    // What is out of reach is no partner, and takes nobody along: on the left, and where a join to the right empties rows.
    const alone = await s.selectFrom('hives as h').leftJoin('entries as e', 'e.tenant_id', 'h.tenant_id').select(['h.id', 'e.id as entry']).execute();
    expect([ids(alone), alone.filter((row: any) => row.entry !== null)]).toEqual([mine, []]);
    const pavel = await lintel.enter({ tenant: 'alderbrook', user: 'pavel' });
    const right = await scope(pavel)
      .selectFrom('hives as h')
      .innerJoin('inspections as i', 'i.hive_id', 'h.id')
      .rightJoin('entries as e', 'e.tenant_id', 'h.tenant_id')
      .select(['e.id', 'h.id as hive'])
      .execute();
    expect([ids(right), right.filter((row: any) => row.hive !== null)]).toEqual([ids(await pavel.find('entry')), []]);
  });

  test('what is inside a followed record follows it, and shared records are read by every member', async () => {
    const visits = await scope(ingrid).selectFrom('inspections').select(['id', 'hive_id']).execute();
    const mine = new Set(ids(await ingrid.find('hive')));
    expect(visits.length).toBeGreaterThan(0);
    expect(visits.every((v: any) => mine.has(v.hive_id))).toBe(true);
    expect((await scope(tobias).selectFrom('sheets').selectAll().execute()).length).toBe(2);
    expect(await code(() => scope(maren).insertInto('sheets').values({ id: 's', title: 't', body: 'b' }).execute())).toBe('scope-refused');
  });

  test('a masked field is empty where it may not be read, so that no filter, sort or group tells it', async () => {
    const s = scope(tobias);
    const rows = await s.selectFrom('hives').select(['id', 'keeper_id', 'registration_no']).where('registration_no', 'is not', null).execute();
    expect(rows.length).toBeGreaterThan(0);
    expect(rows.every((r: any) => r.keeper_id === 'tobias')).toBe(true);
    const found = await tobias.find('hive', { limit: 100 });
    expect(found.every((h) => 'registrationNo' in h === (h.keeperId === 'tobias'))).toBe(true);
    expect(await tobias.find('hive', { where: { registrationNo: 'R-A1079' } })).toEqual(
      await tobias.find('hive', { where: { registrationNo: 'R-A1079', keeperId: 'tobias' } }),
    );
    expect(await code(() => s.updateTable('hives').set({ name: 'x' }).where('registration_no', '=', 'R-A1079').execute())).toBe('scope-refused');
    expect(
      await code(() =>
        s
          .updateTable('hives')
          .set((eb: any) => ({ name: eb.ref('registration_no') }))
          .execute(),
      ),
    ).toBe('scope-refused');
  });

  test('a page has bounds, and what is none is refused', async () => {
    const asked = (options: object) => code(() => tobias.find('hive', options));
    expect(await Promise.all([-1, 1.5, 1001].map((limit) => asked({ limit })))).toEqual(Array(3).fill('bad-limit'));
    expect(await Promise.all([-1, 0.5].map((offset) => asked({ offset })))).toEqual(Array(2).fill('bad-offset'));
    expect(await Promise.all([{ may: ['entry.read'] }, { where: { hive: 'x' } }, { order: 'inspectors' }].map(asked))).toEqual([
      'unknown-action',
      'unknown-field',
      'unknown-field',
    ]);
    const names = async (order: string) => ((await tobias.find('hive', { order, limit: 100 })) as any[]).map(({ name }) => name);
    const inOrder = await names('name');
    expect([inOrder, await names('-name')]).toEqual([[...inOrder].sort(), [...inOrder].reverse()]);
    // Of a record that is named, a page has as much as of others.
    const pages = (where: Record<string, unknown>) =>
      Promise.all([{}, { limit: 0 }, { offset: 1 }, { order: 'name' }].map((page) => tobias.find('hive', { where, ...page })));
    const byName = await pages({ name: inOrder[0] });
    const [id] = ids(byName[0] ?? []);
    expect(await pages({ id })).toEqual(byName);
    expect(await asked({ where: { id }, order: 'inspectors' })).toBe('unknown-field');
    // A value of another type equals nothing.
    expect(await Promise.all([{ colonies: 'x' }, { name: 7 }].map((where) => tobias.find('hive', { where } as never)))).toEqual([[], []]);
    expect([await tobias.find('hive', { limit: 0 }), ids(await tobias.find('hive', { where: { keeperId: null }, limit: 1000 })).length > 0]).toEqual([
      [],
      true,
    ]);
  });

  test('each way around the scope is refused by name', async () => {
    const s = scope(tobias);
    const inside = (column: string) => (eb: any) => eb.exists(eb.selectFrom('inspections').select('inspections.id').where(column, '=', 'R-A1079'));
    const escapes: Record<string, () => Promise<unknown>> = {
      'a raw select item': () => s.selectFrom('hives').select(sql`(select count(*) from hives)`.as('n')).execute(),
      'a raw condition': () => s.selectFrom('hives').select('id').where(sql<boolean>`true or true`).execute(),
      'a raw table': () =>
        s
          .selectFrom(sql`hives`.as('h') as never)
          .selectAll()
          .execute(),
      'a raw order': () => s.selectFrom('hives').select('id').orderBy(sql`(select 1)`).execute(),
      'a function that runs SQL': () =>
        s
          .selectFrom('hives')
          .select((eb: any) => eb.fn('query_to_xml', [eb.val('select 1')]).as('x'))
          .execute(),
      'a function by its raw text': () =>
        s
          .selectFrom('hives')
          .select((eb: any) => eb.fn('lower(name), pg_sleep', [eb.val(1)]).as('x'))
          .execute(),
      'a cast, which can fail on one row': () =>
        s
          .selectFrom('hives')
          .select('id')
          .where((eb: any) => eb(eb.cast('name', 'integer'), '=', 1))
          .execute(),
      'an unknown table': () => s.selectFrom('lintel_credential').selectAll().execute(),
      'a table of the catalogue': () => s.selectFrom('pg_catalog.pg_class').selectAll().execute(),
      'a declared table in another schema': () => s.selectFrom('public.hives').selectAll().execute(),
      'a schema by plugin': () => s.withSchema('public').selectFrom('hives').selectAll().execute(),
      'a cte named like a table': () =>
        s
          .with('hives', (q: any) => q.selectFrom('entries').selectAll())
          .selectFrom('hives')
          .selectAll()
          .execute(),
      'a cte named like a table of links': () =>
        s
          .with('hive_inspectors', (q: any) => q.selectFrom('hives').select(['tenant_id', 'id as hive_id', 'keeper_id as user_id']))
          .selectFrom('hives')
          .selectAll()
          .execute(),
      'an alias like those of our own conditions': () => s.selectFrom('hives as lintel_1').select('lintel_1.id').execute(),
      'an alias of ours in a write': () => s.updateTable('hives as lintel_1').set({ name: 'x' }).execute(),
      'a cte that writes': () =>
        s
          .with('x', (q: any) => q.deleteFrom('hives').returning('id'))
          .selectFrom('x')
          .selectAll()
          .execute(),
      'a cte used outside of its place': () =>
        s
          .selectFrom(
            (s as any)
              .with('x', (q: any) => q.selectFrom('hives').select('id'))
              .selectFrom('x')
              .selectAll()
              .as('y'),
          )
          .innerJoin('x', 'x.id', 'y.id')
          .selectAll()
          .execute(),
      'a lateral join': () =>
        s
          .selectFrom('hives as h')
          .innerJoinLateral(
            (eb: any) => eb.selectFrom('inspections').selectAll().as('i'),
            (j: any) => j.onTrue(),
          )
          .selectAll()
          .execute(),
      'an aggregate of another name': () =>
        s
          .selectFrom('hives')
          .select((eb: any) => eb.fn.agg('string_agg', ['name', eb.val(',')]).as('x'))
          .execute(),
      'a fetch': () => s.selectFrom('hives').select('id').fetch(1).execute(),
      'a row lock': () => s.selectFrom('hives').selectAll().forUpdate().execute(),
      'a merge': async () => (s as any).mergeInto('hives').using('entries', 'entries.id', 'hives.id').whenMatched().thenDelete().execute(),
      'an upsert that names a masked field': () =>
        s
          .insertInto('hives')
          .values({ id: 'a-hive-01', name: 'x' })
          .onConflict((c: any) => c.column('id').doUpdateSet((eb: any) => ({ name: eb.ref('hives.registration_no') })))
          .execute(),
      'an upsert by the name of a constraint': () =>
        s
          .insertInto('hives')
          .values({ id: 'a-hive-01', name: 'x' })
          .onConflict((c: any) => c.constraint('hives_pkey').doUpdateSet({ name: 'x' }))
          .execute(),
      'an upsert that hands over': () =>
        s
          .insertInto('hives')
          .values({ id: 'a-hive-01', name: 'x' })
          .onConflict((c: any) => c.column('id').doUpdateSet({ keeper_id: 'sela' }))
          .execute(),
      'an insert from a select that brings an owner': () =>
        s
          .insertInto('hives')
          .columns(['id', 'keeper_id'])
          .expression((eb: any) => eb.selectFrom('entries').select(['id', 'purpose']))
          .execute(),
      'an update from another table': () => s.updateTable('hives').from('entries').set({ name: 'x' }).execute(),
      'a delete using another table': () => s.deleteFrom('entries').using('hives').execute(),
      'another table in a write': () =>
        s
          .updateTable('hives')
          .set({ name: 'x' })
          .where('entries.id' as never, '=', 'x' as never)
          .execute(),
      'a masked column of the row that is written, in a subquery': () => s.updateTable('hives').set({ name: 'x' }).where(inside('registration_no')).execute(),
      'the same by the name of its table': () => s.updateTable('hives').set({ name: 'x' }).where(inside('hives.registration_no')).execute(),
      'a whole row in a write': () => s.updateTable('hives').set({ name: 'x' }).where('hives.hives', '=', 'x').execute(),
      'a system column in a write': () => s.updateTable('hives').set({ name: 'x' }).where('ctid', '=', '(0,1)').execute(),
      'a name longer than the database keeps': () =>
        s
          .with('h'.repeat(64), (q: any) => q.selectFrom('hives').select('id'))
          .selectFrom('h'.repeat(64))
          .selectAll()
          .execute(),
      'a plugin that rewrites the table away': () => s.withPlugin(swap).selectFrom('sheets').selectAll().execute(),
    };
    for (const [what, attempt] of Object.entries(escapes)) {
      const answer = await code(attempt);
      expect({ what, answer: ['scope-refused', 'unknown-table', 'unknown-column'].includes(answer) ? 'refused' : answer }).toEqual({ what, answer: 'refused' });
    }
    expect('schema' in s || 'executeQuery' in s || 'introspection' in s || 'connection' in s || 'getExecutor' in s).toBe(false);
    // What a caller does to a compiled query changes nothing of what is run.
    const builder = s.selectFrom('hives').selectAll();
    const compiled = builder.compile();
    (compiled as any).parameters[0] = 'quillmoor';
    expect((await builder.execute()).every((r: any) => r.tenant_id === 'alderbrook')).toBe(true);
  });

  test('plugins come and go without widening it', async () => {
    const rows = await scope(tobias).withoutPlugins().selectFrom('hives').select('id').execute();
    expect(rows.every((r: any) => r.id.startsWith('a-'))).toBe(true);
    const camel = tobias.scope<any>(db.withPlugin(new CamelCasePlugin()));
    const [row] = await camel
      .updateTable('hives')
      .set({ name: 'Amber hive' })
      .where('keeperId', '=', 'tobias')
      .where('id', '=', 'a-hive-01')
      .returning(['id', 'keeperId'])
      .execute();
    expect(row).toEqual({ id: 'a-hive-01', keeperId: 'tobias' });
  });

  test('what is made is stamped, and a form cannot choose tenant or maker', async () => {
    const s = scope(tobias);
    const [made] = await s.insertInto('hives').values({ id: 'n-1', name: 'New' }).returningAll().execute();
    expect(made).toMatchObject({ tenant_id: 'alderbrook', keeper_id: 'tobias', made_by: 'tobias' });
    expect(await code(() => s.insertInto('hives').values({ id: 'n-2', name: 'New', tenant_id: 'quillmoor' }).execute())).toBe('field-set-by-library');
    expect(await code(() => s.insertInto('hives').values({ id: 'n-2', name: 'New', made_by: 'maren' }).execute())).toBe('field-set-by-library');
    expect(
      await code(() =>
        s
          .insertInto('hives')
          .values([
            { id: 'n-2', name: 'Mine' },
            { id: 'n-3', name: 'Theirs', keeper_id: 'sela' },
          ] as never)
          .execute(),
      ),
    ).toBe('guarded-field');
    expect(await code(() => s.insertInto('hives').values({ id: 'n-2', name: 'New', registration_no: 'R-1' }).execute())).toBe('guarded-field');
    expect(
      await code(() =>
        s
          .insertInto('inspections')
          .values({ id: 'i-1', hive_id: 'q-hive-01', held_at: new Date(0), summary: 'x' })
          .execute(),
      ),
    ).toBe('no-such-value');
    expect(
      await code(() =>
        s
          .insertInto('inspections')
          .values({ id: 'i-1', hive_id: 'a-hive-02', held_at: new Date(0), summary: 'x' })
          .execute(),
      ),
    ).toBe('guarded-field');
    expect(
      await s
        .insertInto('inspections')
        .values({ id: 'i-1', hive_id: 'n-1', held_at: new Date(0), summary: 'x' })
        .returning('made_by')
        .execute(),
    ).toEqual([{ made_by: 'tobias' }]);
    expect(ids(await db.selectFrom('hives').select('id').where('id', 'like', 'n-%').execute())).toEqual(['n-1']);
    const unowned = await code(() => scope(maren).insertInto('hives').values({ id: 'n-4', name: 'Unowned', keeper_id: null }).execute());
    expect(unowned).toBe('done');
  });

  test('a write reaches rows as they were, and fails as a whole when one would leave its reach', async () => {
    const s = scope(tobias);
    const all = await s.updateTable('hives').set({ colonies: 7 }).where('id', 'in', ['a-hive-01', 'a-hive-02', 'q-hive-01']).executeTakeFirst();
    expect(all.numUpdatedRows).toBe(1n);
    expect(await db.selectFrom('hives').select('id').where('colonies', '=', 7).execute()).toEqual([{ id: 'a-hive-01' }]);
    for (const column of ['tenant_id', 'made_by', 'id'])
      expect(
        await code(() =>
          s
            .updateTable('hives')
            .set({ [column]: 'quillmoor' })
            .execute(),
        ),
      ).toBe('field-set-by-library');
    expect((await s.updateTable('hives').set({ registration_no: 'X' }).where('id', '=', 'a-hive-01').executeTakeFirst()).numUpdatedRows).toBe(0n);
    expect((await s.updateTable('hives').set({ name: 'y' }).where('id', '=', 'a-hive-09').executeTakeFirst()).numUpdatedRows).toBe(0n); // archived
    const otto = await lintel.enter({ tenant: 'alderbrook', user: 'otto' });
    // A warden moves hives within the orchards, and not out of them.
    expect(await code(() => scope(otto).updateTable('hives').set({ site_id: 'heath' }).where('id', '=', 'a-hive-01').execute())).toBe('write-out-of-reach');
    expect(await code(() => scope(otto).updateTable('hives').set({ site_id: 'nowhere' }).where('id', '=', 'a-hive-01').execute())).toBe('no-such-value');
    expect((await scope(otto).updateTable('hives').set({ site_id: 'mill-meadow' }).where('id', '=', 'a-hive-01').executeTakeFirst()).numUpdatedRows).toBe(1n);
    expect(
      await code(() =>
        s.transaction().execute(async (trx) => {
          await trx.updateTable('hives').set({ colonies: 9 }).where('id', '=', 'a-hive-01').execute();
          await trx
            .insertInto('hives')
            .values({ id: 'n-9', name: 'x', keeper_id: 'sela' } as never)
            .execute();
        }),
      ),
    ).toBe('guarded-field');
    expect(await db.selectFrom('hives').select('colonies').where('id', '=', 'a-hive-01').execute()).toEqual([{ colonies: 7 }]);
  });

  test('an upsert changes what one may change, makes what one may make, and skips the rest', async () => {
    const s = scope(tobias) as any;
    const upsert = (id: string, name: string) =>
      s
        .insertInto('hives')
        .values({ id, name })
        .onConflict((c: any) => c.column('id').doUpdateSet((eb: any) => ({ name: eb.ref('excluded.name') })))
        .returning(['id', 'name'])
        .execute();
    expect(await upsert('u-1', 'Made')).toEqual([{ id: 'u-1', name: 'Made' }]);
    expect(await upsert('u-1', 'Changed')).toEqual([{ id: 'u-1', name: 'Changed' }]);
    expect(await upsert('a-hive-02', 'Stolen')).toEqual([]);
    expect(await upsert('q-hive-01', 'Stolen')).toEqual([]);
    expect((await db.selectFrom('hives').select('id').where('name', '=', 'Stolen').execute()).length).toBe(0);
    const [nothing] = await s
      .insertInto('hives')
      .values({ id: 'u-1', name: 'x' })
      .onConflict((c: any) => c.column('id').doNothing())
      .execute();
    expect(nothing.numInsertedOrUpdatedRows).toBe(0n);
    await db.deleteFrom('hives').where('id', '=', 'u-1').execute();
  });

  test('an insert from a select brings only what one reads, stamped; a write may begin with CTEs', async () => {
    const s = scope(tobias) as any;
    const made = await s
      .insertInto('inspections')
      .columns(['id', 'hive_id', 'held_at', 'summary'])
      .expression((eb: any) =>
        eb
          .selectFrom('hives')
          .select(['hives.id', 'hives.id as hive_id', eb.val(new Date(0)).as('held_at'), 'hives.name'])
          .where('keeper_id', '=', 'tobias')
          .where('status', '=', 'active'),
      )
      .returning(['id', 'tenant_id', 'made_by'])
      .execute();
    expect(made.length).toBeGreaterThan(2);
    expect(made.every((row: any) => row.tenant_id === 'alderbrook' && row.made_by === 'tobias')).toBe(true);
    const all = await code(() =>
      s
        .insertInto('inspections')
        .columns(['id', 'hive_id', 'held_at', 'summary'])
        .expression((eb: any) => eb.selectFrom('hives').select(['hives.id', 'hives.id as hive_id', eb.val(new Date(0)).as('held_at'), 'hives.name']))
        .execute(),
    );
    expect(all).toBe('guarded-field');
    const renamed = await s
      .with('mine', (q: any) => q.selectFrom('hives').select('id').where('colonies', '>', 0))
      .updateTable('hives')
      .set({ name: 'Counted' })
      .where('id', 'in', (eb: any) => eb.selectFrom('mine').select('mine.id'))
      .returning('keeper_id')
      .execute();
    const looked = await s
      .updateTable('hives')
      .set({ name: 'Looked at' })
      .where((eb: any) => eb.exists(eb.selectFrom('inspections').selectAll().whereRef('inspections.hive_id', '=', 'hives.id')))
      .returning('name')
      .execute();
    expect(looked.length).toBeGreaterThan(0);
    expect(renamed.length).toBeGreaterThan(0);
    expect(renamed.every((row: any) => row.keeper_id === 'tobias' || row.keeper_id === null)).toBe(true);
    await db
      .deleteFrom('inspections')
      .where(
        'id',
        'in',
        made.map((row: any) => row.id),
      )
      .execute();
  });

  test('registered fragments and open tables are there by name; what they are given is narrowed like the rest', async () => {
    await sql`create table countries (code text)`.execute(db);
    await sql`insert into countries values ('XA')`.execute(db);
    const wide = createLintel({ charter, db, openTables: ['countries'], fragments: { yearOf: 'extract(year from $1)::integer' } });
    const s = (await wide.enter({ tenant: 'alderbrook', user: 'ingrid' })).scope<any>() as any;
    const years = await s
      .selectFrom('inspections')
      .innerJoin('countries', (j: any) => j.onTrue())
      .select((eb: any) => ['code', eb.fn('yearOf', ['held_at']).as('year')])
      .execute();
    expect(years.length).toBe((await scope(ingrid).selectFrom('inspections').select('id').execute()).length);
    expect(years[0]).toMatchObject({ code: 'XA', year: expect.any(Number) });
    const misused = await code(() =>
      s
        .selectFrom('inspections')
        .select((eb: any) => eb.fn('yearOf', []).as('x'))
        .execute(),
    );
    expect(misused).toBe('scope-refused');
    expect(await code(() => s.insertInto('countries').values({ code: 'XB' }).execute())).toBe('unknown-table');
  });

  test('a list of people is changed by the action that its field names, whole or by who comes and who goes, and stands in the journal', async () => {
    const followers = async (id: string) => ((await maren.findOne('hive', id)) as unknown as { followers: string[] }).followers;
    const change = (who: Standing, id: string, value: unknown, field = 'followers') => who.change('hive', [id], { [field]: value } as never);
    expect(await change(tobias, 'a-hive-01', ['otto', 'sela', 'otto'])).toEqual({ changed: ['a-hive-01'], unchanged: [] });
    // Hers, of another tenant, and none at all: not told apart, and nothing is written.
    for (const id of ['a-hive-02', 'q-hive-01', 'nothing']) expect(await change(tobias, id, [])).toEqual({ changed: [], unchanged: [id] });
    expect([await followers('a-hive-01'), await followers('a-hive-02')]).toEqual([['otto', 'sela'], ['otto']]);
    // Of those who come and go at once each is right; whoever is there already is no error.
    await Promise.all(
      ['maren', 'junia', 'hanne', 'otto'].map((one) => change(maren, 'a-hive-01', { add: [one], remove: [one === 'otto' ? 'sela' : 'pavel'] })),
    );
    expect(await followers('a-hive-01')).toEqual(['hanne', 'junia', 'maren', 'otto']);
    const refused = await Promise.all(
      [['gone'], ['rosa'], [7], 'otto', { ad: [] }, null, Array(1001).fill('otto')].map((value) => code(() => change(tobias, 'a-hive-01', value))),
    );
    expect(refused).toEqual(['no-such-value', 'no-such-value', ...Array(4).fill('bad-value'), 'too-many']);
    expect(await code(() => change(ingrid, 'a-hive-01', [], 'inspectors'))).toBe('done');
    expect(((await maren.findOne('hive', 'a-hive-01')) as any).inspectors).toEqual(['ingrid']);
    // What else is changed with it is in reach too, or nothing is done.
    await db.updateTable('hives').set({ status: 'archived' }).where('id', '=', 'a-hive-01').execute();
    expect(await code(() => tobias.change('hive', ['a-hive-01'], { followers: [], name: 'Half done' } as never))).toBe('write-out-of-reach');
    await db.updateTable('hives').set({ status: 'active' }).where('id', '=', 'a-hive-01').execute();
    expect(await followers('a-hive-01')).toEqual(['hanne', 'junia', 'maren', 'otto']);
    const { items } = await tobias.journal('hive', 'a-hive-01');
    expect(items.find(({ fields }) => JSON.stringify(fields.followers?.from) === '["sela"]')).toMatchObject({
      what: 'changed',
      by: { userId: 'tobias' },
      actions: ['follow'],
      fields: { followers: { from: ['sela'], to: ['otto', 'sela'] } },
    });
  });

  test('nobody who is removed in the same second stays on a list', async () => {
    for (let i = 0; i < 8; i++) {
      const user = `away-${i}`;
      await lintel.addPerson({ id: user, name: 'Away', address: `${user}@alderbrook.example`, confirmedAt: new Date() });
      const boss = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
      const [sent] = await boss.invitations.send([{ address: `${user}@alderbrook.example`, roles: [] }]);
      await lintel.acceptInvitation(user, { token: sent?.token ?? '' });
      await Promise.all([
        boss.carryOut([{ do: 'remove', user }]),
        ...['a-hive-04', 'a-hive-07'].map((id) => code(() => tobias.change('hive', [id], { followers: { add: [user] } } as never))),
      ]);
      expect(await db.selectFrom('hive_followers').selectAll().where('user_id', '=', user).execute()).toEqual([]);
    }
  });

  test('named records are changed, and it is said which were not', async () => {
    const answer = await tobias.change('hive', ['a-hive-01', 'a-hive-02', 'q-hive-01', 'nothing'], { name: 'Renamed' });
    expect(answer).toEqual({ changed: ['a-hive-01'], unchanged: ['a-hive-02', 'q-hive-01', 'nothing'] });
    expect(await code(() => tobias.change('hive', ['a-hive-01'], { nam: 'x' } as never))).toBe('unknown-field');
    expect(await code(() => tobias.change('hive', ['a-hive-01'], { keeperId: 'rosa', name: 'Half done' }))).toBe('no-such-value');
    expect(await db.selectFrom('hives').select('name').where('id', '=', 'a-hive-01').execute()).toEqual([{ name: 'Renamed' }]);
    // Nobody's hive can be changed, and not given to somebody else: then neither is done.
    expect(await code(() => tobias.change('hive', ['a-hive-03'], { keeperId: 'sela', name: 'Half done' }))).toBe('write-out-of-reach');
    expect(await db.selectFrom('hives').select('name').where('name', '=', 'Half done').execute()).toEqual([]);
    expect(await code(() => tobias.change('hive', Array(1001).fill('a-hive-01'), { name: 'Renamed' }))).toBe('too-many');
    expect((await tobias.change('hive', Array(1000).fill('a-hive-01'), { name: 'Renamed' })).changed).toEqual(['a-hive-01']);
  });

  test('several tenants of one person are one list, each row by its own tenant’s rule', async () => {
    const keeper = { tenant_id: 'quillmoor', user_id: 'ingrid', role: 'keeper', anchor: 'tenant', anchor_id: 'quillmoor' };
    await db.insertInto('lintel_assignment').values(keeper).execute();
    const all = await lintel.enterAll({ user: 'ingrid' });
    const each = await Promise.all(all.standings.map((standing) => standing.find('hive', { limit: 1000 })));
    expect(all.standings.length).toBe(2);
    expect(ids(await all.find('hive', { limit: 1000 }))).toEqual(ids(each.flat()));
    const s = all.scope<any>() as any;
    expect(ids(await s.selectFrom('hives').select('id').execute())).toEqual(ids(each.flat()));
    // What is masked in one of them is masked in its rows alone.
    const told = async (from: Pick<Standing, 'find'>) => (await from.find('hive', { limit: 1000 })).map((one: any) => [one.id, Object.keys(one).sort()]);
    const inEach = (await Promise.all(all.standings.map((one) => told(one as never)))).flat().sort();
    expect((await told(all as never)).sort()).toEqual(inEach);
    expect(new Set(inEach.map(([, keys]) => String(keys))).size).toBe(2);
    expect(await code(() => s.updateTable('hives').set({ name: 'x' }).execute())).toBe('scope-refused');
    expect(all.in('quillmoor')?.facts.tenant.id).toBe('quillmoor');
    expect(await (await lintel.enterAll({ user: 'ingrid', tenants: [] })).find('hive')).toEqual([]);
    // Somebody else's tenant among those named shows nothing of it.
    expect(
      ids(await (await lintel.enterAll({ user: 'tobias', tenants: ['alderbrook', 'quillmoor'] })).find('hive', { limit: 1000 })).every(
        (id) => !id.startsWith('q-'),
      ),
    ).toBe(true);
  });

  test('a hive is handed to somebody who can read it, and then the giver’s power is over', async () => {
    const s = scope(tobias);
    const give = (to: string | null, id = 'a-hive-04') =>
      code(() => s.updateTable('hives').set({ keeper_id: to }).where('id', '=', id).executeTakeFirstOrThrow());
    expect(await give('rosa')).toBe('no-such-value'); // of another tenant
    expect(await give('nobody')).toBe('no-such-value');
    expect(await give('pavel')).toBe('no-such-value'); // a member who reads no hive
    expect(await code(() => s.updateTable('hives').set({ keeper_id: 'sela', name: 'x' }).where('id', '=', 'a-hive-04').execute())).toBe('scope-refused');
    // What is nobody's can be taken for oneself, and not for another.
    expect((await s.updateTable('hives').set({ keeper_id: 'sela' }).where('id', '=', 'a-hive-03').executeTakeFirst()).numUpdatedRows).toBe(0n);
    expect((await s.updateTable('hives').set({ keeper_id: 'tobias' }).where('id', '=', 'a-hive-02').executeTakeFirst()).numUpdatedRows).toBe(0n);
    expect(await give('sela')).toBe('done');
    expect((await tobias.decideById('hive.update', 'a-hive-04')).outcome).toBe('out of reach');
    expect((await s.updateTable('hives').set({ keeper_id: 'tobias' }).where('id', '=', 'a-hive-04').executeTakeFirst()).numUpdatedRows).toBe(0n);
  });

  test('a unit or a parent for which the charter names no action is never written', async () => {
    const data = structuredClone(charter.data) as any;
    delete data.kinds.hive.fields.siteId.change;
    delete data.kinds.inspection.fields.hiveId.change;
    const open = await createLintel({ charter: readCharter(data), db }).enter({ tenant: 'alderbrook', user: 'maren' });
    const s = (open as unknown as Standing).scope<any>();
    expect(await code(() => s.updateTable('hives').set({ site_id: 'heath' }).where('id', '=', 'a-hive-01').execute())).toBe('scope-refused');
    expect(await code(() => s.updateTable('inspections').set({ hive_id: 'a-hive-02' }).where('id', '=', 'a-hive-01-visit').execute())).toBe('scope-refused');
  });

  test('of two who take the same unowned hive at once, one gets it', async () => {
    const sela = await lintel.enter({ tenant: 'alderbrook', user: 'sela' });
    const take = (who: Standing) => scope(who).updateTable('hives').set({ keeper_id: who.userId }).where('id', '=', 'a-hive-03').executeTakeFirst();
    const taken = await Promise.all([take(tobias), take(sela)]);
    expect(taken.map((t) => t.numUpdatedRows).sort()).toEqual([0n, 1n]);
  });

  test('a decision by id agrees with what the database lets happen, record by record and person by person', async () => {
    const hives = ids(await db.selectFrom('hives').select('id').execute());
    for (const user of ['maren', 'tobias', 'otto', 'junia', 'ingrid', 'lene', 'rosa']) {
      const who = await lintel.enter({ tenant: 'alderbrook', user });
      const found = new Map((await who.find('hive', { limit: 1000, may: ['hive.update', 'hive.transfer', 'hive.inspect'] })).map((h) => [h.id, h.may]));
      for (const id of hives) {
        for (const action of ['hive.update', 'hive.transfer', 'hive.inspect'] as const) {
          const decision = await who.decideById(action, id);
          expect({ user, id, action, allowed: decision.allowed }).toEqual({ user, id, action, allowed: found.get(id)?.includes(action) ?? false });
          if (!found.has(id)) expect(decision).toMatchObject({ visibility: 'hidden', words: 'There is no such hive.' });
        }
      }
    }
  });

  test('a value that its field does not take is refused by name, and nothing is written', async () => {
    const s = scope(tobias) as any;
    for (const [values, about] of [
      [{ colonies: 'many' }, /colonies of a hive takes integer, not "many"/],
      [{ colonies: 1.5 }, /takes integer/],
      [{ name: 5 }, /name of a hive takes text, not 5/],
      [{ name: 'a\u0000b' }, /takes text/],
      [{ name: ['x'] }, /takes text/],
    ] as const) {
      const said = await s
        .updateTable('hives')
        .set(values)
        .execute()
        .catch((error: Error) => error.message);
      expect(said).toMatch(about);
      expect(
        await code(() =>
          s
            .insertInto('hives')
            .values({ id: 'bad', ...values })
            .execute(),
        ),
      ).toBe('bad-value');
    }
    const otto = await lintel.enter({ tenant: 'alderbrook', user: 'otto' });
    expect(await code(() => scope(otto).updateTable('hives').set({ status: 'lost' }).execute())).toBe('bad-value');
    expect(await db.selectFrom('hives').select('id').where('id', '=', 'bad').execute()).toEqual([]);
  });

  test('what is given out is a copy, or cannot be changed', async () => {
    const { values } = ingrid.condition('hive.read', 'h');
    expect([Object.isFrozen(values), values.every((value) => !Array.isArray(value) || Object.isFrozen(value))]).toEqual([true, true]);
    expect(() => (ingrid.facts.me.groupIds as string[]).push('x')).toThrow(TypeError);
    const filter = ingrid.filter('hive.read') as any;
    const before = JSON.stringify(filter);
    for (const part of filter.of ?? []) part.op = 'always';
    filter.op = 'always';
    expect(JSON.stringify(ingrid.filter('hive.read'))).toBe(before);
    // What was compiled is the caller's to change: what is executed is not that.
    const query = scope(tobias).selectFrom('hives').select('id');
    const seen = ids(await query.execute());
    const given = query.compile().parameters as unknown[];
    given.fill('quillmoor');
    expect(ids(await query.execute())).toEqual(seen);
  });

  test('what the database works out is held to what its field takes', async () => {
    // What a database keeps such values out by itself is not what is tried here.
    await sql`alter table hives drop constraint hives_status_check`.execute(db);
    const otto = await lintel.enter({ tenant: 'alderbrook', user: 'otto' });
    const set = (who: Standing, column: string, value: (eb: any) => unknown) =>
      code(() =>
        scope(who)
          .updateTable('hives')
          .set((eb: any) => ({ [column]: value(eb) }))
          .execute(),
      );
    expect(await set(tobias, 'colonies', (eb) => eb('colonies', '*', 0))).toBe('done');
    expect(await set(maren, 'status', (eb) => eb.fn.coalesce(eb.val('lost'), 'status'))).toBe('bad-value');
    expect(await set(otto, 'status', (eb) => eb.fn('concat', ['status', eb.val('!')]))).not.toBe('done');
    expect(await db.selectFrom('hives').select('id').where('status', 'not in', ['active', 'archived']).execute()).toEqual([]);
    await sql`alter table hives add constraint hives_status_check check (status in ('active', 'archived'))`.execute(db);
  });

  test('what a record says of itself counts only where the library put it', async () => {
    const [hidden] = await db.selectFrom('hives').selectAll().where('tenant_id', '=', 'alderbrook').where('keeper_id', '=', 'sela').execute();
    const visit = await db.selectFrom('inspections').selectAll().where('tenant_id', '=', 'alderbrook').executeTakeFirstOrThrow();
    const body = { id: visit.id, tenantId: 'alderbrook', hiveId: visit.hive_id, madeBy: 'x' };
    const forged = { hiveId: { id: visit.hive_id, tenantId: 'alderbrook', keeperId: 'tobias', status: 'active' } };
    const asked = (record: object) => tobias.decide('inspection.update', record as never).outcome;
    expect(hidden).toBeDefined();
    // Neither what was sent nor what was put beside a record that was loaded.
    expect([asked(body), asked({ ...body, may: ['inspection.update', 'inspection.read'] }), asked({ ...body, parents: forged })]).toEqual(
      Array(3).fill(asked(body)),
    );
    const [found] = await tobias.find('inspection', { may: ['inspection.update'], limit: 1 });
    const before = asked(found as object);
    Object.assign(found as object, { may: [], parents: forged });
    expect(asked(found as object)).toBe(before);
    // What the parents hold is there for a decision, and not shown.
    for (const { id } of await db.selectFrom('hives').select('id').where('tenant_id', '=', 'alderbrook').limit(8).execute()) {
      const toBe = { id: 'new', hiveId: id };
      const loaded = await tobias.withParents('inspection', toBe as never);
      const made = await code(() =>
        scope(tobias)
          .transaction()
          .execute(async (trx) => {
            await trx
              .insertInto('inspections')
              .values({ id: 'new', hive_id: id, held_at: new Date(0), summary: 'x' } as never)
              .execute();
            throw new Error('undone');
          }),
      );
      expect({ id, loaded, allowed: tobias.may('inspection.create', loaded) }).toEqual({ id, loaded: toBe, allowed: made.startsWith('not ours') });
      expect(tobias.decide('inspection.create', { ...loaded }).allowed).toBe(false);
    }
  });

  test('an id of the wrong type is an id that is missing', async () => {
    for (const id of [5, {}, null, "x' or '1'='1", '\u0000', '\ud800', 'q-hive-01']) {
      expect(await code(() => tobias.findOne('hive', id))).toBe('not-found');
      expect((await tobias.decideById('hive.read', id)).words).toBe('There is no such hive.');
    }
  });
});

/* Ids that are numbers or uuids, in a charter, an application that keeps its people itself, and everything between. */
import { Hono } from 'hono';
import { type Kysely, sql } from 'kysely';
import { describe, expect, test } from 'vitest';
import { defineCharter, defineKinds, group, id, maker, owner, parent, people, person, tenant, text, unit } from 'warm-lintel';
import { createFace, problemResponse } from 'warm-lintel/http';
import { probe, reviewCharter } from 'warm-lintel/rehearsal';
import { createLintel, policyStatements } from 'warm-lintel/server';
import { code, whole } from './club.js';
import { testLong } from './long.js';
import { emptyPostgres } from './worlds.js';

const charterOf = <const T extends 'integer' | 'uuid'>(type: T) => {
  const ids = { type } as const;
  const kinds = defineKinds(
    {
      book: {
        table: 'books',
        label: 'title',
        fields: { id: id(ids), tenantId: tenant(ids), title: text() },
        actions: { read: { label: 'See a book' } },
      },
      note: {
        table: 'notes',
        label: 'title',
        fields: {
          id: id(ids),
          tenantId: tenant(ids),
          ownerId: owner({ ...ids, change: 'hand' }),
          madeBy: maker(ids),
          aboutId: person(ids),
          roomId: unit({ ...ids, change: 'move' }),
          crewId: group({ ...ids, change: 'move' }),
          bookId: parent('book', { ...ids, change: 'move' }),
          helpers: people({ ...ids, table: 'helpers', tenant: 'tenant_id', record: 'note_id', user: 'user_id', change: 'hand' }),
          title: text(),
        },
        actions: {
          read: { label: 'See a note' },
          create: { label: 'Write a note' },
          update: { label: 'Change a note' },
          hand: { label: 'Hand a note over' },
          move: { label: 'Move a note' },
        },
      },
    },
    {
      note: {
        own: ({ record, me }) => record.ownerId.is(me.userId),
        made: ({ record, me }) => record.madeBy.is(me.userId),
        helped: ({ record, me }) => record.helpers.includes(me.userId),
        near: ({ record, me }) => record.roomId.within(me.unitIds),
        crew: ({ record, me }) => record.crewId.in(me.groupIds),
        mates: ({ record, me }) => record.ownerId.among(me.groupIds),
      },
    },
  );
  const reads = ['own', 'helped', 'near', 'crew', 'mates'] as const;
  return defineCharter(kinds, {
    roles: {
      reader: { label: 'Reader', may: { 'book.read': 'tenant' } },
      writer: { label: 'Writer', includes: ['reader'], may: { 'note.read': reads, 'note.create': 'own', 'note.update': ['own', 'made'], 'note.move': 'own' } },
    },
  });
};

/** An application that has people and organisations of its own. */
async function application(type: 'integer' | 'uuid') {
  const { db } = await emptyPostgres();
  const charter = charterOf(type);
  const [own, key] = type === 'integer' ? ['integer', 'serial primary key'] : ['uuid', 'uuid primary key default gen_random_uuid()'];
  const columns = ['owner_id', 'made_by', 'about_id', 'room_id', 'crew_id', 'book_id'].map((name) => `${name} ${own}`).join(', ');
  for (const statement of [
    `create table users (id ${key}, name text, is_program boolean)`,
    `create table books (id ${key}, tenant_id ${own} not null, title text)`,
    `create table notes (id ${key}, tenant_id ${own} not null, ${columns}, title text)`,
    `create table helpers (tenant_id ${own}, note_id ${own}, user_id ${own}, primary key (note_id, user_id))`,
  ])
    await sql.raw(statement).execute(db);
  const newPerson = async (tx: Kysely<any>, { name, isProgram }: { name: string; isProgram: boolean }) =>
    (await tx.insertInto('users').values({ name, is_program: isProgram }).returning('id').executeTakeFirstOrThrow()).id;
  const lintel = createLintel({ charter, db, newPerson });
  await lintel.prepare();
  const here = type === 'integer' ? 40 : '11111111-aaaa-4000-8000-000000000040';
  const there = type === 'integer' ? 41 : '11111111-aaaa-4000-8000-000000000041';
  const person_ = async (name: string) => lintel.addPerson({ name, address: `${name}@ids.example`, confirmedAt: new Date(0) });
  const [boss, ann, ben] = [await person_('boss'), await person_('ann'), await person_('ben')];
  // As somebody writes them who took them from elsewhere.
  await lintel.openTenant({ id: type === 'integer' ? String(here) : String(here).toUpperCase(), name: 'Here', keyholder: boss });
  await lintel.openTenant({ id: there, name: 'There', keyholder: boss });
  const keyholder = await lintel.enter({ tenant: here, user: boss });
  for (const [user, name] of [
    [ann, 'ann'],
    [ben, 'ben'],
  ] as const) {
    const [answer] = await keyholder.invitations.send([{ address: `${name}@ids.example`, roles: [whole('writer')] }]);
    await lintel.acceptInvitation(user, { token: answer?.token as string });
  }
  const typed = (one: string): string | number => (type === 'integer' ? Number(one) : one);
  const sent = (one: unknown): string => String(one).toUpperCase();
  return { db: db as Kysely<any>, charter, lintel: lintel as any, newPerson, here, there, boss, ann, ben, keyholder, typed, sent };
}

describe.each(['integer', 'uuid'] as const)('ids are %s', (type) => {
  test('an id is one, however it is written, in and out of the library', async () => {
    const { db, charter, lintel, here, boss, ann, ben, keyholder, typed, sent } = await application(type);
    const is = type === 'integer' ? 'number' : 'string';
    expect([await db.selectFrom('users').select(['id', 'name']).orderBy('name').execute()]).toEqual([
      [
        { id: typed(ann), name: 'ann' },
        { id: typed(ben), name: 'ben' },
        { id: typed(boss), name: 'boss' },
      ],
    ]);
    const top = await keyholder.tenant.addUnit({ name: 'Top' });
    const room = await keyholder.tenant.addUnit({ name: 'Room', below: top });
    const [made] = await keyholder.carryOut([{ do: 'make-group', name: 'Crew', people: [sent(ben)] }]);
    const crew = made?.id as string;
    await keyholder.members.place(sent(ann), [sent(top)]);
    const me = await lintel.enter({ tenant: sent(here), user: typed(ann) });
    expect([me.isMember, me.userId, me.facts.tenant.id, me.facts.me.unitIds]).toEqual([true, ann, String(here), [top]]);
    await db.insertInto('books').values({ tenant_id: here, title: 'Log' }).execute();
    const { id: book } = await db.selectFrom('books').select('id').executeTakeFirstOrThrow();
    // What a form sends is text; what stands there afterwards is what the columns hold.
    const body = { ownerId: sent(ann), aboutId: sent(ben), roomId: sent(room), bookId: sent(book), title: 'Mine' };
    expect([me.decide('note.create', { ...body, roomId: null, bookId: null }).outcome, me.may('note.update', { ...body, tenantId: sent(here) })]).toEqual([
      'allowed',
      true,
    ]);
    const columns = { owner_id: body.ownerId, about_id: body.aboutId, room_id: body.roomId, book_id: body.bookId, title: body.title };
    const [note] = (await me.scope(db).insertInto('notes').values(columns).returningAll().execute()) as any[];
    expect(note).toEqual({
      ...{ id: note.id, tenant_id: here, title: 'Mine', crew_id: null, book_id: book },
      ...{ owner_id: typed(ann), made_by: typed(ann), about_id: typed(ben), room_id: typed(room) },
    });
    await db
      .insertInto('helpers')
      .values({ tenant_id: here, note_id: note.id, user_id: typed(ben) })
      .execute();
    const other = await lintel.enter({ tenant: here, user: ben });
    const found = await other.findOne('note', sent(note.id));
    expect([found.helpers, typeof found.ownerId, other.may('note.read', found), (await other.decideById('note.read', sent(note.id))).allowed]).toEqual([
      [typed(ben)],
      is,
      true,
      true,
    ]);
    expect(await other.find('note', { where: { id: type === 'integer' ? `0${note.id}` : 'none' } })).toEqual([]);
    // An id for which its column is too narrow, or of another shape, is the id of nothing; a value out of its column's range is told, and nothing is written.
    const odd = [9_999_999_999, -1, 1.5, '99999999999999999999', 'x', null, note.id];
    expect(await me.change('note', odd, { title: 'Still mine' })).toEqual({ changed: [note.id], unchanged: odd.slice(0, -1) });
    if (type === 'integer') expect(await code(me.change('note', [note.id], { title: 'No', bookId: 9_999_999_999 }))).toBe('bad-value');
    expect((await me.findOne('note', note.id)).title).toBe('Still mine');
    // Each way by which somebody reaches it, one by one.
    const keyed = async (set: object, helps = false) => {
      await db.deleteFrom('helpers').execute();
      if (helps)
        await db
          .insertInto('helpers')
          .values({ tenant_id: here, note_id: note.id, user_id: typed(ann) })
          .execute();
      await db
        .updateTable('notes')
        .set({ owner_id: null, room_id: null, crew_id: null, ...set })
        .execute();
      const seen = [await lintel.enter({ tenant: here, user: ann }), await lintel.enter({ tenant: here, user: ben })].map(
        async (one) => (await one.find('note')).length,
      );
      return (await Promise.all(seen)).join('');
    };
    expect([
      await keyed({}),
      await keyed({ owner_id: typed(ann) }),
      await keyed({ owner_id: typed(ben) }),
      await keyed({ room_id: typed(room) }),
      await keyed({ crew_id: typed(crew) }),
      await keyed({}, true),
    ]).toEqual(['00', '10', '01', '10', '01', '10']);
    // Parameters have the type of their columns; what is told has one text.
    const { values } = me.condition('note.read', 'n');
    expect(new Set(values.flat().map((value: unknown) => typeof value))).toEqual(new Set([is]));
    const events = (await keyholder.audit.list()).map(({ event }: any) => JSON.stringify(event)).join('\n');
    expect([events.includes(`"${top}"`), events.includes(`"user":"${ann}"`), type === 'uuid' && /[A-F]/.test(events.replace(/[^0-9A-Fa-f-]/g, ''))]).toEqual([
      true,
      true,
      false,
    ]);
    expect(reviewCharter(charter as never).map((one) => one.code)).not.toContain('reach-empty');
  });

  test('what is no id of that type is refused where one is taken, and is nobody’s where one is looked for', async () => {
    const { db, charter, lintel, here, boss, ann, newPerson, typed } = await application(type);
    const wrong = type === 'integer' ? '05' : 'ann';
    let tries = 0;
    const add = (id: unknown) => code(lintel.addPerson({ id, name: 'X', address: `x${tries++}@ids.example` }));
    expect([await add(wrong), await add('lintel:x'), await add(ann), await code(lintel.enter({ tenant: here, user: wrong }))]).toEqual([
      ...['bad-id', 'bad-id', 'person-exists', 'bad-id'],
    ]);
    expect([
      await code(lintel.openTenant({ id: wrong, name: 'X', keyholder: boss })),
      await code(lintel.openTenant({ id: here, name: 'X', keyholder: boss })),
    ]).toEqual(['bad-id', 'tenant-exists']);
    const nowhere = await lintel.enter({ tenant: wrong, user: ann });
    expect([nowhere.isMember, await nowhere.scope(db).selectFrom('notes').selectAll().execute()]).toEqual([false, []]);
    const bare = createLintel({ charter, db: db as never });
    const made = await code(bare.addPerson({ name: 'X', address: 'x@ids.example' }));
    expect([made, await code(bare.openTenant({ name: 'X', keyholder: typed(boss) }))]).toEqual(
      type === 'integer' ? ['option-missing', 'option-missing'] : ['done', 'done'],
    );
    // A program is one of the application's people too, and is told apart by a column alone.
    const keyholder = await lintel.enter({ tenant: here, user: boss });
    const [program_] = await keyholder.carryOut([{ do: 'make-program', name: 'Backup', responsible: ann }]);
    const program = program_.id;
    expect(await db.selectFrom('users').select(['id', 'is_program']).where('name', '=', 'Backup').execute()).toEqual([
      { id: typed(program), is_program: true },
    ]);
    expect([
      (await keyholder.programs.list()).map((one: any) => [one.id, one.responsible.id]),
      await code(lintel.openTenant({ id: type === 'integer' ? 50 : crypto.randomUUID(), name: 'X', keyholder: program })),
    ]).toEqual([[[program, ann]], 'no-person']);
    expect(await code(lintel.within(db).addPerson({ name: 'Ann', address: 'ann@ids.example' }))).toBe('address-taken');
    expect([newPerson.length, await db.selectFrom('users').select('id').where('name', '=', 'Ann').execute()]).toEqual([2, []]);
  });

  testLong('the interface tells ids as text, and the probe finds what an application tells of others', async () => {
    const { db, lintel, here, boss, ann, ben, typed, sent } = await application(type);
    await db
      .insertInto('notes')
      .values([
        { tenant_id: here, owner_id: typed(ann), made_by: typed(ann), title: 'Of Ann alone' },
        { tenant_id: here, owner_id: typed(ben), made_by: typed(ben), title: 'Of Ben alone' },
      ])
      .execute();
    const face = createFace(lintel, { sender: () => ({ user: typed(boss) as never }), at: '/lintel', title: 'Notes' });
    const answer = await face.fetch(new Request(`http://ids.example/lintel/tenants/${sent(here)}/members`));
    const told = (await answer.json()) as any;
    expect([answer.status, told.items.map((one: any) => one.userId).sort()]).toEqual([200, [ann, ben, boss].sort()]);
    const target = (fault: 'none' | 'all' | 'maker') => {
      const app = new Hono();
      app.onError(problemResponse);
      const standing = (c: any) => lintel.enter({ tenant: here, user: c.req.header('x-user') });
      app.get('/notes', async (c) => c.json(fault === 'all' ? await db.selectFrom('notes').selectAll().execute() : await (await standing(c)).find('note')));
      app.get('/notes/:noteId', async (c) => {
        const one = await (await standing(c)).findOne('note', c.req.param('noteId'));
        return one ? c.json(one) : c.json({}, 404);
      });
      app.post('/notes', async (c) => {
        const me = await standing(c);
        if (!me.may('note.create')) return c.json({}, 403);
        const { title } = ((await c.req.json().catch(() => undefined)) ?? {}) as { title?: unknown };
        if (typeof title !== 'string' || title.includes('\0')) return c.json({}, 400);
        const row = { title, ...(fault === 'maker' && { tenant_id: here, owner_id: me.userId, made_by: typed(ben) }) };
        return c.json(await (fault === 'maker' ? db : me.scope(db)).insertInto('notes').values(row).returning('id').execute(), 201);
      });
      return {
        app: (request: Request) => app.request(request),
        signIn: async ({ id }: { id: string | null }) => (id === null ? {} : { 'x-user': id }),
        routes: [
          { method: 'get', path: '/notes' },
          { method: 'get', path: '/notes/:noteId' },
          { method: 'post', path: '/notes', body: { title: 'Probe' } },
        ],
      } as never;
    };
    const codes = async (fault: 'none' | 'all' | 'maker') => [...new Set((await probe(lintel, db, target(fault))).findings.map((one) => one.code))];
    expect([await codes('none'), await codes('all'), await codes('maker')]).toEqual([[], ['shows-hidden', 'open-after-removal'], ['changes-unlawfully']]);
  });
});

test('a charter in which ids do not fit each other is refused with the place; under row policies narrow columns are read like wide ones', async () => {
  const mixed = (of: 'text' | 'integer', to: 'text' | 'integer') =>
    code(
      (async () =>
        defineCharter(
          defineKinds(
            {
              book: {
                table: 'books',
                label: 'id',
                fields: { id: id({ type: to }), tenantId: tenant({ type: 'text' }), by: owner({ type: 'text' }) },
                actions: { read: { label: 'x' } },
              },
              note: {
                table: 'notes',
                label: 'id',
                fields: { id: id(), tenantId: tenant({ type: 'text' }), by: maker({ type: of }), bookId: parent('book', { type: 'integer' }) },
                actions: { read: { label: 'x' } },
              },
            },
            {},
          ),
          { roles: {} },
        ))(),
    );
  expect([await mixed('text', 'integer'), await mixed('integer', 'integer'), await mixed('text', 'text')]).toEqual([
    'done',
    'charter-invalid',
    'charter-invalid',
  ]);
  const { db, lintel, charter, here, ann, typed } = await application('integer');
  await sql.raw('do $$ begin create role ids_app; exception when duplicate_object or unique_violation then null; end $$').execute(db);
  await sql.raw(policyStatements(charter as never, { role: 'ids_app' }).join('\n')).execute(db);
  await db
    .insertInto('notes')
    .values([
      { tenant_id: here, owner_id: typed(ann), title: 'Mine' },
      { tenant_id: here, title: 'Nobody’s' },
    ])
    .execute();
  await db
    .insertInto('helpers')
    .values({ tenant_id: here, note_id: 2, user_id: typed(ann) })
    .execute();
  const me = await lintel.enter({ tenant: here, user: ann });
  const seen = await me.withPolicies(db, async (tx: Kysely<any>) => {
    await sql`set local role ids_app`.execute(tx);
    return tx.selectFrom('notes').select('id').orderBy('id').execute();
  });
  expect(seen).toEqual([{ id: 1 }, { id: 2 }]);
});

/* The journal of records: whatever is written through the library is put down with it, as it was and as it became, and shown to whoever reaches the record. */

import fc from 'fast-check';
import { Kysely, SqliteDialect, sql } from 'kysely';
import Database from 'libsql';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { decimal, defineCharter, defineKinds, id, instant, integer, maker, oneOf, owner, tenant, text, through } from 'warm-lintel';
import { checkPolicies, connect, createLintel, type Lintel, policyStatements, type ServerStanding } from 'warm-lintel/server';
import { code, whole } from './club.js';
import { LONG } from './long.js';
import { emptyPostgres } from './worlds.js';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    note: {
      table: 'notes',
      label: 'title',
      journal: true,
      fields: {
        id: id(ids),
        tenantId: tenant(ids),
        ownerId: owner({ ...ids, change: 'hand' }),
        madeBy: maker(ids),
        title: text(),
        status: oneOf(['open', 'shut'], { change: 'shut' }),
        size: integer(),
        price: decimal({ scale: 2 }),
        heldAt: instant(),
        secret: text({ read: 'unfold', change: 'unfold' }),
      },
      actions: {
        read: { label: 'Read a note' },
        create: { label: 'Write a note' },
        update: { label: 'Change a note' },
        delete: { label: 'Delete a note' },
        hand: { label: 'Hand a note over' },
        shut: { label: 'Shut a note' },
        unfold: { label: 'Unfold a note' },
      },
    },
    line: {
      table: 'lines',
      label: 'words',
      journal: { fields: ['words'], shownBy: 'trace', earlier: 'hidden', days: 30 },
      fields: { id: id({ type: 'integer' }), noteId: through('note', { ...ids, change: 'move' }), words: text(), open: oneOf(['yes', 'no']) },
      actions: {
        read: { label: 'Read a line' },
        trace: { label: 'Trace a line' },
        create: { label: 'Add a line' },
        update: { label: 'Change a line' },
        delete: { label: 'Drop a line' },
        move: { label: 'Move a line' },
      },
    },
  },
  {
    note: { own: ({ record, me }) => record.ownerId.is(me.userId), isOpen: ({ record }) => record.status.is('open') },
    line: { isOpen: ({ record }) => record.open.is('yes') },
  },
);
const charter = defineCharter(kinds, {
  roles: {
    writer: {
      label: 'Writer',
      may: {
        'note.read': ['own', 'isOpen'],
        'note.create': 'own',
        'note.update': 'own',
        'note.delete': 'own',
        'note.hand': 'own',
        'note.shut': 'own',
        'note.unfold': 'own',
        'line.read': 'followed',
        'line.trace': 'isOpen',
        'line.create': 'tenant',
        'line.update': 'tenant',
        'line.delete': 'tenant',
      },
    },
    reader: { label: 'Reader', may: { 'note.read': 'isOpen', 'member.read': 'self' } },
  },
});
type Desk = { readonly lintel: Lintel<any>; readonly records: Kysely<any>; readonly url: string; readonly close: () => Promise<void> };

const SQL = [
  'create table notes (id text primary key, tenant_id text, owner_id text, made_by text, title text, status text, size integer, price numeric(12,2), held_at timestamptz, secret text)',
  'create table lines (id integer primary key, note_id text, words text, open text)',
];
async function desk(kind: 'PostgreSQL' | 'SQLite'): Promise<Desk> {
  const { db, pool, url } = await emptyPostgres();
  const records = kind === 'SQLite' ? new Kysely<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) }) : db;
  for (const line of SQL) {
    const plain = line.replaceAll('timestamptz', 'text').replaceAll('numeric(12,2)', 'text');
    await sql.raw(kind === 'SQLite' ? plain : line.replaceAll(' text', ' text collate "C"')).execute(records);
  }
  const lintel = createLintel({ charter, db, ...(kind === 'SQLite' && { records }) } as never) as unknown as Lintel<any>;
  await lintel.prepare();
  for (const user of ['key', 'ann', 'ben', 'dep', 'eve']) await lintel.addPerson({ id: user, name: user.toUpperCase(), address: `${user}@desk.example` });
  for (const [tenantId, users] of [
    ['t', ['ann', 'ben', 'dep']],
    ['u', ['eve']],
  ] as const) {
    await lintel.openTenant({ id: tenantId, name: tenantId, keyholder: 'key' });
    for (const user of users) {
      const answers = await (await lintel.enter({ tenant: tenantId, user: 'key' })).invitations.send([
        { address: `${user}@desk.example`, roles: [whole('writer')] },
      ]);
      await lintel.acceptInvitation(user, { token: answers[0]?.token as string });
    }
  }
  const close = async () => {
    if (records !== db) await records.destroy();
    await pool.end();
  };
  return { lintel, records, url, close };
}

type Row = Record<string, unknown>;
const cells = (row: Row) => JSON.parse(JSON.stringify(row, (_, value) => (value === null ? null : value))) as Row;
/** The table as the journal keeps rows: a decimal as its digits, a moment as the database writes it. */
async function rowsOf({ records }: Desk, table: string): Promise<Map<string, Row>> {
  const rows = await records.selectFrom(table).selectAll().orderBy('id').execute();
  return new Map(
    rows.map((row: any) => [String(row.id), cells({ ...row, ...('held_at' in row && { held_at: row.held_at && new Date(row.held_at).toISOString() }) })]),
  );
}
const parsed = (cell: unknown) => (typeof cell === 'string' ? JSON.parse(cell) : cell) as Row | null;
const imaged = (image: Row | null) => image && { ...image, ...(image.held_at ? { held_at: new Date(String(image.held_at)).toISOString() } : {}) };

/** Goes through the journal from a first state: each line begins where the record stood, in what it tells of. @returns the last state. */
async function replay(of: Desk, state: Map<string, Row>, kind: string, told: readonly string[], since = 0): Promise<Map<string, Row>> {
  const lines = await of.records.selectFrom('lintel_journal').selectAll().where('kind', '=', kind).where('number', '>', since).orderBy('number').execute();
  const now = new Map([...state].map(([key, row]) => [key, { ...row }]));
  const only = (row: Row | null | undefined) => row && told.map((column) => row[column]);
  for (const line of lines as any[]) {
    const [was, became] = [imaged(parsed(line.was)), imaged(parsed(line.became))];
    expect([line.record_id, only(was) ?? null]).toEqual([line.record_id, only(now.get(line.record_id)) ?? null]);
    if (became) now.set(line.record_id, { ...now.get(line.record_id), ...became });
    else now.delete(line.record_id);
  }
  return new Map([...now].sort(([a], [b]) => (a < b ? -1 : 1)));
}

const NOTE_COLUMNS = ['id', 'tenant_id', 'owner_id', 'made_by', 'title', 'status', 'size', 'price', 'held_at', 'secret'];

type Does = (standing: ServerStanding<any>) => Promise<unknown>;
type Act = readonly [who: string, what: string, does: Does];
const WHO = fc.constantFrom('key', 'ann', 'ben', 'dep');
const NOTE = fc.constantFrom('a', 'b', 'c', 'd', 'e');
const VALUES = fc.record({
  title: fc.constantFrom('x', 'y', "z'"),
  size: fc.constantFrom(1, 2, null),
  price: fc.constantFrom('1.50', '12345678.90', null),
  status: fc.constantFrom('open', 'shut'),
});
const writes: fc.Arbitrary<Act> = fc.oneof(
  fc.tuple(WHO, fc.uniqueArray(NOTE, { minLength: 1, maxLength: 3 }), VALUES).map(
    ([who, notes, { status: _, ...v }]) =>
      [
        who,
        `insert ${notes}`,
        (s) =>
          s
            .scope<any>()
            .insertInto('notes')
            .values(notes.map((one) => ({ id: one, ...v })))
            .execute(),
      ] as Act,
  ),
  fc
    .tuple(WHO, VALUES, fc.constantFrom('a', 'b', 'c'))
    .map(
      ([who, { status: _, ...v }, from]) =>
        [who, `update from ${from}`, (s) => s.scope<any>().updateTable('notes').set(v).where('id', '>=', from).executeTakeFirst()] as Act,
    ),
  fc.tuple(WHO, NOTE).map(
    ([who, note]) =>
      [
        who,
        `sum ${note}`,
        (s) =>
          s
            .scope<any>()
            .updateTable('notes')
            .set((eb: any) => ({ size: eb('size', '+', 1) }))
            .where('id', '=', note)
            .executeTakeFirst(),
      ] as Act,
  ),
  fc.tuple(WHO, fc.uniqueArray(NOTE, { minLength: 1, maxLength: 3 }), VALUES).map(
    ([who, notes, { status: _, ...v }]) =>
      [
        who,
        `upsert ${notes}`,
        (s) =>
          s
            .scope<any>()
            .insertInto('notes')
            .values(notes.map((one) => ({ id: one, ...v })))
            .onConflict((oc: any) => oc.column('id').doUpdateSet({ title: (eb: any) => eb.ref('excluded.title'), size: 9 }))
            .execute(),
      ] as Act,
  ),
  fc.tuple(WHO, NOTE).map(
    ([who, note]) =>
      [
        who,
        `insert select ${note}`,
        (s) =>
          s
            .scope<any>()
            .insertInto('notes')
            .columns(['id', 'title'])
            .expression((eb: any) => eb.selectFrom('notes').select(['title as id', 'title']).where('id', '=', note))
            .execute(),
      ] as Act,
  ),
  fc.tuple(WHO, NOTE, VALUES).map(([who, note, { title, status }]) => [who, `change ${note}`, (s) => s.change('note', [note], { title, status })] as Act),
  fc.tuple(WHO, NOTE, WHO).map(([who, note, to]) => [who, `hand ${note} to ${to}`, (s) => s.change('note', [note], { ownerId: to })] as Act),
  fc.tuple(WHO, NOTE).map(([who, note]) => [who, `delete ${note}`, (s) => s.scope<any>().deleteFrom('notes').where('id', '=', note).execute()] as Act),
  fc.tuple(WHO, fc.constantFrom(1, 2, 3), NOTE, fc.constantFrom('yes', 'no')).map(
    ([who, line, note, open]) =>
      [
        who,
        `line ${line}`,
        (s) =>
          s
            .scope<any>()
            .insertInto('lines')
            .values({ id: line, note_id: note, words: `of ${note}`, open })
            .execute(),
      ] as Act,
  ),
  fc.tuple(WHO, fc.constantFrom(1, 2, 3), fc.constantFrom('yes', 'no')).map(
    ([who, line, open]) =>
      [
        who,
        `reword ${line}`,
        (s) =>
          s
            .scope<any>()
            .updateTable('lines')
            .set({ words: `by ${who}`, open })
            .where('id', '=', line)
            .execute(),
      ] as Act,
  ),
  fc.constant(['key', 'hand over', (s) => s.handOver('ann', 'ben', ['note'])] as Act),
);

describe.each(['PostgreSQL', 'SQLite'] as const)('on %s', (name) => {
  let of: Desk;
  const enter = (user: string, tenantId = 't') => of.lintel.enter({ tenant: tenantId, user });
  beforeAll(async () => {
    of = await desk(name);
    const until = new Date(Date.now() + 86_400_000).toISOString();
    await (await enter('key')).carryOut([{ do: 'name-deputy', of: 'ann', to: 'dep', permissions: ['note.read', 'note.update'], until }]);
  });
  afterAll(() => of.close());

  test('whatever is written by whatever way, going through the journal on the first state gives the last, and each line says whose it is', async () => {
    let count = 0;
    await fc.assert(
      fc.asyncProperty(fc.array(writes, { minLength: 5, maxLength: 25 }), async (acts) => {
        const since = Number(
          (
            (await of.records
              .selectFrom('lintel_journal')
              .select((eb) => eb.fn.max('number').as('last'))
              .executeTakeFirst()) as any
          )?.last ?? 0,
        );
        const first = { note: await rowsOf(of, 'notes'), line: await rowsOf(of, 'lines') };
        let [before, actors] = [since, [] as string[]];
        for (const [who, , does] of acts) {
          const outcome = await does(await enter(who)).then(
            () => 'done',
            (error: any) => String(error.code ?? error),
          );
          // Nobody else is there to give way to.
          expect(outcome).not.toBe('try-again');
          const fresh = (await of.records
            .selectFrom('lintel_journal')
            .select(['actor', 'number'])
            .where('number', '>', before)
            .orderBy('number')
            .execute()) as any[];
          actors = fresh.map(({ actor }) => actor);
          before = Number(fresh.at(-1)?.number ?? before);
          count += fresh.length;
          expect(new Set(actors).size === 0 || (new Set(actors).size === 1 && actors[0] === who)).toBe(true);
        }
        expect(await replay(of, first.note, 'note', NOTE_COLUMNS, since)).toEqual(await rowsOf(of, 'notes'));
        const told = (rows: Map<string, Row>) => [...rows].map(([key, row]) => [key, row.words]);
        expect(told(await replay(of, first.line, 'line', ['words'], since))).toEqual(told(await rowsOf(of, 'lines')));
      }),
      { numRuns: LONG ? 200 : 6 },
    );
    expect(count).toBeGreaterThan(LONG ? 30 : 10);
  });

  test.runIf(name === 'PostgreSQL')('two at once on the same records leave one story: each line begins where the one before it ended', async () => {
    const key = await enter('key');
    await of.records.deleteFrom('notes').execute();
    const since = Number(
      (
        (await of.records
          .selectFrom('lintel_journal')
          .select((eb) => eb.fn.max('number').as('last'))
          .executeTakeFirst()) as any
      ).last ?? 0,
    );
    const race = fc.sample(fc.tuple(NOTE, fc.constantFrom('upsert', 'sum', 'retitle', 'delete'), fc.string({ maxLength: 3 })), LONG ? 2000 : 60);
    const does = ([note, what, title]: (typeof race)[number]) => {
      const scope = key.scope<any>();
      const plain = title.replaceAll('\0', '');
      if (what === 'delete') return scope.deleteFrom('notes').where('id', '=', note).execute();
      if (what === 'sum')
        return scope
          .updateTable('notes')
          .set((eb: any) => ({ size: eb('size', '+', 1) }))
          .where('id', 'in', [note, 'a'])
          .execute();
      if (what === 'retitle') return scope.updateTable('notes').set({ title: plain }).where('id', '=', note).execute();
      const upsert = scope.insertInto('notes').values({ id: note, title: plain, size: 0 });
      return upsert.onConflict((oc: any) => oc.column('id').doUpdateSet({ title: (eb: any) => eb.ref('excluded.title') })).execute();
    };
    const outcomes = new Set<string>();
    for (let i = 0; i < race.length; i += 6)
      for (const one of await Promise.all(
        race.slice(i, i + 6).map((act) => code(does(act).catch((error: any) => (error.code === '40P01' ? undefined : Promise.reject(error))))),
      ))
        outcomes.add(one);
    expect([...outcomes].every((one) => ['done', 'try-again'].includes(one))).toBe(true);
    expect(await replay(of, new Map(), 'note', NOTE_COLUMNS, since)).toEqual(await rowsOf(of, 'notes'));
  });

  /** Who may be told of a line, said a second time. */
  const mayRead = (user: string, note: Row | undefined) =>
    note !== undefined &&
    note.tenant_id === 't' &&
    (user === 'key' || note.owner_id === user || note.status === 'open' || (user === 'dep' && note.owner_id === 'ann'));
  const mayUnfold = (user: string, note: Row | undefined) => mayRead(user, note) && (user === 'key' || note?.owner_id === user);

  test('it is shown to whoever reaches the record now, and one that is gone as it was last; what is hidden from them and from their organisation stays so', async () => {
    const key = await enter('key');
    for (const table of ['lines', 'notes', 'lintel_journal']) await of.records.deleteFrom(table).execute();
    const ann = await enter('ann');
    await (await enter('eve', 'u')).scope<any>().insertInto('notes').values({ id: 'ua', title: 'of the other' }).execute();
    for (const note of ['n1', 'n2', 'n3', 'n4'])
      await ann
        .scope<any>()
        .insertInto('notes')
        .values({ id: note, title: note, secret: `${note} secret` })
        .execute();
    await ann.change('note', ['n1', 'n3'], { status: 'open' });
    await ann.change('note', ['n1'], { secret: 'another secret' });
    await ann.change('note', ['n2'], { ownerId: 'ben' });
    await (await enter('dep')).change('note', ['n3'], { title: 'by the deputy' });
    for (const [line, note, open] of [
      [1, 'n1', 'yes'],
      [2, 'n2', 'yes'],
      [3, 'n3', 'no'],
      [4, 'n1', 'no'],
    ] as const)
      await key
        .scope<any>()
        .insertInto('lines')
        .values({ id: line, note_id: note, words: `${line}`, open })
        .execute();
    await key.change('line', [4], { words: 'opened', open: 'yes' });
    await key.scope<any>().updateTable('lines').set({ words: 'twice' }).where('id', 'in', [1, 4]).execute();
    await key.scope<any>().deleteFrom('lines').where('id', '=', 2).execute();
    await ann.scope<any>().deleteFrom('notes').where('id', 'in', ['n3', 'n4']).execute();
    await sql`update lintel_journal set at = ${name === 'SQLite' ? '2020-01-01T00:00:00.000Z' : new Date(0)} where record_id = '1' and was is null`.execute(
      of.records,
    );
    const [notes, lines] = [await rowsOf(of, 'notes'), await rowsOf(of, 'lines')];
    const all = (await of.records.selectFrom('lintel_journal').selectAll().where('tenant_id', '=', 't').orderBy('number', 'desc').execute()) as any[];
    const lastOf = (kind: string, record: string) =>
      (kind === 'note' ? notes : lines).get(record) ??
      parsed(all.find((line) => line.kind === kind && line.record_id === record && !line.became)?.was) ??
      undefined;
    for (const user of ['key', 'ann', 'ben', 'dep']) {
      const standing = await enter(user);
      const traces = (image: Row | null | undefined) =>
        Boolean(image) && (user === 'key' || image?.open === 'yes') && mayRead(user, notes.get(image?.note_id as string));
      const tells = (line: any) => {
        const row = lastOf(line.kind, line.record_id);
        if (line.kind === 'note') return mayRead(user, row);
        return !(line.record_id === '1' && !line.was) && traces(row) && traces(parsed(line.became) ?? parsed(line.was));
      };
      const wanted = all.filter(tells).filter((line) => {
        const [was, became] = [parsed(line.was), parsed(line.became)];
        const changed = Object.keys(was ?? {}).filter((column) => was?.[column] !== became?.[column]);
        return !was || !became || changed.some((column) => column !== 'secret' || mayUnfold(user, lastOf('note', line.record_id)));
      });
      const found: any[] = [];
      for (let after: string | undefined; ; ) {
        const { items, next } = await standing.journal.recent({ limit: 3, ...(after !== undefined && { after }) });
        found.push(...items);
        if (next === undefined) break;
        after = next;
      }
      expect([user, found.map(({ id: one }) => one)]).toEqual([user, wanted.map((line) => line.id)]);
      for (const entry of found) {
        const [row, line] = [lastOf('note', entry.record), all.find((one) => one.id === entry.id)];
        if (entry.kind === 'line') expect(Object.keys(entry.fields)).toEqual(['words']);
        else
          expect([entry.record, 'secret' in entry.fields]).toEqual([
            entry.record,
            mayUnfold(user, row) && parsed(line.was)?.secret !== parsed(line.became)?.secret,
          ]);
      }
      for (const note of ['n1', 'n2', 'n3', 'n4', 'ua', 'none']) {
        const ofIt = await standing.journal('note', note).then(
          ({ items }) => items.length,
          (error: any) => error.code,
        );
        const expected = wanted.filter((line) => line.kind === 'note' && line.record_id === note).length;
        expect([user, note, ofIt]).toEqual([user, note, expected === 0 ? 'not-found' : expected]);
      }
    }
    const [entry] = (await key.journal('note', 'n3')).items.filter(({ by }) => by?.userId === 'dep');
    expect(entry).toMatchObject({
      what: 'changed',
      by: { userId: 'dep', name: 'DEP' },
      for: { userId: 'ann', name: 'ANN' },
      actions: ['update'],
      fields: { title: { from: 'n3', to: 'by the deputy' } },
    });
    // Who may know of nobody is not told who.
    expect((await (await enter('ben')).journal('note', 'n1')).items.map(({ by }) => by)).toEqual([null, null]);
    expect((await key.journal.of('ann')).items.length).toBeGreaterThan(6);
    expect(await code((await enter('ben')).journal.of('ann'))).toBe('refused');
    expect(await code(key.journal('line', 'no number'))).toBe('not-found');
  });

  test('of somebody who is erased the words go, and what was done stays; what is too old is dropped', async () => {
    const key = await enter('key');
    await of.lintel.addPerson({ id: 'gone', name: 'Gone', address: 'gone@desk.example' });
    const [answer] = await key.invitations.send([{ address: 'gone@desk.example', roles: [whole('writer')] }]);
    await of.lintel.acceptInvitation('gone', { token: answer?.token as string });
    await (await enter('gone')).scope<any>().insertInto('notes').values({ id: 'g', title: 'their words', size: 3 }).execute();
    await key.change('note', ['g'], { size: 4 });
    await key.change('note', ['g'], { title: 'of others' });
    await key.change('note', ['g'], { title: 'later' });
    const whole_ = async () => JSON.stringify(await of.records.selectFrom('lintel_journal').selectAll().execute());
    expect(await whole_()).toContain('their words');
    await of.lintel.erasePerson('gone');
    expect(await whole_()).not.toContain('their words');
    const { items } = await (await enter('key')).journal('note', 'g');
    expect(items.map(({ what, fields, erased, by }) => [what, fields.title?.to, erased, by?.userId])).toEqual([
      ['changed', 'later', [], 'key'],
      ['changed', 'of others', ['title'], 'key'],
      ['changed', undefined, ['title'], 'key'],
      ['made', undefined, ['title'], undefined],
    ]);
    const many = async () => (await of.records.selectFrom('lintel_journal').select('id').where('kind', '=', 'line').execute()).length;
    const before = await many();
    expect([await of.lintel.trimJournal(), before - (await many())]).toEqual([1, 1]);
  });
});

test('under triggers whatever is written by whatever SQL is put down once: with whom the transaction carries, with whom scope names, else with nobody', async () => {
  const of = await desk('PostgreSQL');
  const { lintel, records } = of;
  const enter = (user: string) => lintel.enter({ tenant: 't', user });
  await sql`do $$ begin create role desk_app login; exception when duplicate_object then null; end $$`.execute(records);
  const early = (await enter('key')).scope<any>().insertInto('notes').values({ id: 'early', title: 'early' });
  for (const statement of policyStatements(charter as never, { role: 'desk_app', journal: true })) await sql.raw(statement).execute(records);
  // What knows of no triggers yet puts down itself, and they do not again.
  await early.execute();
  await lintel.prepare();
  const pool = new pg.Pool({ connectionString: of.url.replace('lintel@', 'desk_app@'), max: 4 });
  const app = connect<any>(pool);
  const walled = (does: (db: Kysely<any>) => Promise<unknown>) => (s: ServerStanding<any>) => s.withPolicies(app, async (_tx, scope) => does(scope as never));
  const plain = fc.oneof(
    fc
      .tuple(NOTE, fc.constantFrom('x', "y'"))
      .map(
        ([note, title]) =>
          sql`insert into notes (id, tenant_id, owner_id, made_by, title) values (${note}, 't', ${null}, nullif(current_setting('test.me', true), ''), ${title}) on conflict (id) do update set title = excluded.title, size = 7`,
      ),
    fc.tuple(NOTE, fc.constantFrom(1, 2)).map(([note, size]) => sql`update notes set size = ${size} where id >= ${note}`),
    NOTE.map((note) => sql`delete from notes where id = ${note}`),
    fc.constant(sql`insert into lines (id, note_id, words, open) select 9, min(id), 'w', 'yes' from notes having min(id) is not null on conflict do nothing`),
    fc.constant(sql`delete from lines where note_id in (select id from notes)`),
  );
  const acts: fc.Arbitrary<readonly [who: string, by: string, Does]> = fc.oneof(
    { weight: 3, arbitrary: writes.map(([who, , does]) => [who, who, does] as const) },
    {
      weight: 2,
      arbitrary: writes.map(
        ([who, , does]) =>
          [
            who,
            who,
            (s: ServerStanding<any>) =>
              walled((scope) => does({ scope: () => scope, change: async () => undefined, handOver: async () => undefined } as never))(s),
          ] as const,
      ),
    },
    {
      weight: 2,
      arbitrary: fc.tuple(WHO, plain).map(
        ([who, query]) =>
          [
            who,
            who,
            (s: ServerStanding<any>) =>
              s.withPolicies(app, async (tx) => {
                await sql`select set_config('test.me', ${who}, true)`.execute(tx);
                return query.execute(tx);
              }),
          ] as const,
      ),
    },
    { weight: 1, arbitrary: plain.map((query) => ['key', 'nobody', () => query.execute(records)] as const) },
  );
  const kinds = new Map<string, number>();
  await fc.assert(
    fc.asyncProperty(fc.array(acts, { minLength: 5, maxLength: 20 }), async (all) => {
      const last = async () =>
        Number(
          (
            (await records
              .selectFrom('lintel_journal')
              .select((eb) => eb.fn.max('number').as('last'))
              .executeTakeFirst()) as any
          )?.last ?? 0,
        );
      const since = await last();
      const first = { note: await rowsOf(of, 'notes'), line: await rowsOf(of, 'lines') };
      for (const [who, by, does] of all) {
        const before = await last();
        await does(await enter(who)).catch((error: any) => expect(String(error.code ?? error)).not.toMatch(/TypeError|try-again|42601/));
        const fresh = (await records.selectFrom('lintel_journal').select('actor').where('number', '>', before).execute()) as any[];
        if (fresh.length > 0) kinds.set(by, (kinds.get(by) ?? 0) + 1);
        expect(new Set(fresh.map(({ actor }) => actor ?? 'nobody'))).toEqual(new Set(fresh.length === 0 ? [] : [by]));
      }
      expect(await replay(of, first.note, 'note', NOTE_COLUMNS, since)).toEqual(await rowsOf(of, 'notes'));
      const told = (rows: Map<string, Row>) => [...rows].map(([key, row]) => [key, row.words]);
      expect(told(await replay(of, first.line, 'line', ['words'], since))).toEqual(told(await rowsOf(of, 'lines')));
    }),
    { numRuns: LONG ? 100 : 4 },
  );
  expect([...kinds.keys()].sort()).toEqual(['ann', 'ben', 'dep', 'key', 'nobody'].filter((who) => kinds.has(who)));
  expect(kinds.get('nobody')).toBeGreaterThan(3);
  expect((await records.selectFrom('lintel_journal').select('id').where('record_id', '=', 'early').where('was', 'is', null).execute()).length).toBe(1);
  expect(await checkPolicies(records, charter as never, { role: 'desk_app', journal: true })).toEqual([]);
  // Who scope names is told of what scope writes alone.
  await records.transaction().execute(async (tx) => {
    const key = await lintel.within(tx).enter({ tenant: 't', user: 'key' });
    await key.scope<any>().insertInto('notes').values({ id: 'by scope', title: 's' }).execute();
    await sql`insert into notes (id, tenant_id, title) values ('beside', 't', 'b')`.execute(tx);
  });
  const both = await records
    .selectFrom('lintel_journal')
    .select(['record_id', 'actor'])
    .where('record_id', 'in', ['by scope', 'beside'])
    .orderBy('number')
    .execute();
  expect(both.map(({ record_id, actor }: any) => [record_id, actor])).toEqual([
    ['by scope', 'key'],
    ['beside', null],
  ]);
  // Without them, what the policies hold is not put down, and so refused.
  for (const statement of policyStatements(charter as never, { role: 'desk_app' })) await sql.raw(statement).execute(records);
  const later = createLintel({ charter, db: records } as never) as unknown as Lintel<any>;
  await later.prepare();
  const key = await later.enter({ tenant: 't', user: 'key' });
  expect(await code(key.withPolicies(app, (_tx, scope) => scope.insertInto('notes').values({ id: 'w', title: 'w' }).execute()))).toBe('scope-refused');
  // What believed in them looks, and puts down itself.
  await (await enter('key')).scope<any>().insertInto('notes').values({ id: 'late', title: 'late' }).execute();
  expect((await (await enter('key')).journal('note', 'late')).items.map(({ what, by }) => [what, by?.userId])).toEqual([['made', 'key']]);
  await pool.end();
  await of.close();
});

test('on a partitioned table all is put down but an upsert, which is refused by name', async () => {
  const of = await desk('PostgreSQL');
  for (const line of [
    'drop table notes',
    'create table notes (id text collate "C", tenant_id text collate "C", owner_id text collate "C", made_by text collate "C", title text collate "C", status text collate "C", size integer, price numeric(12,2), held_at timestamptz, secret text collate "C", primary key (tenant_id, id)) partition by hash (tenant_id)',
    'create table notes_0 partition of notes for values with (modulus 2, remainder 0)',
    'create table notes_1 partition of notes for values with (modulus 2, remainder 1)',
  ])
    await sql.raw(line).execute(of.records);
  const key = await of.lintel.enter({ tenant: 't', user: 'key' });
  const scope = key.scope<any>();
  await scope.insertInto('notes').values({ id: 'p', title: 'P' }).execute();
  await key.change('note', ['p'], { title: 'Q' });
  const upsert = scope
    .insertInto('notes')
    .values({ id: 'p', title: 'R' })
    .onConflict((oc: any) => oc.columns(['tenant_id', 'id']).doUpdateSet({ size: 1 }));
  expect(await code(upsert.execute())).toBe('scope-refused');
  await scope.deleteFrom('notes').where('id', '=', 'p').execute();
  expect((await key.journal.recent()).items.map(({ what }) => what)).toEqual(['deleted', 'changed', 'made']);
  await of.close();
});

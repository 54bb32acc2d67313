/* What is tried by somebody who looks as another: answered as it would be, by what both reach, and taken back. */
import fc from 'fast-check';
import { Hono } from 'hono';
import { Kysely, PostgresDialect, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { isLintelError } from 'warm-lintel';

import { problemResponse, type Standing, tried, withStanding } from 'warm-lintel/http';
import { tryAs } from 'warm-lintel/rehearsal';
import type { ServerStanding } from 'warm-lintel/server';
import { undone } from '../src/store/index.js';
import { type Club, club, whole } from './club.js';
import { LONG } from './long.js';

let lintel: Club;
let db: Kysely<any>;
let enter: Awaited<ReturnType<typeof club>>['enter'];
const PEOPLE = ['ann', 'ben'] as const;
beforeAll(async () => {
  const made = await club();
  ({ lintel, db, enter } = made);
  for (const [user, role] of [
    ['ann', 'writer'],
    ['ben', 'chief'],
    ['near', 'neighbour'],
    ['side', 'neighbour'],
  ] as const)
    await made.member(user, role);
  await (await enter('key')).carryOut([
    { do: 'add-unit', id: 'hall', name: 'Hall' },
    { do: 'make-group', id: 'reds', name: 'Reds', people: ['ann', 'ben'] },
    { do: 'place', user: 'side', units: ['hall'] },
  ]);
  for (const [id, owner_id] of ['ann', 'ann', 'ben', 'key'].entries())
    await db
      .insertInto('notes')
      .values({ id: `n${id}`, tenant_id: 'club', owner_id, made_by: owner_id, title: `n${id}`, secret: 's' })
      .execute();
  await sql`alter table notes add constraint once unique (title) deferrable initially deferred`.execute(db);
});
afterAll(() => db.destroy());

/** Whoever looks as somebody, in a look that tries. */
async function looking(by: string, user: string): Promise<ServerStanding<any>> {
  const { id } = await (await enter(by)).lookAs({ user, tries: true });
  return enter(by, { look: id });
}

/** All that there is, but for the record of changes, where it stands, and looks. */
async function stateOf(): Promise<Record<string, string>> {
  const { rows } = await sql<{
    name: string;
  }>`select tablename as name from pg_tables where schemaname = 'public' and tablename !~ '^lintel_(audit|look|journal)' order by 1`.execute(db);
  const state: Record<string, string> = {};
  for (const { name } of rows) {
    const whole = sql`to_jsonb(t) - 'last_number' - 'last_hash'`;
    const [row] = (
      await sql<{
        all: string;
      }>`select coalesce(string_agg(r::text, e'\n' order by r::text), '') as all from (select ${whole} as r from ${sql.table(name)} t) u`.execute(db)
    ).rows;
    state[name] = row?.all ?? '';
  }
  return state;
}
const trialsOnRecord = async () =>
  (await (await enter('key')).audit.list({ limit: 2 })).flatMap(({ what, event, words, actor }: any) =>
    what === 'tried as another' ? [[actor, event.user, words.tried]] : what === 'trial taken back' ? [[actor, event.outcome]] : [],
  );

type Does = (standing: ServerStanding<any>) => Promise<unknown>;
const NOTE = fc.constantFrom('n0', 'n1', 'n2', 'n3', 'none');
const TITLE = fc.constantFrom('n0', 'n1', 'fresh', 'fresher');
type Act = readonly [string, Does];
const does: fc.Arbitrary<Act> = fc.oneof(
  fc.tuple(NOTE, TITLE).map(([id, title]) => [`change ${id} ${title}`, (s) => s.change('note', [id], { title })] as Act),
  fc.tuple(NOTE, fc.constantFrom(...PEOPLE)).map(([id, to]) => [`hand ${id} to ${to}`, (s) => s.change('note', [id], { ownerId: to })] as Act),
  fc
    .tuple(NOTE, TITLE)
    .map(([id, title]) => [`make ${id} ${title}`, (s) => s.scope<any>().insertInto('notes').values({ id, title }).returning('title').execute()] as Act),
  NOTE.map((id) => [`drop ${id}`, (s) => s.scope<any>().deleteFrom('notes').where('id', '=', id).executeTakeFirst().then(String)] as Act),
  fc.constant([
    'list',
    (s: ServerStanding<any>) => s.find('note', { order: 'id', may: ['note.update'] }).then((all: any[]) => all.map(({ could: _, ...one }) => one)),
  ] as Act),
  fc
    .tuple(fc.constantFrom('near', 'ann'), fc.subarray(['writer', 'guest']))
    .map(
      ([user, roles]) =>
        [
          `roles of ${user}: ${roles}`,
          (s: ServerStanding<any>) =>
            s.carryOut([{ do: 'set-roles', holder: { user }, roles: roles.map((role) => ({ role, anchor: { on: 'tenant' } })) }]).then((done) => done.length),
        ] as Act,
    ),
  fc.constant(['leave', (s: ServerStanding<any>) => s.members.leave()] as Act),
  fc.constant(['members', (s: ServerStanding<any>) => s.members.list().then((all) => all.map(({ userId }) => userId))] as Act),
  fc.tuple(NOTE, TITLE, fc.boolean()).map(
    ([id, title, throws]) =>
      [
        `together ${id} ${title} ${throws}`,
        (s: ServerStanding<any>) =>
          s.together(async (inner) => {
            const answer = await inner.change('note', [id], { title });
            await inner
              .scope()
              .transaction?.()
              .execute(async () => undefined)
              .catch(() => undefined);
            if (throws) throw new TypeError('of the application');
            return answer;
          }),
      ] as Act,
  ),
);
const answerOf = (work: Promise<unknown>) =>
  work.then(
    (answer) => JSON.stringify(answer) ?? 'nothing',
    (error: unknown) => (isLintelError(error) ? error.code : String((error as any).code ?? error)),
  );

test('what is tried is answered as doing it is, thing by thing, and leaves nothing', async () => {
  const seen = new Set<string>();
  await fc.assert(
    fc.asyncProperty(fc.constantFrom(...PEOPLE), fc.array(does, { minLength: 1, maxLength: 4 }), async (user, acts) => {
      const look = await looking('key', user);
      const before = await stateOf();
      const run = async (standing: ServerStanding<any>) => {
        const answers: string[] = [];
        for (const [what, work] of acts) answers.push(`${what}: ${await answerOf(work(standing))}`);
        return answers;
      };
      const tries = await look.trial('all of it', run);
      expect(await stateOf()).toEqual(before);
      expect(await trialsOnRecord()).toEqual([
        ['key', 'done'],
        ['key', user, 'all of it'],
      ]);
      // And done in earnest.
      const done = await run(await enter(user));
      if (!(await enter(user)).isMember) {
        const roles = [whole(user === 'ann' ? 'writer' : 'chief')];
        const [answer] = await (await enter('key')).invitations.send([{ address: `${user}@club.example`, roles }]);
        await lintel.acceptInvitation(user, { token: answer?.token as string });
      }
      expect(tries).toEqual(done);
      for (const line of done) seen.add(line.replace(/^(\w+)[^:]*: (\W?).*$/s, '$1 $2'));
    }),
    { numRuns: LONG ? 400 : 6 },
  );
  expect(seen.size).toBeGreaterThan(LONG ? 8 : 3);
});

test('it reaches what both reach, and nothing whole of the application’s', async () => {
  const retitled = (standing: ServerStanding<any>, id: string) => standing.trial('a title', (s) => s.change('note', [id], { title: `${id} again` }));
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole('writer')] }]);
  await (await enter('key')).change('note', ['n0'], { ownerId: 'ann' });
  expect(await retitled(await looking('key', 'ann'), 'n0')).toMatchObject({ changed: ['n0'] });
  expect(await retitled(await looking('key', 'side'), 'n0')).toMatchObject({ unchanged: ['n0'] });
  // Who may look as somebody, and not do what they may, does not do it as them.
  await (await enter('key')).carryOut([
    { do: 'set-group', id: 'reds', people: ['ann', 'ben', 'side'] },
    { do: 'place', user: 'ann', units: ['hall'] },
  ]);
  expect(await retitled(await looking('side', 'ann'), 'n0')).toMatchObject({ unchanged: ['n0'] });
  const asAnn = await looking('ben', 'ann');
  const makes = (s: ServerStanding<any>) => s.scope<any>().insertInto('notes').values({ id: 'made', title: 'made' }).execute();
  expect(await answerOf(asAnn.trial('made', makes))).toBe('refused');
  expect(await answerOf((await enter('ann')).trial('made', makes))).toBe('not-for-trial');
  // Nor does a change of the membership that is theirs alone come off for them.
  await (await enter('key')).carryOut([
    { do: 'set-group', id: 'reds', people: ['ann', 'ben', 'side'] },
    { do: 'place', user: 'ben', units: ['hall'] },
  ]);
  const invites: Does = (s) => s.carryOut([{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole('writer'), whole('guest')] }]).then((done) => done.length);
  expect(await answerOf((await looking('key', 'ben')).trial('more roles', invites))).toBe('1');
  expect(await answerOf((await looking('side', 'ben')).trial('more roles', invites))).toBe('refused');
  const asBen = await looking('key', 'ben');
  const past: Does[] = [
    (s) => s.door('x', 'y', async () => undefined),
    async (s) => s.beside(() => undefined),
    (s) => s.withPolicies(db as never, async () => undefined),
    (s) => s.together((_, tx) => sql`commit`.execute(tx)),
    async (s) => s.scope(new Kysely<any>({ dialect: new PostgresDialect({ pool: {} as never }) })),
    async (s) => s.condition('note.read' as never, 'n', { db: new Kysely<any>({ dialect: new PostgresDialect({ pool: {} as never }) }) }),
    (s) => s.trial('again', async () => undefined),
  ];
  const before = await stateOf();
  expect(await asBen.trial('ways past it', async (s) => Promise.all(past.map((work) => answerOf(work(s)))))).toEqual([
    ...Array(6).fill('trial-elsewhere'),
    'not-for-trial',
  ]);
  expect(await stateOf()).toEqual(before);
});

test('a connection that breaks, and time that runs out, leave nothing, and are told on record', async () => {
  const before = await stateOf();
  const look = await looking('key', 'ann');
  const broken = look.trial('until it breaks', async (s) => {
    await s.change('note', ['n0'], { title: 'lost' });
    await sql`select pg_terminate_backend(pid) from pg_stat_activity where state = 'idle in transaction' and query like 'release savepoint lintel_undone%' and datname = current_database()`.execute(
      db,
    );
    return s.change('note', ['n0'], { title: 'lost again' });
  });
  expect(['try-again', 'database-away']).toContain(await answerOf(broken));
  const late = new Promise<never>(() => {});
  expect(await answerOf(undone(db, 50, () => late))).toBe('trial-too-long');
  const sleeps = undone(db, 100, async (inside) => {
    await inside.updateTable('notes').set({ title: 'late' }).where('id', '=', 'n0').execute();
    await sql`select pg_sleep(60)`.execute(inside);
  });
  expect(await answerOf(sleeps)).toMatch(/^(trial-too-long|57014)$/);
  expect(await stateOf()).toEqual(before);
  expect((await trialsOnRecord())[1]).toEqual(['key', 'ann', 'until it breaks']);
});

test('over HTTP only routes that say so are tried, and every other request of somebody who looks is refused before it is answered', async () => {
  const sender = ({ headers }: Request) => ({ user: headers.get('x-user') as string, ...(headers.get('x-look') && { look: headers.get('x-look') as string }) });
  const app = new Hono<Standing>();
  const reached: string[] = [];
  app.onError(problemResponse);
  app.patch('/w/:tenant/notes/:id', tried(lintel, { sender }), async (c) => {
    const { changed } = await c.var.standing.change('note', [c.req.param('id')], await c.req.json());
    return c.json({ changed }, changed.length > 0 ? 200 : 404);
  });
  app.use('/w/:tenant/*', withStanding(lintel, { sender }));
  app.get('/w/:tenant/notes', async (c) => c.json(await c.var.standing.find('note', { may: ['note.update'] as never })));
  app.post('/w/:tenant/notes/:id/own', (c) => {
    reached.push(c.req.path);
    return c.json({});
  });
  const ask = async (look: string | undefined, method: string, path: string, body?: object, user = 'key') => {
    const response = await app.request(`/w/club/${path}`, {
      method,
      headers: { 'x-user': user, ...(look && { 'x-look': look }) },
      ...(body && { body: JSON.stringify(body) }),
    });
    return [response.status, response.headers.get('lintel-look'), (await response.json()) as any] as const;
  };
  const chief = await enter('key');
  const [tries, plain] = [await chief.lookAs({ user: 'ann', tries: true }), await chief.lookAs({ user: 'ann' })];
  const before = await stateOf();
  expect(await ask(tries.id, 'PATCH', 'notes/n0', { title: 'tried' })).toEqual([200, 'tried', { changed: ['n0'] }]);
  expect((await trialsOnRecord())[0]).toEqual(['key', 'answered 200']);
  expect((await ask(tries.id, 'PATCH', 'notes/no-such', { title: 'tried' }))[0]).toBe(404);
  expect((await ask(tries.id, 'PATCH', 'notes/n0', { madeBy: 'ben' }))[2].code).toBe('field-set-by-library');
  expect((await ask(tries.id, 'POST', 'notes/n0/own', {}))[2].code).toBe('not-for-trial');
  expect((await ask(plain.id, 'POST', 'notes/n0/own', {}))[2].code).toBe('only-a-look');
  expect((await ask(plain.id, 'PATCH', 'notes/n0', { title: 'tried' }))[2].code).toBe('only-a-look');
  const [status, header, notes] = await ask(tries.id, 'GET', 'notes');
  expect([status, header, notes.find((one: any) => one.id === 'n0')]).toMatchObject([200, 'looking', { may: [], could: { 'note.update': true } }]);
  expect(reached).toEqual([]);
  expect(await stateOf()).toEqual(before);
  expect((await enter('key', { look: tries.id })).snapshot(60).look).toEqual({ id: tries.id, by: { userId: 'key', name: 'key' }, tries: true });
  // Whoever does not look does it.
  expect(await ask(undefined, 'PATCH', 'notes/n0', { title: 'done' }, 'ann')).toEqual([200, null, { changed: ['n0'] }]);
});

test('in a test somebody tries something, it is told what would have changed, and nothing is left', async () => {
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole('writer')] }]);
  await (await enter('key')).change('note', ['n0'], { ownerId: 'ann' });
  const [before, titled] = [await stateOf(), (await (await enter('key')).findOne('note', 'n0')) as { title: string }];
  const tried = await tryAs(lintel, { user: 'ann', tenant: 'club' }, async (ann) => {
    await ann.scope<any>().insertInto('notes').values({ id: 'tried', title: 'made' }).execute();
    return ann.change('note', ['n0', 'no-such'], { title: 'tried as ann' });
  });
  expect(tried).toMatchObject({
    answer: { changed: ['n0'] },
    changed: [
      { kind: 'note', record: 'tried', what: 'made', fields: { title: { from: null, to: 'made' }, ownerId: { to: 'ann' } } },
      { kind: 'note', record: 'n0', what: 'changed', fields: { title: { from: titled.title, to: 'tried as ann' } } },
    ],
  });
  const refused = await tryAs(lintel, { user: 'side', tenant: 'club' }, (side) =>
    side.scope<any>().insertInto('notes').values({ id: 'x', title: 'x' }).execute(),
  );
  expect([refused.refused?.code, refused.changed]).toEqual(['refused', []]);
  expect(await stateOf()).toEqual(before);
});

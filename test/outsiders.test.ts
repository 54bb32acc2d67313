/* People who do not know of one another: lists, groups, invitations, the record and questions tell of those whom somebody may know of, and betray no others. */
import fc from 'fast-check';
import { sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { createFace } from 'warm-lintel/http';
import { type Club, club, code, whole } from './club.js';
import { LONG } from './long.js';

let lintel: Club;
let db: Awaited<ReturnType<typeof club>>['db'];
let enter: Awaited<ReturnType<typeof club>>['enter'];
const PEOPLE = ['ada', 'bo', 'cy', 'dee', 'eve', 'fay'];
const STAND_IN = PEOPLE.map((of, i) => [of, PEOPLE[(i + 1) % PEOPLE.length] as string] as const);
const until = new Date(Date.now() + 30 * 86_400_000).toISOString();
beforeAll(async () => {
  const made = await club();
  ({ lintel, db, enter } = made);
  for (const [i, user] of PEOPLE.entries()) await made.member(user, ['guest', 'writer', 'neighbour'][i % 3] as string);
  await (await enter('key')).carryOut([
    { do: 'make-group', id: 'reds', name: 'Reds' },
    { do: 'make-group', id: 'blues', name: 'Blues' },
    { do: 'add-unit', id: 'hall', name: 'Hall' },
    { do: 'add-unit', id: 'attic', name: 'Attic', below: 'hall' },
    { do: 'add-unit', id: 'cellar', name: 'Cellar' },
    { do: 'open-records', id: 'opened', group: 'reds', to: { unit: 'hall' }, kind: 'note', actions: ['read'], keeps: true, until },
    // Each stands in for the next one.
    ...STAND_IN.map(([of, to]) => ({ do: 'name-deputy' as const, of, to, permissions: ['note.read'], until })),
  ]);
});
afterAll(() => db.destroy());

const some = (all: readonly string[]) => fc.subarray([...all]);

/** Of whom somebody may know, said again in plain words. */
function knows(me: string, groups: Record<string, string[]>, placed: Record<string, string[]>): string[] {
  const [role] = [['guest', 'writer', 'neighbour'][PEOPLE.indexOf(me) % 3]];
  const below = (unit: string) => (unit === 'hall' ? ['hall', 'attic'] : [unit]);
  const near = (placed[me] ?? []).flatMap(below);
  return PEOPLE.filter(
    (other) =>
      other === me ||
      (role === 'writer' && Object.values(groups).some((g) => g.includes(me) && g.includes(other))) ||
      (role === 'neighbour' && (placed[other] ?? []).some((unit) => near.includes(unit))),
  );
}

test('nobody finds anybody of whom they may not know, however they ask', { timeout: 120_000 }, async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.record({ reds: some(PEOPLE), blues: some(PEOPLE) }),
      fc.dictionary(fc.constantFrom(...PEOPLE), some(['hall', 'attic', 'cellar'])),
      async (groups, placed) => {
        await (await enter('key')).carryOut([
          ...Object.entries(groups).map(([id, people]) => ({ do: 'set-group' as const, id, people })),
          ...PEOPLE.map((user) => ({ do: 'place' as const, user, units: placed[user] ?? [] })),
        ]);
        for (const me of PEOPLE) {
          const standing = await enter(me);
          const known = knows(me, groups, placed);
          expect((await standing.members.list()).map((m) => m.userId).sort()).toEqual([...known].sort());
          // A page at a time it is the same list.
          const first = await standing.members.list({ limit: 1 });
          expect((await standing.members.list({ after: first[0] as never })).length).toBe(known.length - 1);
          const newest = await standing.members.list({ order: 'newest' });
          expect(newest.map((m) => m.userId).sort()).toEqual([...known].sort());
          expect(await standing.members.list({ order: 'newest', after: newest[0] as never })).toEqual(newest.slice(1));
          // A search finds whom it names of those, and nobody else.
          for (const other of PEOPLE) {
            const found = (await standing.members.list({ search: other.toUpperCase() })).map((m) => m.userId);
            expect([other, found.includes(other), found.every((one) => known.includes(one))]).toEqual([other, known.includes(other), true]);
          }
          expect(await standing.members.list({ search: 'nobody is called so' })).toEqual([]);
          for (const { id, people } of await standing.tenant.groups()) {
            const here = (groups as Record<string, string[]>)[id]?.filter((one) => known.includes(one)) ?? [];
            expect([people.map((p) => p.id).sort(), people.length > 0]).toEqual([[...here].sort(), true]);
          }
          // Of the two each knows, whoever the other is.
          const standIn = STAND_IN.filter((pair) => pair.includes(me) || pair.every((one) => known.includes(one)));
          expect((await standing.tenant.deputies()).map(({ of, to }) => [of.id, to.id])).toEqual(standIn.sort());
          for (const { people } of await standing.tenant.units()) expect(people.every((p) => known.includes(p.id))).toBe(true);
          for (const other of PEOPLE) expect(await code(standing.members.held(other))).toBe(known.includes(other) ? 'done' : 'not-found');
          if (standing.may('audit.read')) {
            for (const event of await standing.audit.list({ limit: 500 }))
              expect([event.number, known.includes(event.actor ?? '') || known.includes(String(event.event.user))]).toEqual([undefined, true]);
          }
        }
      },
    ),
    { numRuns: LONG ? 200 : 3 },
  );
});

test('what shows everybody is refused, and what is unknown is answered like what is not there', async () => {
  const ada = await enter('ada');
  expect(
    await Promise.all(
      [
        ada.tenant.roles(),
        ada.tenant.givenAlone(),
        ada.tenant.openings(),
        ada.audit.verify(),
        ada.audit.heldThen('ada', new Date()),
        ada.tenant.requests(),
      ].map((one) => code(one)),
    ),
  ).toEqual(Array(6).fill('refused'));
  expect(await (await enter('key')).tenant.openings()).toEqual([
    { id: 'opened', group: { id: 'reds', name: 'Reds' }, to: { on: 'unit', id: 'hall', name: 'Hall' }, kind: 'note', actions: ['read'], keeps: true, until },
  ]);
  // Ada’s own are hers to see, and not for whoever looks as her and may not know of the other.
  await (await enter('key')).carryOut(['ada', 'cy'].map((user) => ({ do: 'place', user, units: ['hall'] })));
  const look = (await (await enter('cy')).lookAs({ user: 'ada' })).id;
  expect((await ada.tenant.deputies()).map(({ to }) => to.id)).toEqual(['bo', 'ada']);
  expect((await enter('cy', { look })).facts.me.userId).toBe('ada');
  expect(await (await enter('cy', { look })).tenant.deputies()).toEqual([]);
  const [unknown, none] = await Promise.all(['key', 'nobody'].map((user) => ada.members.held(user).catch((error) => [error.code, error.message])));
  expect(unknown).toEqual(none);
  // Invitations of others are not listed; one's own are.
  await (await enter('key')).invitations.send([{ address: 'one@far.example', roles: [] }]);
  await ada.invitations.send([{ address: 'two@far.example', roles: [] }]);
  expect((await ada.invitations.list()).map((one) => one.address)).toEqual(['two@far.example']);
  // Nobody is told of by a question about a record either.
  await db.insertInto('notes').values({ id: 'shared', tenant_id: 'club', owner_id: 'ada', made_by: 'key' }).execute();
  expect((await ada.who('note.read', 'shared')).people).toMatchObject([{ userId: 'ada', name: 'ada' }]);
  expect((await (await enter('key')).who('note.read', 'shared')).people.length).toBeGreaterThan(1);
});

test('nothing that is counted tells how much there is that somebody may not know of', async () => {
  const face = createFace(lintel, { sender: (request) => ({ user: request.headers.get('x-user') ?? '' }) });
  const get = async (path: string) => {
    const answer = await face.fetch(new Request(`https://club.example/tenants/club/${path}`, { headers: { 'x-user': 'ada' } }));
    return { etag: answer.headers.get('etag') as string, data: await answer.json() };
  };
  const before = await get('audit');
  await (await enter('key')).carryOut([{ do: 'rename-group', id: 'reds', name: 'Scarlets' }]);
  const after = await get('audit');
  expect(after.data).toEqual(before.data);
  for (const { etag, data } of [before, after]) expect([etag, JSON.stringify(data)]).not.toContainEqual(expect.stringMatching(/^"\d+"$|"number"/));
  const proposal = await (await enter('ada')).propose([{ do: 'leave' }]);
  expect(Object.values(proposal.basis).every((value) => typeof value === 'string')).toBe(true);
});

test('to let somebody know of others takes knowing of them', async () => {
  const give = async (user: string, reach: string) =>
    code(
      (await enter('giver')).carryOut([
        { do: 'set-permissions', holder: { user }, permissions: [{ permission: 'member.read', reach, anchor: { on: 'tenant' } }] },
      ]),
    );
  await lintel.addPerson({ id: 'giver', name: 'giver', address: 'giver@club.example' });
  const [answer] = await (await enter('key')).invitations.send([{ address: 'giver@club.example', roles: [whole('guest')] }]);
  await lintel.acceptInvitation('giver', { token: answer?.token as string });
  const may = (permission: string, reach: string) => ({ permission, reach, anchor: { on: 'tenant' } as const });
  await (await enter('key')).carryOut([
    { do: 'set-permissions', holder: { user: 'giver' }, permissions: [may('member.assign', 'tenant'), may('member.read', 'groups')] },
  ]);
  await (await enter('key')).carryOut([{ do: 'set-group', id: 'blues', people: ['dee'] }]);
  expect([await give('dee', 'self'), await give('dee', 'groups'), await give('dee', 'tenant')]).toEqual(['done', 'beyond-power', 'beyond-power']);
});

test('a member is found by what they are called now, in pages as long as one likes, and not any more once they are gone or erased', async () => {
  const { lintel: here, db: own, enter: into, member } = await club();
  const names = ['Ansel Brandt', 'Ansel Ödegaard', 'Bran Anselm', 'Cleo Vane'];
  for (const [i, name] of names.entries()) {
    await member(`n${i}`, 'guest');
    await here.renamePerson(`n${i}`, name);
  }
  const search = async (text: string) => (await (await into('key')).members.list({ search: text })).map(({ name }) => name);
  expect(await search('ansel')).toEqual(['Ansel Brandt', 'Ansel Ödegaard', 'Bran Anselm']);
  expect([await search('bran ans'), await search('ÖDE'), await search('%'), await search("o'"), (await search('  ')).length]).toEqual([
    ['Ansel Brandt', 'Bran Anselm'],
    ['Ansel Ödegaard'],
    [],
    [],
    names.length + 1,
  ]);
  const all = (await (await into('key')).members.list()).map(({ name }) => name);
  for (let size = 1; size <= all.length; size++) {
    const pages: string[] = [];
    for (let after: any; pages.length < all.length; ) {
      const page = await (await into('key')).members.list({ limit: size, ...(after && { after }) });
      pages.push(...page.map(({ name }) => name));
      after = page.at(-1);
    }
    expect(pages).toEqual(all);
  }
  await here.renamePerson('n0', 'Dora Brandt');
  expect([await search('ansel'), await search('dora')]).toEqual([['Ansel Ödegaard', 'Bran Anselm'], ['Dora Brandt']]);
  await (await into('key')).members.remove('n2');
  expect(await search('anselm')).toEqual([]);
  await here.erasePerson('n1');
  expect(await search('ansel')).toEqual([]);
  const left = await sql<{ word: string }>`select word from lintel_member_word where word like 'ansel%' or word like 'öde%'`.execute(own);
  expect(left.rows).toEqual([]);
  // What one did, and what was done to one, by pages from either end.
  const audit = (await into('key')).audit;
  const about = await audit.list({ about: 'n2', limit: 500 });
  expect(about.length).toBeGreaterThan(1);
  expect(about.every(({ event }) => event.user === 'n2')).toBe(true);
  const oldest = await audit.list({ about: 'n2', order: 'oldest', limit: 1 });
  expect([oldest[0]?.hash, (await audit.list({ about: 'n2', order: 'oldest', before: oldest[0]?.hash as string })).map(({ hash }) => hash)]).toEqual([
    about.at(-1)?.hash,
    about
      .map(({ hash }) => hash)
      .reverse()
      .slice(1),
  ]);
  expect(await audit.list({ what: about[0]?.what as string, about: 'n2' })).toEqual(about.filter(({ what }) => what === about[0]?.what));
  expect((await audit.list({ by: 'key', limit: 500 })).every(({ actor }) => actor === 'key')).toBe(true);
  await own.destroy();
});

/* Lists of people as CSV: read whole, every mistake told with its line; then carried out in parts, again without a double, and nothing is taken away. */

import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { defineCharter, defineKinds, flag, id, integer, oneOf, owner, tenant, text } from 'warm-lintel';
import { handRecords, readOwnersFile, readPeopleFile, writePeopleFile } from 'warm-lintel/provisioning';
import { createLintel, type Lintel } from 'warm-lintel/server';
import { code, whole } from './club.js';
import { LONG } from './long.js';
import { emptyPostgres } from './worlds.js';

const ids = { type: 'text' } as const;
const charter = defineCharter(
  defineKinds(
    {
      hive: {
        table: 'hives',
        label: 'name',
        fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner({ ...ids, change: 'hand' }), name: text() },
        actions: { read: { label: 'See' }, hand: { label: 'Hand over' } },
      },
    },
    {},
  ),
  {
    attributes: {
      region: { is: oneOf(['north', 'south']) },
      badge: { is: integer() },
      crops: { is: text(), several: true },
      shy: { is: flag() },
      note: { is: text() },
    },
    roles: {
      keeper: { label: 'Keeper', may: { 'hive.read': 'tenant' } },
      warden: { label: 'Site warden', may: { 'hive.read': 'tenant' } },
      clerk: { label: 'Clerk', may: { 'member.read': 'tenant', 'member.invite': 'tenant', 'member.assign': 'tenant' }, gives: ['keeper'] },
    },
  },
);

let lintel: Lintel<any>;
let db: Kysely<any>;
beforeAll(async () => {
  ({ db } = await emptyPostgres());
  await sql
    .raw(`create table hives (${['id', 'tenant_id', 'owner_id', 'name'].map((name) => `${name} text collate "C"`).join(', ')}, primary key (id))`)
    .execute(db);
  const mailer = { send: async () => {} };
  lintel = createLintel({ charter, db, mailer, invitationLink: (token: string) => token, sending: { byTenant: 100_000 } }) as never;
  await lintel.prepare();
  const people = ['boss', 'cleo', 'mo'].map((name) => ({ id: name, name, address: `${name}@list.example`, confirmedAt: new Date(0) }));
  const member = (user: string, role: string) => ({ tenant: 'list', user, roles: [whole(role)] });
  await lintel.intake({
    people,
    tenants: [{ id: 'list', name: 'List' }],
    members: [member('boss', 'keyholder'), member('cleo', 'clerk'), member('mo', 'warden')],
  } as never);
  await (await enter('boss')).carryOut([
    { do: 'make-group', id: 'g1', name: 'Juniors', people: ['cleo'] },
    { do: 'add-unit', id: 'u1', name: 'Orchard side' },
  ] as never);
});
afterAll(() => db.destroy());

const enter = (user: string) => lintel.enter({ tenant: 'list', user });
const read = async (file: string, by = 'boss') => readPeopleFile(file, await enter(by));
const count = async (table: string) => Number((await sql<{ n: string }>`select count(*) as n from ${sql.table(table)}`.execute(db)).rows[0]?.n);

test('a file says what it means by ids or names, in any column order, parted by commas or semicolons', async () => {
  const line = { line: 2, address: 'nora@fern.example', name: 'Nora Fern', groups: ['g1'], units: ['u1'], memberUntil: '2027-01-31T23:59:59.000Z' };
  const roles = [
    whole('keeper'),
    { role: 'warden', anchor: { on: 'unit', unitId: 'u1' } },
    { role: 'warden', anchor: { on: 'record', kind: 'hive', id: 'h:1' } },
  ];
  const attributes = { region: 'north', badge: 7, crops: ['rye', 'oats'], shy: true };
  const comma = `\uFEFFaddress,name,roles,groups,units,until,region,badge,crops,shy\r\nnora@fern.example,Nora Fern,"Keeper; site warden@Orchard side; warden@hive:h:1",Juniors,u1,2027-01-31,north,7,rye;oats,yes\r\n\r\n`;
  expect(await read(comma)).toEqual({ people: [{ ...line, roles, attributes }], problems: [] });
  expect(await read('units;address\nOrchard side|u1;nora@fern.example\n')).toMatchObject({ people: [{ units: ['u1', 'u1'], roles: [] }], problems: [] });
  expect(await code(read('address\n"nora'))).toBe('bad-file');
  expect((await read('adress,rolles\nx,y')).problems.map(({ line: at, words }) => [at, words.split(';')[0]])).toEqual([
    [1, 'no column “adress”'],
    [1, 'no column “rolles”'],
    [1, 'there is no column “address”'],
  ]);
});

/** A wrong line, the column that is told, and its code. */
const MISTAKES: readonly (readonly [line: (n: number) => string, column: string | undefined, code: string])[] = [
  [(n) => `p${n},P,keeper,,,,,,`, 'address', 'bad-address'],
  [(n) => `p${n}@раypal.example,P,keeper,,,,,,`, 'address', 'look-alike-address'],
  [() => 'p0@many.example,P,keeper,,,,,,', 'address', 'said-twice'],
  [(n) => `p${n}@many.example,P,keepr,,,,,,`, 'roles', 'unknown-role'],
  [(n) => `p${n}@many.example,P,warden@Orchard sid,,,,,,`, 'roles', 'unknown-unit'],
  [(n) => `p${n}@many.example,P,warden@hve:1,,,,,,`, 'roles', 'unknown-kind'],
  [(n) => `p${n}@many.example,P,keeper,Junior,,,,,`, 'groups', 'unknown-group'],
  [(n) => `p${n}@many.example,P,keeper,,Heath,,,,`, 'units', 'unknown-unit'],
  [(n) => `p${n}@many.example,P,keeper,,,2027-02-30,,,`, 'until', 'bad-end'],
  [(n) => `p${n}@many.example,P,keeper,,,,nroth,,`, 'region', 'bad-attribute'],
  [(n) => `p${n}@many.example,P,keeper,,,,,seven,`, 'badge', 'bad-attribute'],
  [(n) => `p${n}@many.example,P,keeper,,,,,,perhaps`, 'shy', 'bad-attribute'],
  [(n) => `p${n}@many.example,P,keeper`, undefined, 'column-count'],
];
const HEADER = 'address,name,roles,groups,units,until,region,badge,shy';
const good = (n: number) => `p${n}@many.example,P ${n},keeper,${n % 3 ? '' : 'Juniors'},${n % 5 ? '' : 'Orchard side'},,${n % 2 ? 'north' : ''},${n},`;
const [LINES, PLANTED] = LONG ? [10_000, 50] : [104, 26];
/** It is carried out in parts of a hundred; after so many it is killed. */
const KILLED = LONG ? 200 : 100;

test('every mistake is told with its line, and nothing is written; mended, it is carried out in parts, killed and taken up again without a double', {
  timeout: 1_800_000,
}, async () => {
  const before = await count('lintel_audit');
  const lines = Array.from({ length: LINES }, (_, n) => good(n));
  const places = Array.from({ length: PLANTED }, (_, i) => 1 + Math.floor((i * (LINES - 1)) / PLANTED));
  const wrong = lines.with(0, good(0));
  places.forEach((at, i) => {
    wrong[at] = (MISTAKES[i % MISTAKES.length] as (typeof MISTAKES)[number])[0](at);
  });
  const { people: none, problems } = await read([HEADER, ...wrong].join('\n'));
  expect(problems.map(({ line, column, code: told }) => [line, column, told])).toEqual(
    places.map((at, i) => [at + 2, ...(MISTAKES[i % MISTAKES.length] as (typeof MISTAKES)[number]).slice(1)]),
  );
  expect(none.length).toBe(LINES - PLANTED);
  expect(problems.find(({ code: told }) => told === 'unknown-role')?.words).toBe('no role “keepr”; did you mean keeper?');

  const { people, problems: left } = await read([HEADER, ...lines].join('\n'));
  expect([left, people.length]).toEqual([[], LINES]);
  const boss = await enter('boss');
  const all = { invited: LINES, changed: 0, same: 0, refused: [] };
  expect([await boss.members.bring(people, { dryRun: true }), await count('lintel_invitation'), await count('lintel_audit')]).toEqual([all, 0, before]);
  const told: number[] = [];
  const killed = boss.members.bring(people, {
    progress: (done) => {
      told.push(done);
      if (done === KILLED) throw new Error('killed');
    },
  });
  await expect(killed).rejects.toThrow('killed');
  expect([told, await count('lintel_invitation')]).toEqual([LONG ? [100, 200] : [100], KILLED]);
  expect(await boss.members.bring(people, { reason: 'The list of the year.' })).toEqual({ ...all, invited: LINES - KILLED, same: KILLED });
  expect(await count('lintel_invitation')).toBe(LINES);
  const head = await count('lintel_audit');
  expect([await boss.members.bring(people), await count('lintel_audit')]).toEqual([{ ...all, invited: 0, same: LINES }, head]);
  expect((await boss.audit.verify()).broken).toBeUndefined();
  await lintel.addPerson({ id: 'p15', name: 'P', address: 'p15@many.example', confirmedAt: new Date(0) });
  const [mine] = await lintel.myInvitations('p15');
  await lintel.acceptInvitation('p15', mine as never);
  const { me } = (await enter('p15')).facts;
  expect([me.groupIds, me.unitIds, me.attributes]).toEqual([['g1'], ['u1'], { region: 'north', badge: 15 }]);
});

test('members get what they do not have and keep what they have; what is refused for one keeps back nobody else', async () => {
  const file = 'address,roles,groups,region,until\nmo@list.example,Keeper,Juniors,south,2030-01-31\ncleo@list.example,Clerk,,,\n';
  const boss = await enter('boss');
  const { people } = await read(file);
  expect(await boss.members.bring(people)).toEqual({ invited: 0, changed: 1, same: 1, refused: [] });
  const mo = (await boss.members.list()).find(({ userId }) => userId === 'mo');
  expect([mo?.roles.map(({ role }) => role).sort(), mo?.endsAt?.toISOString(), mo?.attributes?.region?.value]).toEqual([
    ['keeper', 'warden'],
    '2030-01-31T23:59:59.000Z',
    'south',
  ]);
  const groups = await boss.tenant.groups();
  expect(groups[0]?.people.map(({ id: one }) => one)).toEqual(expect.arrayContaining(['cleo', 'mo', 'p15']));
  expect(await boss.members.bring(people)).toEqual({ invited: 0, changed: 0, same: 2, refused: [] });
  // A clerk gives keepers, and nothing else; and who may not invite does none of it.
  const mixed = (await read('address,roles,groups\na@mixed.example,Keeper,\nb@mixed.example,Site warden,\nc@mixed.example,Keeper,Juniors\n')).people;
  const report = await (await enter('cleo')).members.bring(mixed);
  expect([report.invited, report.refused.map(({ address, code: why }) => [address, why])]).toEqual([
    1,
    [
      ['b@mixed.example', 'beyond-power'],
      ['c@mixed.example', 'refused'],
    ],
  ]);
  expect(await code((await enter('mo')).members.bring(mixed))).toBe('refused');
});

test('the members written as a list and brought again change nothing, whatever they are called; no cell is a formula', async () => {
  const boss = await enter('boss');
  const names = ['=1+1', '+x', '-y', '@z', 'a;b', 'Juniors', 'g1', 'a "quoted", one', 'two@places', "'=x", 'boss|key'];
  await boss.carryOut([
    ...names.flatMap((name, i) => [
      { do: 'make-group', id: `n${i}`, name, people: ['mo'] },
      { do: 'add-unit', id: `v${i}`, name },
    ]),
    { do: 'place', user: 'mo', units: names.map((_, i) => `v${i}`) },
    {
      do: 'set-roles',
      holder: { user: 'mo' },
      roles: [
        ...names.map((_, i) => ({ role: 'warden', anchor: { on: 'unit', unitId: `v${i}` } })),
        ...['h;1', 'h:1'].map((at) => ({ role: 'keeper', anchor: { on: 'record', kind: 'hive', id: at } })),
      ],
    },
    { do: 'set-attributes', user: 'mo', attributes: { region: 'south', badge: -5, crops: ['=rye', 'oats'], shy: false } },
    { do: 'set-end', user: 'mo', at: '2031-05-06T07:08:09.000Z' },
  ] as never);
  await lintel.renamePerson('mo', '=cmd()');
  const csv = await writePeopleFile(boss);
  expect(csv.split(/[\r\n]/).filter((line) => /(^|,)"?[=+\-@]/.test(line))).toEqual([]);
  const { people, problems } = await readPeopleFile(csv, boss);
  expect(problems).toEqual([]);
  const head = await count('lintel_audit');
  const members = (await boss.members.list()).length;
  expect([await boss.members.bring(people), await count('lintel_audit')]).toEqual([{ invited: 0, changed: 0, same: members, refused: [] }, head]);
  expect(await code(writePeopleFile(await enter('p15')))).toBe('refused');
  // Whatever is said of somebody.
  const word = fc.oneof(fc.string({ maxLength: 6 }), fc.constantFrom('=1', "'=1", "''", 'a;b', 'a|b', ' a', '-1', '"', 'a,b', '\n', 'é'));
  await fc.assert(
    fc.asyncProperty(fc.array(word, { maxLength: 3 }), word, async (crops, note) => {
      await boss.carryOut([{ do: 'set-attributes', user: 'mo', attributes: { crops, note } }] as never);
      const list = await readPeopleFile(await writePeopleFile(boss), boss);
      expect(list.problems).toEqual([]);
      expect(await boss.members.bring(list.people.filter(({ address }) => address === 'mo@list.example'))).toMatchObject({ same: 1, refused: [] });
    }),
    { numRuns: LONG ? 1000 : 10, seed: 8 },
  );
});

test('records become somebody’s by the rules of handing over, each by itself; on a dry run, and again, nothing is done', async () => {
  await db
    .insertInto('hives')
    .values(['a', 'b', 'c', 'd'].map((one) => ({ id: one, tenant_id: 'list', owner_id: 'mo', name: one })))
    .execute();
  await db.insertInto('hives').values({ id: 'e', tenant_id: 'elsewhere', owner_id: 'mo', name: 'e' }).execute();
  const boss = await enter('boss');
  const wrong = await readOwnersFile('record,owner\na,nobody@list.example\na,mo\n,mo\n', boss, 'hive');
  expect(wrong.problems.map(({ line, column, code: told }) => [line, column, told])).toEqual([
    [2, 'owner', 'unknown-member'],
    [3, 'record', 'said-twice'],
    [4, 'record', 'no-record'],
  ]);
  expect(await code(readOwnersFile('record', boss, 'hvie'))).toBe('unknown-kind');
  // The clerk sees no hive, and so comes to own none; a hive elsewhere is not there.
  const { records, problems } = await readOwnersFile('record,owner\na,p15@many.example\nb,mo\nc,\nd,cleo\ne,p15\n', boss, 'hive');
  expect([problems, records.length]).toEqual([[], 5]);
  const hand = async (user: string, more: object = {}) => handRecords(await enter(user), 'hive', records, more);
  const owners = async () => (await db.selectFrom('hives').select('owner_id').orderBy('id').execute()).map(({ owner_id }) => owner_id);
  const told = ({ refused, ...counts }: Awaited<ReturnType<typeof hand>>) => [counts, refused.map((one) => [one.record, one.code])];
  const expected = [
    { handed: 2, same: 1 },
    [
      ['d', 'no-such-value'],
      ['e', 'not-found'],
    ],
  ];
  expect([told(await hand('boss', { dryRun: true })), await owners()]).toEqual([expected, Array(5).fill('mo')]);
  expect([told(await hand('boss')), await owners()]).toEqual([expected, ['p15', 'mo', null, 'mo', 'mo']]);
  expect(told(await hand('boss'))[0]).toEqual({ handed: 0, same: 3 });
  // Whoever looks as another hands nothing over in their name, and nor does who is no member.
  const view = await boss.lookAs({ user: 'p15' });
  const looking = await lintel.enter({ tenant: 'list', user: 'boss', look: view.id });
  expect([await code(handRecords(looking, 'hive', records)), await code(hand('nobody'))]).toEqual(['only-a-look', 'not-found']);
  // Who reads and does not hand over changes nothing.
  await db.updateTable('hives').set({ owner_id: 'mo' }).execute();
  expect(told(await hand('p15'))).toEqual([
    { handed: 0, same: 1 },
    [
      ['a', 'write-out-of-reach'],
      ['c', 'write-out-of-reach'],
      ['d', 'write-out-of-reach'],
      ['e', 'not-found'],
    ],
  ]);
});

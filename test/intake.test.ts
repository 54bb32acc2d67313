/* People, tenants and members of an application that exists already are taken in as they are, again and again. */
import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import fc from 'fast-check';
import { sql } from 'kysely';
import { beforeAll, expect, inject, test } from 'vitest';
import type { IntakePerson } from 'warm-lintel/server';
import { createLintel, type Lintel } from 'warm-lintel/server';
import { LONG, testLong } from './long.js';
import { databaseOn } from './setup.js';
import { charter, EACH, everything, members, people, tenants } from './taken.js';
import { digestOf, emptyPostgres } from './worlds.js';

const MANY = 1000;
const zero = { brought: 0, changed: 0, same: 0, kept: 0, refused: 0 };

let lintel: Lintel<any>;
let db: Awaited<ReturnType<typeof emptyPostgres>>['db'];
const TABLES = [
  'lintel_person',
  'lintel_tenant',
  'lintel_member',
  'lintel_assignment',
  'lintel_group_member',
  'lintel_placement',
  'lintel_audit',
  'lintel_brought',
];
const digest = () => digestOf(db, TABLES);
beforeAll(async () => {
  ({ db } = await emptyPostgres());
  await sql`create table jobs (id integer primary key, workshop_id integer, opened_by integer, crew_id integer, bay_id integer, title text)`.execute(db);
  await sql`insert into jobs select i, 1, 2, case when i < 3 then 7 end, i, 'Job' from generate_series(1, 4) i`.execute(db);
  lintel = createLintel({ charter, db }) as Lintel<any>;
  await lintel.prepare();
});

test('a dry run says what would come of it and does nothing; it comes so; again nothing changes', async () => {
  const before = await digest();
  const planned = await lintel.intake(everything(MANY), { dryRun: true });
  expect(await digest()).toBe(before);
  const done = await lintel.intake(everything(MANY));
  expect(done).toEqual(planned);
  const shops = MANY / EACH;
  expect(done).toEqual({
    people: { ...zero, brought: MANY },
    tenants: { ...zero, brought: shops },
    members: { ...zero, brought: MANY },
    opened: shops,
    closed: 0,
    refused: [],
  });
  const after = await digest();
  const again = await lintel.intake(everything(MANY));
  expect([again.people, again.tenants, again.members, again.opened]).toEqual([{ ...zero, same: MANY }, { ...zero, same: shops }, { ...zero, same: MANY }, 0]);
  expect(await digest()).toBe(after);
});

test('whoever came in is who they were: their powers, groups and units, and the record that says since when', async () => {
  const [boss, mechanic, clerk] = await Promise.all([1, 2, 3].map((user) => lintel.enter({ tenant: 1, user })));
  expect([boss?.isKeyholder, mechanic?.may('job.update'), (await mechanic?.find('job'))?.length, (await clerk?.find('job'))?.length]).toEqual([
    true,
    false,
    4,
    2,
  ]);
  const then = await boss?.audit.heldThen(3, new Date());
  expect(then).toMatchObject({ subject: 'member', line: expect.stringContaining('Clerk') });
  expect(await boss?.audit.verify()).not.toHaveProperty('broken');
});

test('killed in the middle it goes on where it was', async () => {
  const [at, to] = [MANY + 1, MANY + 2 * EACH];
  const from = <T>(all: Iterable<T>, first: number) => [...all].slice(first);
  async function* dying<T>(all: Iterable<T>, after: number): AsyncGenerator<T> {
    let n = 0;
    for (const one of all) {
      if (n++ === after) throw new Error('the power went out');
      yield one;
    }
  }
  const more = { people: from(people(to), at - 1), tenants: from(tenants(to), MANY / EACH), members: from(members(to), at - 1) };
  await expect(lintel.intake({ ...more, members: dying(more.members, 150) })).rejects.toThrow('the power went out');
  // What is not complete is not entered.
  expect((await lintel.enter({ tenant: MANY / EACH + 1, user: at })).facts.tenant.open).toBe(false);
  expect(await lintel.intake(more)).toMatchObject({ people: { same: 2 * EACH }, members: { brought: 2 * EACH }, opened: 2, refused: [] });
});

test('two at once, and somebody who signs up meanwhile, end as one of each', async () => {
  const some = Array.from({ length: 300 }, (_, i): IntakePerson => ({ id: 8000 + i, name: `Twice ${i}`, address: `twice${i}@taken.example` }));
  const signUps = some
    .filter((_, i) => i % 30 === 0)
    .map(({ id, name, address }) => lintel.addPerson({ id: Number(id), name, address }).catch(() => undefined));
  const reports = await Promise.all([lintel.intake({ people: some }), lintel.intake({ people: some }), lintel.intake({ people: some })]);
  await Promise.all(signUps);
  for (const { people: counted } of reports) expect(counted.brought + counted.same + counted.refused).toBe(300);
  const [row] = await db
    .selectFrom('lintel_person')
    .select((eb) => eb.fn.countAll().as('n'))
    .where('name', 'like', 'Twice %')
    .execute();
  expect(Number(row?.n)).toBe(300);
});

test('a difference is brought, and what somebody did here is not undone', async () => {
  const boss = await lintel.enter({ tenant: 1, user: 1 });
  await boss.members.setRoles('4', [{ role: 'clerk', anchor: { on: 'tenant' } }]);
  await boss.members.remove('6');
  await lintel.renamePerson(8, 'Named here');
  const told: string[] = [];
  const report = await lintel.intake(
    {
      people: [
        { id: 8, name: 'Named there', address: 'p8@taken.example' },
        { id: 10, name: 'Newly named', address: 'ten@taken.example' },
        { id: 5001, name: 'Second', address: 'P2@taken.example' },
        { id: 'x' as never, name: 'No id', address: 'x@taken.example' },
      ],
      tenants: [{ id: 4001, name: 'Nobody runs it' }],
      members: [
        { user: 2, tenant: 1, roles: ['mechanic'], groups: [7] },
        { user: 4, tenant: 1, roles: ['mechanic', 'mechanic'], groups: [7] },
        { user: 6, tenant: 1, roles: ['mechanic'] },
        { user: 1, tenant: 1, roles: ['mechanic'] },
        { user: 12, tenant: 1, roles: ['mechanic', 'clerk'] },
        { user: 14, tenant: 1, roles: ['mechanc'] },
        { user: 16, tenant: 1, groups: [9] },
        { user: 6000, tenant: 1 },
        { user: 2, tenant: 9999 },
      ],
    },
    { refused: ({ what, id, code }) => told.push(`${what} ${id} ${code}`) },
  );
  expect(report.people).toEqual({ ...zero, changed: 1, kept: 1, refused: 2 });
  expect(report.members).toMatchObject({ changed: 1, kept: 1, refused: 7 });
  expect(told).toEqual([
    'person x bad-id',
    'person 5001 address-taken',
    'member 14 unknown-role',
    'member 6 removed-here',
    'member 1 takes-full-control',
    'member 12 apart',
    'member 16 no-such-group',
    'member 6000 no-account',
    'member 2 not-found',
    'tenant 4001 no-keyholder',
  ]);
  expect(report.refused.find(({ code }) => code === 'unknown-role')?.words).toContain('did you mean mechanic?');
  const [two, four, names] = [
    await lintel.enter({ tenant: 1, user: 2 }),
    await lintel.enter({ tenant: 1, user: 4 }),
    await db.selectFrom('lintel_person').select('name').where('id', 'in', ['8', '10']).orderBy('id').execute(),
  ];
  expect([two.facts.me.groupIds, four.facts.assignments.map(({ role }) => role), names.map(({ name }) => name)]).toEqual([
    ['7'],
    ['clerk'],
    ['Newly named', 'Named here'],
  ]);
  await lintel.erasePerson(20);
  expect(await lintel.intake({ people: [{ id: 20, name: 'Again', address: 'again@taken.example' }] })).toMatchObject({
    refused: [{ code: 'id-used' }, { code: 'no-keyholder' }],
  });
});

type Given = Readonly<Record<'roles' | 'groups' | 'units', readonly string[]>>;
const given = fc.record({ roles: fc.subarray(['tenant', '1', '2']), groups: fc.subarray(['7', '8']), units: fc.subarray(['1', '2']) });
const rolesAt = (places: readonly string[]) =>
  places.map((at) => ({ role: 'mechanic', anchor: at === 'tenant' ? ({ on: 'tenant' } as const) : ({ on: 'unit', unitId: at } as const) }));
const doing = fc.oneof(
  fc.record({ source: fc.constantFrom('crm', 'rota'), says: given, active: fc.boolean() }),
  fc.record({ set: fc.constantFrom('roles', 'groups', 'units'), to: given }),
  fc.constantFrom('suspend', 'restore'),
);

test('two sources and people here each give what is theirs, and what people take away no source gives again', async () => {
  let tenant = 70_000;
  const boss = { id: 70_000, name: 'Boss', address: 'boss@sources.example' };
  const wanda = { id: 70_001, name: 'Wanda', address: 'wanda@sources.example' };
  await lintel.intake({ people: [boss, wanda] });
  const run = async (all: (typeof doing extends fc.Arbitrary<infer D> ? D : never)[]) => {
    tenant += 1;
    const [groups, units] = [['7', '8'].map((id) => ({ id, name: `Crew ${id}` })), [{ id: 1, name: 'Hall' }, { id: 2, name: 'Yard' }]]; // biome-ignore format: in one line
    const [keyholder, member] = [
      { user: boss.id, tenant, roles: ['keyholder'] },
      { user: wanda.id, tenant },
    ];
    await lintel.intake({ tenants: [{ id: tenant, name: 'Sources', groups, units }], members: [keyholder, member] }, { source: 'first' });
    // What stands, by what it came; what each source said last; who says that she is not active.
    const stands = { roles: new Map<string, Set<string>>(), groups: new Map<string, Set<string>>(), units: new Map<string, Set<string>>() };
    const [last, asleep] = [new Map<string, string>(), new Set<string>()];
    const parts = ['roles', 'groups', 'units'] as const;
    const of = (source: string, awake: boolean) => JSON.stringify([...parts.map((p) => [...stands[p]].filter(([, by]) => by.has(source)).map(([id]) => id).sort()), awake]); // biome-ignore format: in one line
    const act = await lintel.enter({ tenant, user: boss.id });
    for (const one of all) {
      if (one === 'suspend' || one === 'restore') {
        await act.carryOut([{ do: one, user: String(wanda.id) }]);
        if (one === 'restore') asleep.clear();
        else asleep.add('');
      } else if ('source' in one) {
        const { source, says, active } = one;
        const { members: counts } = await lintel.intake({ members: [{ user: wanda.id, tenant, ...says, roles: rolesAt(says.roles), active }] }, { source });
        const [mark, was] = [JSON.stringify([...parts.map((p) => [...says[p]].sort()), active]), last.get(source)];
        const nothing = JSON.stringify([[], [], [], true]);
        const is = of(source, !asleep.has(source));
        const outcome = mark === (was ?? nothing) || is === mark ? 'same' : is !== (was ?? nothing) ? 'kept' : was === undefined ? 'brought' : 'changed';
        expect(counts).toEqual({ ...zero, [outcome]: 1 });
        if (outcome !== 'kept' && mark !== (was ?? nothing)) last.set(source, mark);
        if (outcome === 'kept' || outcome === 'same') continue;
        for (const p of parts) {
          for (const [id, by] of stands[p]) if (by.delete(source) && by.size === 0) stands[p].delete(id);
          for (const id of says[p]) stands[p].set(id, (stands[p].get(id) ?? new Set()).add(source));
        }
        if (active) asleep.delete(source);
        else asleep.add(source);
      } else {
        const ids = one.to[one.set];
        await act.carryOut(
          one.set === 'roles'
            ? [{ do: 'set-roles', holder: { user: String(wanda.id) }, roles: rolesAt(ids) }]
            : one.set === 'units'
              ? [{ do: 'place', user: String(wanda.id), units: ids }]
              : ['7', '8'].map((id) => ({ do: 'set-group' as const, id, people: ids.includes(id) ? [String(wanda.id)] : [] })),
        );
        stands[one.set] = new Map(ids.map((id) => [id, stands[one.set].get(id) ?? new Set([''])]));
      }
      const { facts } = await lintel.enter({ tenant, user: wanda.id });
      const alone = (by: Set<string>) => (by.has('') ? undefined : [...by].sort());
      const place = (anchor: { on: string; unitId?: string }) => anchor.unitId ?? 'tenant';
      const sorted = <T>(rows: [string, T][]) => rows.sort(([a], [b]) => (a < b ? -1 : 1));
      const expected = (p: keyof Given) => sorted([...stands[p]].map(([id, by]) => [id, alone(by)]));
      expect(facts.subject).toBe(asleep.size > 0 ? 'suspended' : 'member');
      expect(sorted(facts.assignments.map(({ anchor, sources }) => [place(anchor as never), sources]))).toEqual(expected('roles'));
      const [mine] = (await act.members.list()).filter(({ userId }) => userId === String(wanda.id));
      expect(sorted((mine?.roles ?? []).map(({ anchor, sources }) => [place(anchor as never), sources]))).toEqual(expected('roles'));
      const there = async (lists: Promise<readonly { id: string; people: readonly { sources?: readonly string[] }[] }[]>) =>
        (await lists).flatMap(({ id, people: [one, ...more] }): [string, unknown][] =>
          one ? [[id, one.sources], ...more.map(() => ['more', 0] as [string, unknown])] : [],
        );
      expect([sorted(await there(act.tenant.groups())), sorted(await there(act.tenant.units()))]).toEqual([expected('groups'), expected('units')]);
      expect([facts.me.groupIds.length, facts.me.unitIds.length]).toEqual([stands.groups.size, stands.units.size]);
    }
  };
  await fc.assert(fc.asyncProperty(fc.array(doing, { minLength: 4, maxLength: 14 }), run), { numRuns: LONG ? 400 : 6, seed: 41 });
});

test('what sources say of somebody is known where they say it alike; a removal bars all of them until somebody here lets them in', async () => {
  const says = (source: string, attributes: Record<string, unknown>) => lintel.intake({ members: [{ user: 3, tenant: 1, roles: [], attributes }] }, { source });
  const known = async () => (await lintel.enter({ tenant: 1, user: 3 })).facts.me.attributes;
  await says('crm', { region: 'north', grade: 2, tags: ['a', 'b'] });
  await says('rota', { region: 'south', tags: ['a', 'b'], since: 1999 });
  expect(await known()).toEqual({ grade: 2, tags: ['a', 'b'], since: 1999 });
  await says('rota', {});
  expect(await known()).toEqual({ region: 'north', grade: 2, tags: ['a', 'b'] });
  const boss = await lintel.enter({ tenant: 1, user: 1 });
  expect(await lintel.intake({ members: [{ user: 1, tenant: 1, roles: ['keyholder'], active: false }] })).toMatchObject({
    members: { ...zero, refused: 1 },
    refused: [{ code: 'takes-full-control' }, { code: 'no-keyholder' }],
  });
  await boss.members.remove('3');
  for (const source of ['intake', 'crm', 'third']) expect((await says2(source)).refused[0]).toMatchObject({ what: 'member', id: '3', code: 'removed-here' });
  const [answer] = await boss.invitations.send([{ address: 'p3@taken.example', roles: [] }]);
  await lintel.acceptInvitation(3, { token: answer?.token as string });
  expect(await says2('third')).toMatchObject({ members: { ...zero, brought: 1 } });
  await expect(lintel.intake({}, { source: 'no such: name' })).rejects.toMatchObject({ code: 'bad-source' });
});
const says2 = (source: string) => lintel.intake({ members: [{ user: 3, tenant: 1, roles: ['clerk'] }] }, { source });

testLong('a million people take no more memory than a hundred thousand', { timeout: 3_600_000 }, async () => {
  const took = async (count: number) => {
    const args = ['--conditions=warm-lintel-source', '--import', 'tsx', 'test/taken.ts', await databaseOn(inject('postgres')), String(count)];
    return JSON.parse((await promisify(execFile)(process.execPath, args)).stdout);
  };
  const [some, many] = [await took(100_000), await took(1_000_000)];
  expect(many).toMatchObject({ people: 1_000_000, members: 1_000_000, opened: 10_000 });
  expect(many.kilobytes / some.kilobytes).toBeLessThan(1.3);
});

/* What a change would do, worked out without doing it: compared with what it then did, person by person and record by record. */
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { isLintelError } from 'warm-lintel';
import type { PermissionEffect, Proposal, Step } from 'warm-lintel/server';
import { testLong } from './long.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

const whole = { on: 'tenant' } as const;
const at = (unitId: string) => ({ on: 'unit', unitId }) as const;
const enter = (user: string, on: Apiary = lintel) => on.enter({ tenant: 'alderbrook', user, fulfilled: ['recentSignIn'] });
const refusal = (work: Promise<unknown>) =>
  work.then(
    () => undefined,
    (error: unknown) => (isLintelError(error) ? error : Promise.reject(error)),
  );

let lintel: Apiary;
let db: Kysely<any>;
beforeAll(async () => {
  ({ lintel, db } = await apiaryOnPostgres());
});
afterAll(() => db.destroy());

const HELPER = { label: 'Helper', includes: ['reader'], may: { 'hive.update': ['unclaimed', 'own'], 'entry.read': ['tenant'] } };
const CHANGES: Record<string, Step[]> = {
  'a role more': [{ do: 'set-roles', holder: { user: 'lene' }, roles: [{ role: 'keeper', anchor: whole }] }],
  'a role at a unit less': [{ do: 'set-roles', holder: { user: 'otto' }, roles: [{ role: 'warden', anchor: at('mill-meadow') }] }],
  'a group with a role of one’s own': [
    { do: 'make-role', id: 'own-helper', role: HELPER },
    { do: 'make-group', id: 'helpers', name: 'Helpers', people: ['tobias', 'sela', 'lene', 'pavel'] },
    { do: 'set-roles', holder: { group: 'helpers' }, roles: [{ role: 'own-helper', anchor: whole }] },
  ],
  'records opened': [
    { do: 'make-group', id: 'lenders', name: 'Lenders', people: ['tobias', 'sela'] },
    { do: 'open-records', group: 'lenders', to: { user: 'junia' }, kind: 'hive', actions: ['read', 'update'], keeps: false },
  ],
  'a unit moved': [{ do: 'move-unit', id: 'junior-yard', below: 'orchards' }],
  'somebody gone': [{ do: 'remove', user: 'tobias' }],
  'full control handed on': [
    { do: 'set-roles', holder: { user: 'wim' }, roles: [{ role: 'keyholder', anchor: whole }] },
    { do: 'set-roles', holder: { user: 'maren' }, roles: [] },
  ],
};

/** The records that somebody of these people reaches by a permission, as each of them finds them. */
async function reachedBy(on: Apiary, people: readonly string[], permission: string): Promise<Set<unknown>> {
  const kind = permission.split('.')[0] as 'hive';
  const found = new Set<unknown>();
  for (const user of people) {
    const records = await (await enter(user, on)).find(kind, { may: [permission], limit: 1000 });
    for (const { id, may } of records) if (may?.includes(permission)) found.add(id);
  }
  return found;
}
const waysOf = async (on: Apiary, user: string) => JSON.stringify((await enter(user, on)).describe().permissions.map(({ permission }) => permission));

test.each(Object.entries(CHANGES))('%s: it does what it said, to whom it said, on as many records', async (_name, steps) => {
  const number = () => db.selectFrom('lintel_tenant').select('last_number').where('id', '=', 'alderbrook').executeTakeFirst();
  const before = await number();
  const proposal = JSON.parse(JSON.stringify(await (await enter('maren')).propose(steps))) as Proposal;
  expect(await number()).toEqual(before);
  expect(proposal.problems).toEqual([]);
  expect(proposal.effects.reduce((n, { people }) => n + people.count, 0)).toBe(proposal.people);
  const everybody = (await (await enter('maren')).members.list()).map(({ userId }) => userId);
  const held = new Map(await Promise.all(everybody.map(async (user) => [user, await waysOf(lintel, user)] as const)));
  const counted: { ids: string[]; permission: string; was: Set<unknown>; records: NonNullable<PermissionEffect['records']> }[] = [];
  for (const { people, permissions } of proposal.effects) {
    const ids = people.some.map(({ id }) => id);
    for (const { permission, records } of permissions) {
      if (!records) continue;
      const was = await reachedBy(lintel, ids, permission);
      expect(was.size).toBe(records.was);
      counted.push({ ids, permission, was, records });
    }
  }
  expect(counted.length).toBeGreaterThan(0);
  class Back extends Error {}
  await db
    .transaction()
    .execute(async (tx) => {
      const inside = lintel.within(tx);
      await (await enter('maren', inside)).carryOut(proposal);
      for (const { ids, permission, was, records } of counted) {
        const becomes = await reachedBy(inside, ids, permission);
        expect([permission, becomes.size]).toEqual([permission, records.becomes]);
        // Those that are named as examples are some of those that it is about.
        const differ = [...was, ...becomes].filter((id) => was.has(id) !== becomes.has(id));
        expect(records.examples.filter(({ id }) => !differ.includes(id))).toEqual([]);
        expect([0, Math.min(3, differ.length)]).toContain(records.examples.length);
      }
      expect(counted.some(({ records }) => records.examples.length > 0)).toBe(true);
      // Whoever is not named holds what they held.
      const named = new Set(proposal.effects.flatMap(({ people }) => people.some.map(({ id }) => id)));
      for (const user of everybody) if (!named.has(user)) expect(await waysOf(inside, user)).toBe(held.get(user));
      throw new Back();
    })
    .catch((error: unknown) => {
      if (!(error instanceof Back)) throw error;
    });
});

test('what stands against it is told; to whom may not do it, not what it would do', async () => {
  const roles: Step[] = [{ do: 'set-roles', holder: { user: 'lene' }, roles: [{ role: 'keyholder', anchor: whole }] }];
  const alone = await (await enter('maren')).propose([{ do: 'set-roles', holder: { user: 'maren' }, roles: [] }]);
  expect(alone.problems.map(({ code }) => code)).toEqual(['last-keyholder']);
  expect(alone.effects).toMatchObject([{ people: { count: 1 }, fullControl: 'loses' }]);
  const beyond = await (await enter('wim')).propose(roles);
  expect(beyond.problems.map(({ code }) => code)).toEqual(['beyond-power']);
  const refused = await (await enter('junia')).propose(roles);
  expect([refused.problems.map(({ code }) => code), refused.effects, refused.people]).toEqual([['refused'], [], 0]);
  expect((await refusal((await enter('junia')).carryOut({ ...refused, problems: [] })))?.code).toBe('refused');
  const misspelt = await (await enter('maren')).propose([{ do: 'suspnd', user: 'lene' } as never]);
  expect(misspelt.problems[0]?.message).toContain('did you mean suspend');
});

test('carried out if it would still do the same; otherwise it says what changed', async () => {
  const maren = await enter('maren');
  await maren.carryOut([
    { do: 'make-role', id: 'own-fixed', role: { label: 'Fixed', may: { 'hive.read': ['own'] } } },
    { do: 'set-roles', holder: { user: 'lene' }, roles: [{ role: 'own-fixed', anchor: whole }] },
  ]);
  const edit = (may: Record<string, string[]>): Step[] => [{ do: 'edit-role', id: 'own-fixed', role: { label: 'Fixed', may } }];
  const [one, two, other] = await Promise.all([
    maren.propose(edit({ 'hive.read': ['own'], 'report.read': ['tenant'] })),
    maren.propose(edit({ 'hive.read': ['own'], 'entry.read': ['tenant'] })),
    maren.propose([{ do: 'suspend', user: 'junia' }]),
  ]);
  await maren.carryOut([{ do: 'rename-tenant', contact: 'the secretary' }]);
  await maren.carryOut(one);
  const stale = await refusal(maren.carryOut(two));
  expect(stale?.code).toBe('proposal-stale');
  expect(stale?.details.changed).toMatchObject([{ what: 'tenant renamed' }, { what: 'role changed', actor: 'maren' }]);
  expect((await enter('lene')).may('entry.read')).toBe(false);
  // What has nothing to do with it does not hold it up.
  await maren.carryOut(other);
  expect((await enter('junia')).may('hive.read')).toBe(false);
  expect((await refusal((await lintel.enter({ tenant: 'quillmoor', user: 'rosa' })).carryOut(one)))?.code).toBeDefined();
});

test('an invitation says what it will open, waits until then, and opens that', async () => {
  const maren = await enter('maren');
  const invite = (address: string, name?: string): Step => ({
    do: 'invite',
    address,
    roles: [{ role: 'own-guide', anchor: at('mill-meadow') }],
    ...(name && { name }),
  });
  const steps: Step[] = [
    { do: 'make-role', id: 'own-guide', role: { label: 'Guide', may: { 'hive.read': ['tenant'], 'hive.update': ['own'] } } },
    invite('Petra@guests.example', 'Petra'),
    invite('hugo@guests.example'),
  ];
  const proposal = await maren.propose(steps);
  expect(proposal.problems).toEqual([]);
  const [effect] = proposal.effects;
  expect(effect?.people).toMatchObject({ count: 2, some: [{ name: 'hugo@guests.example' }, { name: 'Petra@guests.example' }] });
  const hives = effect?.permissions.find(({ permission }) => permission === 'hive.read')?.records?.becomes as number;
  expect(hives).toBeGreaterThan(0);
  expect(await maren.invitations.list()).not.toContainEqual(expect.objectContaining({ address: 'hugo@guests.example' }));
  const [, first, second] = await maren.carryOut(proposal);
  expect(await db.selectFrom('lintel_person').select('id').where('id', 'like', 'invited:%').execute()).toEqual([]);
  const sent = await maren.invitations.list();
  expect(sent.filter(({ id }) => id === first?.id || id === second?.id).map(({ status, mail }) => [status, mail])).toEqual([
    ['pending', 'none'],
    ['pending', 'none'],
  ]);
  await lintel.addPerson({ id: 'petra', name: 'Petra', address: 'petra@guests.example', confirmedAt: new Date(0) });
  await lintel.acceptInvitation('petra', { token: first?.secret as string });
  const petra = await enter('petra');
  expect((await petra.find('hive', { limit: 1000 })).length).toBe(hives);
  const opened = effect?.permissions.filter(({ change }) => change === 'gains').map(({ permission }) => permission);
  expect(petra.describe().permissions.map(({ permission }) => permission)).toEqual(opened);
  // Again: for one who is here and one who waits; and beyond what one may give.
  expect((await maren.propose([invite('petra@guests.example')])).problems.map(({ code }) => code)).toEqual(['already-member']);
  expect((await maren.propose([invite('hugo@guests.example')])).problems.map(({ code }) => code)).toEqual(['already-pending']);
  const beyond: Step = { do: 'invite', address: 'ivo@guests.example', roles: [{ role: 'keyholder', anchor: whole }] };
  expect((await refusal((await enter('wim')).carryOut([beyond])))?.code).toBe('beyond-power');
  expect((await refusal((await enter('sela')).carryOut([beyond])))?.code).toBe('refused');
});

testLong(
  'over 100,000 members and 1,000,000 records, a role that 10,000 people hold: within 5 s',
  async () => {
    const many = [
      sql`insert into lintel_person (id, name, address, address_written) select 'm' || i, 'Member ' || i, 'm' || i || '@many.example', 'm' || i || '@many.example' from generate_series(1, 100000) i`,
      sql`insert into lintel_member (tenant_id, user_id, status, since, attributes) select 'alderbrook', 'm' || i, 'active', now(), '{}' from generate_series(1, 100000) i`,
      sql`insert into lintel_role (tenant_id, id, data) values ('alderbrook', 'own-many', ${JSON.stringify({ label: 'Many', includes: [], gives: [], may: { 'hive.read': ['own'] } })})`,
      sql`insert into lintel_assignment (tenant_id, user_id, role, anchor, anchor_id) select 'alderbrook', 'm' || i, 'own-many', 'tenant', 'alderbrook' from generate_series(1, 10000) i`,
      sql`insert into hives (id, tenant_id, keeper_id, made_by, name, colonies, status) select 'many-' || i, 'alderbrook', 'm' || (1 + i % 100000), 'maren', 'Hive ' || i, 1, 'active' from generate_series(1, 1000000) i`,
      sql`vacuum analyze`,
    ];
    for (const statement of many) await statement.execute(db);
    const maren = await enter('maren');
    const started = Date.now();
    const may = { 'hive.read': ['own', 'unclaimed'], 'hive.update': ['own'], 'report.read': ['tenant'] };
    const proposal = await maren.propose([{ do: 'edit-role', id: 'own-many', role: { label: 'Many', may } }]);
    const seconds = (Date.now() - started) / 1000;
    console.log(`a proposal for 10,000 people over 1,000,000 records: ${seconds.toFixed(1)} s`);
    expect(proposal.people).toBe(10_000);
    expect(proposal.effects[0]?.permissions.find(({ permission }) => permission === 'hive.update')?.records).toMatchObject({ was: 0, becomes: 100_000 });
    expect(seconds).toBeLessThan(5);
  },
  300_000,
);

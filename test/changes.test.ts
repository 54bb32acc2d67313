/* Changes of the membership as values, on a real PostgreSQL: roles of one's own, groups, units, ends, openings; and what nobody comes to by them. */
import type { Kysely } from 'kysely';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { isLintelError, openStanding } from 'warm-lintel';
import { createLintel, type Step } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { charter as attackedCharter, makeWorld, TENANT } from '../properties/attack/world.js';
import { type Apiary, apiaryOnPostgres, emptyPostgres } from './worlds.js';

const code = (work: Promise<unknown>) =>
  work.then(
    () => 'done',
    (error: unknown) => (isLintelError(error) ? error.code : `not ours: ${String(error)}`),
  );
const whole = { on: 'tenant' } as const;

let db: Kysely<any>;
let now = Date.UTC(2026, 5, 1, 12);
let lintel: Apiary;
let made = 0;
beforeAll(async () => {
  ({ db } = await apiaryOnPostgres());
  lintel = createLintel({ charter, db, clock: () => now }) as unknown as Apiary;
});
afterAll(() => db.destroy());

let tenant: string;
let boss: string;
const enter = (user: string) => lintel.enter({ tenant, user, fulfilled: ['recentSignIn'] });
const does = async (user: string, ...steps: Step[]) => (await enter(user)).carryOut(steps);
async function member(...roles: string[]): Promise<string> {
  const id = await lintel.addPerson({ name: 'Somebody', address: `c${++made}@changes.example`, confirmedAt: new Date(now) });
  const [answer] = await (await enter(boss)).invitations.send([{ address: `c${made}@changes.example`, roles: roles.map((role) => ({ role, anchor: whole })) }]);
  await lintel.acceptInvitation(id, { token: answer?.token ?? '' });
  return id;
}
beforeEach(async () => {
  boss = await lintel.addPerson({ name: 'Boss', address: `b${++made}@changes.example` });
  tenant = await lintel.openTenant({ name: 'Made', keyholder: boss });
});
const hive = (keeperId: string | null, siteId: string | null = null) => ({ id: `h${made++}`, tenantId: tenant, keeperId, siteId, status: 'active' as const });

test('a role of one’s own is made, held, changed for all its holders at their next request, and not dropped from under them', async () => {
  const [helper, other] = [await member(), await member()];
  await does(boss, { do: 'make-role', id: 'own-helper', role: { label: 'Helper', includes: ['reader'], may: { 'hive.update': ['unclaimed'] } } });
  await does(boss, { do: 'set-roles', holder: { user: helper }, roles: [{ role: 'own-helper', anchor: whole, without: ['area.hives'] }] });
  const held = await enter(helper);
  expect([held.may('hive.read'), held.may('area.hives'), held.may('hive.update', hive(null)), held.may('hive.update', hive(boss))]).toEqual([
    true,
    false,
    true,
    false,
  ]);
  expect(held.describe().line).toBe('Helper');
  expect(openStanding(charter, held.snapshot(60), { now: () => now }).may('hive.update', hive(null))).toBe(true);
  await does(boss, { do: 'edit-role', id: 'own-helper', role: { label: 'Helper', may: { 'hive.read': ['tenant'] } } });
  expect((await enter(helper)).may('hive.update', hive(null))).toBe(false);

  expect(await code(does(boss, { do: 'drop-role', id: 'own-helper' }))).toBe('role-held');
  await does(boss, { do: 'drop-role', id: 'own-helper', instead: 'reader' });
  expect((await enter(helper)).describe().line).toBe('Reader');
  // Written wrong, in a circle, or taken: said, and nothing is made.
  const make = (role: object, id = 'own-a') => code(does(boss, { do: 'make-role', id, role: { label: 'A', ...role } }));
  expect(await make({ may: { 'hive.updte': ['tenant'] } })).toBe('role-invalid');
  expect(await make({ may: { 'hive.update': ['mine'] } })).toBe('role-invalid');
  expect(await make({}, 'keeper')).toBe('bad-role-id');
  expect(await make({})).toBe('done');
  expect(await make({ includes: ['own-a'] }, 'own-b')).toBe('done');
  expect(await code(does(boss, { do: 'edit-role', id: 'own-a', role: { label: 'A', includes: ['own-b'] } }))).toBe('role-circle');
  expect(await code(does(boss, { do: 'drop-role', id: 'own-a', instead: null }))).toBe('role-included');
  // A release later something that a stored role names is gone: it gives nothing, and the rest holds.
  await does(boss, { do: 'set-roles', holder: { user: other }, roles: [{ role: 'own-a', anchor: whole }] });
  const stale = { label: 'A', includes: ['gone'], gives: [], may: { 'hive.retired': ['tenant'], 'hive.read': ['retired', 'tenant'] } };
  await db
    .updateTable('lintel_role')
    .set({ data: JSON.stringify(stale) })
    .where('tenant_id', '=', tenant)
    .where('id', '=', 'own-a')
    .execute();
  expect((await enter(other)).describe().permissions.map(({ permission, ways }) => [permission, ways.length])).toContainEqual(['hive.read', 1]);
});

test('what is held through a group or a unit says so, and ends with belonging to it', async () => {
  const who = await member();
  await does(
    boss,
    { do: 'make-group', id: 'juniors', name: 'Juniors', people: [who] },
    { do: 'add-unit', id: 'hills', name: 'The hills' },
    { do: 'add-unit', id: 'slope', name: 'The slope', below: 'hills' },
    { do: 'set-roles', holder: { group: 'juniors' }, roles: [{ role: 'reader', anchor: whole }] },
    {
      do: 'set-permissions',
      holder: { unit: 'hills' },
      permissions: [{ permission: 'hive.update', reach: 'tenant', anchor: { on: 'unit', unitId: 'slope' } }],
    },
    { do: 'place', user: who, units: ['slope'] },
  );
  const paths = (await enter(who)).describe().permissions.flatMap(({ permission, ways }) => ways.map(({ path }) => ({ permission, path })));
  const juniors = { on: 'group', id: 'juniors', name: 'Juniors' };
  expect(paths).toContainEqual({ permission: 'hive.read', path: { by: 'role', role: 'reader', included: [], through: juniors } });
  expect(paths).toContainEqual({ permission: 'hive.update', path: { by: 'direct', through: { on: 'unit', id: 'hills', name: 'The hills' } } });
  expect((await enter(who)).describe().line).toBe('Reader, and 1 more');
  const mayChange = async (site: string) => (await enter(who)).may('hive.update', hive(null, site));
  expect([await mayChange('slope'), await mayChange('hills')]).toEqual([true, false]);
  // Moved elsewhere, members and records move along; below itself it cannot go.
  expect(await code(does(boss, { do: 'move-unit', id: 'hills', below: 'slope' }))).toBe('unit-circle');
  await does(boss, { do: 'move-unit', id: 'slope', below: null });
  expect(await mayChange('slope')).toBe(false);
  await does(boss, { do: 'set-group', id: 'juniors', people: [] });
  expect((await enter(who)).describe().permissions.some(({ permission }) => permission === 'hive.read')).toBe(false);
  expect(await code(does(boss, { do: 'set-roles', holder: { group: 'juniors' }, roles: [{ role: 'keyholder', anchor: whole }] }))).toBe('keyholder-alone');
});

test('what has an end stops counting by itself, in a browser too, and a suspended member loses nothing', async () => {
  const who = await member('keeper');
  const day = 86_400_000;
  const at = (days: number) => new Date(now + days * day).toISOString();
  await does(boss, {
    do: 'set-permissions',
    holder: { user: who },
    permissions: [{ permission: 'area.ledger', reach: 'tenant', anchor: whole, until: at(2) }],
  });
  const held = await enter(who);
  expect(held.may('area.ledger')).toBe(true);
  expect(held.snapshot(30 * 86_400).expiresAt).toBe(at(2));
  await does(boss, { do: 'suspend', user: who, until: at(1) });
  expect((await enter(who)).may('hive.read')).toBe(false);
  expect(await lintel.enter({ tenant, user: boss }).then((b) => b.members.list())).toContainEqual(
    expect.objectContaining({ userId: who, status: 'suspended' }),
  );
  now += day;
  expect((await enter(who)).may('area.ledger')).toBe(true);
  await does(boss, { do: 'set-end', user: who, at: at(3) });
  now += day;
  expect([(await enter(who)).may('area.ledger'), (await enter(who)).may('hive.read')]).toEqual([false, true]);
  now += 3 * day;
  expect((await enter(who)).may('hive.read')).toBe(false);
  await does(boss, { do: 'set-end', user: who, at: null });
  expect((await enter(who)).may('hive.read')).toBe(true);
  // An end that is past, or no moment, is said; and full control has none.
  expect(await code(does(boss, { do: 'set-end', user: who, at: at(-1) }))).toBe('bad-end');
  expect(await code(does(boss, { do: 'suspend', user: boss }))).toBe('last-keyholder');
  expect(await code(does(boss, { do: 'set-roles', holder: { user: boss }, roles: [] }))).toBe('last-keyholder');
});

test('what is invited with an end or with something left out is held so', async () => {
  const id = await lintel.addPerson({ name: 'Somebody', address: `c${++made}@changes.example` });
  const until = new Date(now + 86_400_000).toISOString();
  const roles = [{ role: 'keeper', anchor: whole, until, without: ['hive.read'] }];
  const [answer] = await (await enter(boss)).invitations.send([{ address: `c${made}@changes.example`, roles }]);
  await lintel.acceptInvitation(id, { token: answer?.token ?? '' });
  expect((await enter(id)).facts.assignments).toEqual(roles);
});

test('what the lists say of a holder can be given back by the step that sets it, and nothing is another then', async () => {
  const who = await member();
  const until = new Date(now + 86_400_000).toISOString();
  const slope = { on: 'unit', unitId: 'slope', name: 'The slope' } as const;
  const there = { on: 'record', kind: 'hive', id: 'h-1' } as const;
  const alone = { permission: 'hive.update', reach: 'tenant', anchor: slope, until };
  const roles = [
    { role: 'keeper', anchor: whole, until, without: ['hive.move', 'hive.read'] },
    { role: 'warden', anchor: there },
    { role: 'warden', anchor: slope },
  ];
  const holders = [{ user: who }, { group: 'juniors' }, { unit: 'hills' }] as const;
  await does(
    boss,
    { do: 'make-group', id: 'juniors', name: 'Juniors', people: [who] },
    { do: 'add-unit', id: 'hills', name: 'The hills' },
    { do: 'add-unit', id: 'slope', name: 'The slope', below: 'hills' },
    ...holders.flatMap((holder): Step[] => [
      { do: 'set-permissions', holder, permissions: [alone, { permission: 'area.ledger', reach: 'tenant', anchor: whole }] },
      { do: 'set-roles', holder, roles },
    ]),
  );
  const holds = () => db.selectFrom('lintel_assignment').selectAll().where('tenant_id', '=', tenant).orderBy('holder_id').orderBy('anchor_id').execute();
  const before = await holds();
  const lists = (await enter(boss)).tenant;
  const [held, given] = [await lists.roles(), await lists.givenAlone()];
  expect(given.filter(({ id }) => id === who)).toEqual([
    { on: 'user', id: who, name: 'Somebody', permission: 'area.ledger', reach: 'tenant', anchor: whole },
    { on: 'user', id: who, name: 'Somebody', ...alone },
  ]);
  await does(
    boss,
    ...holders.flatMap((holder): Step[] => {
      const [id] = Object.values(holder) as [string];
      const of = held.flatMap((role) =>
        role.holders
          .filter((one) => one.id === id && !one.by)
          .map(({ anchor, until: end, without }) => ({ role: role.id, anchor, ...(end && { until: end }), ...(without && { without }) })),
      );
      return [
        { do: 'set-roles', holder, roles: of },
        { do: 'set-permissions', holder, permissions: given.filter((one) => one.id === id).map(({ on: _on, id: _id, name: _name, ...one }) => one) },
      ];
    }),
  );
  expect(await holds()).toEqual(before);
  // What has ended is not listed.
  now += 2 * 86_400_000;
  expect((await lists.givenAlone()).map(({ permission }) => permission)).toEqual(Array(3).fill('area.ledger'));
});

test('an opening shows what a group’s people own to others, later joiners included, and keeps or drops what a leaver owns, as chosen', async () => {
  const [first, later, guest, other] = [await member('keeper'), await member('keeper'), await member(), await member()];
  const open = (id: string, keeps: boolean): Step => ({
    do: 'open-records',
    id,
    group: 'crew',
    to: { group: 'guests' },
    kind: 'hive',
    actions: ['read'],
    keeps,
  });
  await does(boss, { do: 'make-group', id: 'guests', name: 'Guests', people: [guest, other] });
  await does(boss, { do: 'make-group', id: 'crew', name: 'The crew', people: [first] }, open('o', true));
  const sees = async (owner: string) => (await enter(guest)).may('hive.read', hive(owner));
  expect([await sees(first), await sees(later)]).toEqual([true, false]);
  await db
    .insertInto('hives')
    .values({ id: `o-${tenant}`, tenant_id: tenant, keeper_id: first, made_by: first, name: 'Opened', status: 'active' })
    .execute();
  expect(await (await enter(guest)).find('hive')).toEqual([expect.objectContaining({ name: 'Opened' })]);
  expect((await enter(guest)).decide('hive.read', hive(later)).looked[0]).toMatchObject({ path: { by: 'opening', group: 'The crew' } });
  await does(boss, { do: 'set-group', id: 'crew', people: [later] });
  expect([await sees(first), await sees(later)]).toEqual([true, true]);
  // Asked of many at once it is as for each alone.
  const { people } = await (await enter(boss)).who('hive.read', `o-${tenant}`, { limit: 500 });
  expect(people.map(({ userId }) => userId)).toEqual(expect.arrayContaining([first, guest, other]));
  await does(boss, { do: 'close-records', id: 'o' }, open('p', false), { do: 'set-group', id: 'crew', people: [first] });
  expect([await sees(first), await sees(later)]).toEqual([true, false]);
  expect(openStanding(charter, (await enter(guest)).snapshot(60), { now: () => now }).decide('hive.read', hive(first)).outcome).toBe('not loaded');
  await does(boss, { do: 'drop-group', id: 'crew' });
  expect(await sees(first)).toBe(false);
});

test('several changes are carried out together or not at all, each on record', async () => {
  const who = await member();
  const before = await db.selectFrom('lintel_audit').select('number').where('tenant_id', '=', tenant).execute();
  const steps: Step[] = [
    { do: 'make-role', id: 'own-x', role: { label: 'X', may: { 'hive.read': ['tenant'] } } },
    { do: 'set-roles', holder: { user: who }, roles: [{ role: 'own-x', anchor: whole }] },
  ];
  expect(await code(does(boss, ...steps, { do: 'place', user: who, units: ['nowhere'] }))).toBe('no-such-unit');
  expect((await enter(who)).describe().line).toBe('no role');
  await does(boss, ...steps);
  const after = await db.selectFrom('lintel_audit').select(['number', 'what']).where('tenant_id', '=', tenant).orderBy('number').execute();
  expect(after.slice(before.length).map((row) => row.what)).toEqual(['role made', 'roles changed']);
  expect(after.map((row) => Number(row.number))).toEqual(after.map((_, i) => i + 1));
});

test('members who try everything come to no more than they held, and two to nothing that neither could hold or give', { timeout: 3_600_000 }, async () => {
  const { db: world } = await emptyPostgres();
  const attacked = createLintel({ charter: attackedCharter, db: world });
  await makeWorld(world);
  // Over the people of one's group one has power, and over nobody whom one puts there in one's own place.
  await (await attacked.enter({ tenant: TENANT, user: 'boss' })).carryOut([
    { do: 'set-group', id: 'red', people: ['ann', 'cas'] },
    ...(['ann', 'ben'] as const).map(
      (user): Step => ({ do: 'set-roles', holder: { user }, roles: ['mate', 'arranger'].map((role) => ({ role, anchor: whole })) }),
    ),
  ]);
  const puts = async (...people: string[]) => code((await attacked.enter({ tenant: TENANT, user: 'ann' })).carryOut([{ do: 'set-group', id: 'red', people }]));
  expect([await puts('ben'), await puts('ann', 'ben'), await puts('cas')]).toEqual(['beyond-power', 'own-power', 'done']);
  // To give a role by the charter's word is not to make more of it by another base; and a unit that comes to lie below adds to that right itself.
  const at = (role: string, anchor: object = whole) => ({ role, anchor }) as { role: string; anchor: typeof whole };
  const north = { on: 'unit', unitId: 'north' };
  await (await attacked.enter({ tenant: TENANT, user: 'boss' })).carryOut([
    { do: 'make-role', id: 'own-a', role: { label: 'A', may: {}, gives: ['basic'] } },
    { do: 'set-roles', holder: { user: 'ann' }, roles: [at('arranger'), at('own-a'), at('clerk', north)] },
    { do: 'set-roles', holder: { user: 'ben' }, roles: [at('basic'), at('scout', north)] },
  ]);
  const asAnn = async (step: Step) => code((await attacked.enter({ tenant: TENANT, user: 'ann' })).carryOut([step]));
  const cas: Step = { do: 'set-roles', holder: { user: 'cas' }, roles: [at('basic'), at('scout', north)] };
  expect([
    await asAnn(cas),
    await asAnn({ do: 'set-rules', bases: { hive: 'tenant' } }),
    await asAnn({ do: 'move-unit', id: 'south', below: 'north' }),
  ]).toEqual(['done', 'beyond-power', 'own-power']);
  await (await attacked.enter({ tenant: TENANT, user: 'boss' })).carryOut([
    ...['ann', 'ben', 'cas'].map((user): Step => ({ do: 'set-roles', holder: { user }, roles: [] })),
    { do: 'drop-role', id: 'own-a', instead: null },
  ]);
  await world.destroy();
});

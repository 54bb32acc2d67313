/* A small tenant in which everything that can be held is held by somebody. */
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { defineCharter, defineKinds, id, owner, tenant, text, unit } from 'warm-lintel';
import { createLintel, type Holder, type Lintel, type Step } from 'warm-lintel/server';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    hive: {
      table: 'hives',
      label: 'name',
      base: ['own', 'team', 'tenant'],
      fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner({ ...ids, change: 'transfer' }), siteId: unit({ ...ids, change: 'move' }), name: text() },
      actions: { read: { label: 'See' }, create: { label: 'Add' }, update: { label: 'Change' }, transfer: { label: 'Hand over' }, move: { label: 'Move' } },
    },
  },
  {
    hive: {
      own: ({ record, me }) => record.ownerId.is(me.userId),
      onSite: ({ record, me }) => record.siteId.within(me.unitIds),
      team: ({ record, me }) => record.ownerId.among(me.groupIds),
    },
  },
);

/** Operations that an arranger has. */
export const ARRANGE = [
  'member.read',
  'member.invite',
  'member.assign',
  'member.suspend',
  'member.remove',
  'group.arrange',
  'unit.arrange',
  'role.arrange',
  'program.arrange',
  'tenant.rule',
  'deputy.name',
] as const;

const charterOf = (platform: boolean) =>
  defineCharter(kinds, {
    platform,
    areas: { hives: { label: 'Hives', perUnit: true } },
    apart: { hands: { sentence: 'Nobody both moves hives and hands them over.', hold: ['hive.move', 'hive.transfer'] } },
    roles: {
      reader: { label: 'Reader', may: { 'hive.read': 'tenant', 'area.hives': 'tenant' } },
      keeper: { label: 'Keeper', may: { 'hive.read': 'own', 'hive.update': 'own' } },
      warden: { label: 'Warden', may: { 'hive.read': 'onSite', 'hive.update': 'onSite', 'hive.move': 'onSite' } },
      mate: { label: 'Mate', may: { 'hive.read': 'team' } },
      basic: { label: 'Basic', may: { 'hive.read': 'base', 'hive.update': 'base', 'member.read': 'self' } },
      scout: { label: 'Scout', may: { 'hive.read': 'tenant', 'hive.update': 'tenant' } },
      mover: { label: 'Mover', includes: ['reader'], may: { 'hive.transfer': 'tenant', 'hive.update': 'tenant' } },
      arranger: { label: 'Arranger', may: Object.fromEntries(ARRANGE.map((name) => [name, 'tenant'])) as never },
      clerk: { label: 'Clerk', may: { 'member.read': 'tenant', 'member.assign': 'tenant', 'member.invite': 'tenant' }, gives: ['keeper', 'warden', 'scout'] },
    },
  });
export const charter = charterOf(false);
/** The same where one tenant is the platform. */
export const platformCharter = charterOf(true);

/** When the attackers begin. What has an end ends within the next hours. */
export const START = Date.UTC(2030, 0, 1);
export const HOUR = 3_600_000;
/** Moments at which it is asked what somebody holds: between any two that differ something begins or ends. */
export const MOMENTS = [0, 1, 2, 3].map((hour) => START + hour * HOUR);

export const TENANT = 't';
export const PEOPLE = ['boss', 'ann', 'ben', 'cas', 'dot'] as const;
/** A program that holds something: whoever has a key of it can do what it can. */
export const PROGRAM = 'scale';
export const UNITS = ['north', 'valley', 'south'] as const;
export const GROUPS = ['red', 'blue'] as const;
export const OWN_ROLES = ['own-a', 'own-b'] as const;
const ROLES = Object.keys(charter.data.roles);

/** Records to ask about: every owner at every place. */
export const HIVES = [...PEOPLE, null].flatMap((ownerId) =>
  [...UNITS, null].map((siteId) => ({ id: `${ownerId ?? 'nobody'} ${siteId ?? 'nowhere'}`, tenantId: TENANT, ownerId, siteId, name: 'Hive' })),
);

const of = <T>(...values: readonly T[]) => fc.constantFrom(...values);
const anchor = fc.oneof(
  { weight: 3, arbitrary: fc.constant({ on: 'tenant' } as const) },
  { weight: 2, arbitrary: of(...UNITS).map((unitId) => ({ on: 'unit', unitId }) as const) },
  { weight: 1, arbitrary: of('ann south', 'dot north').map((hive) => ({ on: 'record', kind: 'hive', id: hive }) as const) },
);
const hour = of(...MOMENTS.slice(1)).map((moment) => new Date(moment).toISOString());
/** Mostly for good. */
const until = fc.option(hour, { nil: undefined, freq: 2 });
const ending = <T extends object>(what: fc.Arbitrary<T>) => fc.tuple(what, until).map(([one, end]) => ({ ...one, ...(end !== undefined && { until: end }) }));
// What attackers hold is given on most.
const assignment = ending(fc.record({ role: of(...ROLES, ...OWN_ROLES, 'arranger', 'arranger'), anchor }));
const plainPermission = fc
  .constantFrom(...[...charter.permissions.keys()].filter((name) => !name.startsWith('audit')))
  .chain((name) => fc.record({ permission: fc.constant(name), reach: of(...charter.reachesOf(name)), anchor }));
const permission = ending(plainPermission);
/** The same at the same place is given once. */
const unlike = <T extends { readonly anchor: object; readonly role?: string; readonly permission?: string; readonly reach?: string }>(
  all: readonly T[],
): T[] => [...new Map(all.map((one) => [JSON.stringify([one.role, one.permission, one.reach, one.anchor]), one])).values()];
const several = (limits: fc.ArrayConstraints) => fc.array(assignment, limits).map(unlike);
const role = fc
  .record({
    may: fc.array(plainPermission, { maxLength: 3 }),
    includes: fc.subarray([...ROLES, ...OWN_ROLES], { maxLength: 1 }),
    gives: fc.subarray(ROLES, { maxLength: 1 }),
  })
  .map(({ may, ...rest }) => ({ label: 'Own', ...rest, may: Object.fromEntries(may.map((p) => [p.permission, [p.reach]])) }));
// Mostly the two who attack: what they do to others tells less.
const user = of('ann', 'ben', 'ann', 'ben', ...PEOPLE, PROGRAM);
const crowd = fc.subarray(['ann', 'ben', 'cas']);
const holder: fc.Arbitrary<Holder> = fc.oneof(
  { weight: 2, arbitrary: fc.record({ user }) },
  { weight: 1, arbitrary: fc.record({ group: of(...GROUPS) }) },
  { weight: 1, arbitrary: fc.record({ unit: of(...UNITS) }) },
);
const some = <T>(values: readonly T[]) => fc.subarray([...values]);

/** A change of any kind with arguments of all kinds. */
export const step: fc.Arbitrary<Step> = fc.oneof(
  fc.record({ do: of('set-roles' as const), holder, roles: several({ maxLength: 3 }) }),
  fc.record({ do: of('set-permissions' as const), holder, permissions: fc.array(permission, { maxLength: 2 }).map(unlike) }),
  fc.record({ do: of('set-roles' as const), holder: fc.record({ user: of('ann', 'ben') }), roles: several({ minLength: 1, maxLength: 2 }) }),
  fc.record({ do: of('set-permissions' as const), holder: fc.record({ user: of('ann', 'ben') }), permissions: fc.tuple(permission) }),
  fc.record({ do: of('make-role' as const), id: of('own-c', 'own-d', 'keeper'), role }),
  fc.record({ do: of('edit-role' as const), id: of(...OWN_ROLES, 'own-c'), role }),
  fc.record({ do: of('drop-role' as const), id: of(...OWN_ROLES, 'own-c'), instead: of(null, ...ROLES, ...OWN_ROLES) }),
  fc.record({ do: of('make-group' as const), id: of('green', 'red'), name: of('G'), people: crowd }),
  fc.record({ do: of('set-group' as const), id: of(...GROUPS, 'green'), people: crowd }),
  fc.record({ do: of('drop-group' as const), id: of(...GROUPS) }),
  fc.record({ do: of('add-unit' as const), id: of('hill', 'north'), name: of('U'), below: of(...UNITS) }),
  fc.record({ do: of('move-unit' as const), id: of(...UNITS), below: of(null, ...UNITS) }),
  fc.record({ do: of('place' as const), user, units: some(UNITS) }),
  ending(fc.record({ do: of('suspend' as const), user })),
  fc.record({ do: of('set-end' as const), user, at: fc.option(hour, { nil: null }) }),
  fc.record({ do: of('restore' as const), user }),
  fc.record({ do: of('remove' as const), user }),
  fc.record({ do: of('leave' as const) }),
  // A key counts as long as it is said to, whatever becomes of who made it.
  fc.tuple(fc.constant({ do: 'make-key' as const, program: PROGRAM }), until).map(([key, ends]) => ({ ...key, ...(ends !== undefined && { ends }) })),
  fc.record({ do: of('entrust-program' as const), program: of(PROGRAM), responsible: user }),
  ending(
    fc.record({
      do: of('open-records' as const),
      group: of(...GROUPS, 'green'),
      to: holder,
      kind: of('hive'),
      actions: fc.subarray(['read', 'update', 'transfer'], { minLength: 1 }),
      keeps: fc.boolean(),
    }),
  ),
);

/** What somebody does in another's place. */
export const STOOD_IN = ['hive.read', 'hive.update', 'hive.transfer', 'hive.move'];

/** What the two would help each other with: what one has, for good; in one's place; by a key. */
const aimed: fc.Arbitrary<Step> = fc.oneof(
  fc.record({
    do: of('set-roles' as const),
    holder: fc.record({ user: of('ann', 'ben') }),
    roles: fc.tuple(fc.record({ role: of('arranger', 'mover', 'warden'), anchor: of({ on: 'tenant' } as const) })),
  }),
  fc.tuple(of({ of: 'ann', to: 'ben' }, { of: 'ben', to: 'ann' }), fc.option(hour, { nil: undefined })).map(([who, since]) => ({
    do: 'name-deputy' as const,
    ...who,
    permissions: STOOD_IN,
    ...(since !== undefined && { since }),
    until: new Date(START + 24 * HOUR).toISOString(),
  })),
  of<Step>({ do: 'make-key', program: PROGRAM }, { do: 'move-unit', id: 'south', below: 'north' }, { do: 'move-unit', id: 'north', below: 'south' }),
);

/** Changes of the tenant's rules, and answers to whoever asks to be let in. */
const ruling: fc.Arbitrary<Step> = fc.oneof(
  fc.record({ do: of('set-rules' as const), bases: fc.record({ hive: of('own', 'team', 'tenant') }) }),
  fc.record({
    do: of('set-rules' as const),
    joining: fc.record({ asks: fc.boolean(), open: of(true), domains: of(['attack.example']), roles: several({ maxLength: 2 }) }),
  }),
  fc
    .record({
      do: of('name-deputy' as const),
      of: of('ann', 'ben', 'ann', 'ben', ...PEOPLE),
      to: of('ann', 'ben', 'ann', 'ben', ...PEOPLE),
      permissions: fc.subarray(STOOD_IN, { minLength: 1 }),
      since: fc.option(hour, { nil: undefined }),
      until: of(2, 3, 24).map((hours) => new Date(START + hours * HOUR).toISOString()),
    })
    .map(({ since, ...named }) => ({ ...named, ...(since !== undefined && { since }) })),
  fc.record({ do: of('let-in' as const), user: of('ann', 'ben', 'eve'), roles: several({ maxLength: 2 }) }),
);

/** Most attackers may arrange: without that little goes through. */
const attackerRoles = (further: string) =>
  fc
    .tuple(
      fc.nat(5),
      of(['arranger'], ['arranger', 'clerk'], ['arranger', 'clerk'], ['clerk']),
      several({ maxLength: 2 }),
      fc.option(hour, { nil: undefined, freq: 1 }),
      of(0, 1, 2),
    )
    .map(([plain, arranging, more, end, also]) => {
      const at = { on: 'tenant' } as const;
      // What reaches further where units lie below it.
      const held = [
        ...(also === 1 ? [{ role: further, anchor: at }] : []),
        ...(also === 2 ? [{ role: 'mover', anchor: { on: 'unit', unitId: 'north' } as const }] : []),
        ...more,
      ];
      return unlike(plain === 0 ? held : [...arranging.map((role) => ({ role, anchor: at, ...(end !== undefined && { until: end }) })), ...held]);
    });

/** Who of the attackers does it, and what: changes; an invitation to somebody, who accepts it; somebody asks to be let in; hours go by; somebody is erased. */
const move = fc.oneof(
  {
    weight: 8,
    arbitrary: fc.record({
      by: of(0, 1),
      steps: fc.oneof(
        { weight: 8, arbitrary: fc.tuple(step) },
        { weight: 2, arbitrary: fc.tuple(step, step) },
        { weight: 2, arbitrary: fc.tuple(ruling) },
        { weight: 6, arbitrary: fc.tuple(aimed) },
      ),
    }),
  },
  { weight: 1, arbitrary: fc.record({ by: of(0, 1), asks: of('ann', 'ben', 'eve') }) },
  { weight: 1, arbitrary: of({ by: 0, waits: 1 }, { by: 0, waits: 2 }) },
  { weight: 1, arbitrary: of('cas', 'dot').map((erases) => ({ by: 0, erases })) },
  { weight: 1, arbitrary: fc.record({ by: of(0, 1), invites: of('ann', 'ben', 'eve'), roles: several({ maxLength: 2 }), memberUntil: until }) },
);

/** Runs from one start: to arrange it takes longer than a run. */
export const RUNS = 10;

/** What stands before anybody attacks. */
export const start = fc.record({
  // What the two hold together is to be apart.
  ann: attackerRoles('mover'),
  ben: attackerRoles('warden'),
  direct: fc.option(permission, { nil: undefined }),
  red: several({ minLength: 1, maxLength: 2 }),
  north: several({ minLength: 1, maxLength: 2 }),
  own: fc.tuple(role, role),
  program: fc.oneof(
    fc.tuple(ending(fc.record({ role: of('arranger', 'reader', 'scout', 'scout'), anchor: fc.constant({ on: 'tenant' } as const) }))),
    several({ minLength: 1, maxLength: 2 }),
  ),
  redPeople: some(['cas', 'dot', 'ann']),
  bluePeople: some(['cas', 'dot', 'boss']),
  placed: fc.record({ ann: some(UNITS), ben: some(UNITS), cas: some(UNITS) }),
  opened: fc.option(fc.record({ to: holder, actions: fc.subarray(['read', 'update'], { minLength: 1 }) }), { nil: undefined }),
  /** Whom somebody stands in for, by whom it may be: from when until when. */
  deputy: fc.option(fc.record({ of: of('boss', 'cas'), to: of('ann', 'ben'), since: of(0, 1, 2) }), { nil: undefined }),
  /** One of them is barred at first, until then. */
  barred: fc.option(hour, { nil: undefined, freq: 2 }),
  /** What the attackers do, in several runs from the same start. */
  runs: fc.array(fc.array(move, { minLength: 3, maxLength: 8 }), { minLength: RUNS, maxLength: RUNS }),
});
export type Start = typeof start extends fc.Arbitrary<infer T> ? T : never;

/** Tenants with their people, before anything is held. */
export async function makeWorld(
  db: Kysely<any>,
  lintel: Lintel<any> = createLintel({ charter, db }) as unknown as Lintel<any>,
  tenants: readonly string[] = [TENANT],
): Promise<void> {
  const columns = ['id', 'tenant_id', 'owner_id', 'site_id', 'name'].map((column) => `${column} text collate "C"`);
  await sql.raw(`create table hives (${columns.join(', ')})`).execute(db);
  await lintel.prepare();
  for (const name of [...PEOPLE, 'eve']) await lintel.addPerson({ id: name, name, address: `${name}@attack.example`, confirmedAt: new Date() });
  for (const tenant of tenants) await makeTenant(lintel, tenant);
}

/** All of them but eve are members. */
async function makeTenant(lintel: Lintel<any>, tenant: string): Promise<void> {
  await lintel.openTenant({ id: tenant, name: 'T', keyholder: 'boss' });
  const boss = await lintel.enter({ tenant, user: 'boss' });
  for (const name of PEOPLE.slice(1)) {
    const [answer] = await boss.invitations.send([{ address: `${name}@attack.example`, roles: [] }]);
    await lintel.acceptInvitation(name, { token: answer?.token as string });
  }
  await boss.carryOut([
    { do: 'add-unit', id: 'north', name: 'North' },
    { do: 'add-unit', id: 'valley', name: 'Valley', below: 'north' },
    { do: 'add-unit', id: 'south', name: 'South' },
    ...GROUPS.map((group): Step => ({ do: 'make-group', id: group, name: group })),
  ]);
}

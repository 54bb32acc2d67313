/* Changes of the membership, drawn: of every kind, with arguments of all kinds. */
import fc from 'fast-check';
import type { Holder, Step } from 'warm-lintel/server';
import { charter, GROUPS, HOUR, KEPT, MOMENTS, OWN_ROLES, PEOPLE, PROGRAM, START, STOOD_IN, UNITS } from './world.js';

const ROLES = Object.keys(charter.data.roles);
export const of = <T>(...values: readonly T[]) => fc.constantFrom(...values);
export const anchor = fc.oneof(
  { weight: 3, arbitrary: fc.constant({ on: 'tenant' } as const) },
  { weight: 2, arbitrary: of(...UNITS).map((unitId) => ({ on: 'unit', unitId }) as const) },
  { weight: 1, arbitrary: of('ann south', 'dot north').map((hive) => ({ on: 'record', kind: 'hive', id: hive }) as const) },
);
export const hour = of(...MOMENTS.slice(1)).map((moment) => new Date(moment).toISOString());
/** Mostly for good. */
export const until = fc.option(hour, { nil: undefined, freq: 2 });
export const ending = <T extends object>(what: fc.Arbitrary<T>) =>
  fc.tuple(what, until).map(([one, end]) => ({ ...one, ...(end !== undefined && { until: end }) }));
// What attackers hold is given on most.
const assignment = ending(fc.record({ role: of(...ROLES, ...OWN_ROLES, 'arranger', 'arranger'), anchor }));
const plainPermission = fc
  .constantFrom(...[...charter.permissions.keys()].filter((name) => !name.startsWith('audit')))
  .chain((name) => fc.record({ permission: fc.constant(name), reach: of(...charter.reachesOf(name)), anchor }));
export const permission = ending(plainPermission);
/** The same at the same place is given once. */
export const unlike = <T extends { readonly anchor: object; readonly role?: string; readonly permission?: string; readonly reach?: string }>(
  all: readonly T[],
): T[] => [...new Map(all.map((one) => [JSON.stringify([one.role, one.permission, one.reach, one.anchor]), one])).values()];
export const several = (limits: fc.ArrayConstraints) => fc.array(assignment, limits).map(unlike);
export const role = fc
  .record({
    may: fc.array(plainPermission, { maxLength: 3 }),
    includes: fc.subarray([...ROLES, ...OWN_ROLES], { maxLength: 1 }),
    gives: fc.subarray(ROLES, { maxLength: 1 }),
  })
  .map(({ may, ...rest }) => ({ label: 'Own', ...rest, may: Object.fromEntries(may.map((p) => [p.permission, [p.reach]])) }));
// Mostly the two who attack: what they do to others tells less.
const user = of('ann', 'ben', 'ann', 'ben', ...PEOPLE, PROGRAM, ...KEPT);
const crowd = fc.subarray(['ann', 'ben', 'cas']);
export const holder: fc.Arbitrary<Holder> = fc.oneof(
  { weight: 2, arbitrary: fc.record({ user }) },
  { weight: 1, arbitrary: fc.record({ group: of(...GROUPS) }) },
  { weight: 1, arbitrary: fc.record({ unit: of(...UNITS) }) },
);
export const some = <T>(values: readonly T[]) => fc.subarray([...values]);

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
  fc
    .record({ do: of('enrol' as const), id: of('late'), address: of('late@attack.example'), name: of('Late'), roles: several({ maxLength: 2 }) })
    .chain((one) => until.map((memberUntil) => ({ ...one, ...(memberUntil !== undefined && { memberUntil }) }))),
  fc.record({ do: of('make-activation' as const), user: of(...KEPT, ...KEPT, 'ann', 'cas') }),
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

/** Changes of the tenant's rules, and answers to whoever asks to be let in. */
export const ruling: fc.Arbitrary<Step> = fc.oneof(
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

const name = of('One', 'Two');
const connection = of('county');
const gifts = fc.record({ groups: some(GROUPS), units: some(UNITS), permissions: fc.array(permission, { maxLength: 1 }) }, { requiredKeys: [] });
const newcomer = fc
  .tuple(fc.record({ address: of('eve@attack.example', 'new@attack.example'), roles: several({ maxLength: 2 }) }), gifts, until)
  .map(([one, given, memberUntil]) => ({ ...one, ...given, ...(memberUntil !== undefined && { memberUntil }) }));

/** Steps that mostly name what is not there: what is invited, connected or opened by then has other ids. */
const further: fc.Arbitrary<Step> = fc.oneof(
  fc.record({ do: of('set-attributes' as const), user, attributes: of({}, { badge: 1 }, { badge: null }) }),
  fc.record({ do: of('rename-group' as const), id: of(...GROUPS), name }),
  fc.record({ do: of('rename-unit' as const), id: of(...UNITS), name }),
  fc.record({ do: of('rename-tenant' as const), contact: name }),
  fc.record({ do: of('make-program' as const), id: of('scale-2'), name, responsible: user }),
  fc.record({ do: of('end-key' as const), key: of('k1') }),
  fc.record({ do: of('close-records' as const), id: of('o', 'p') }),
  fc.record({ do: of('turn-away' as const), user: of('ann', 'eve') }),
  newcomer.map((one) => ({ do: 'invite' as const, ...one })),
  newcomer.map((one) => ({ do: 'expect' as const, ...one })),
  fc.record({ do: of('send-again' as const, 'withdraw' as const), invitation: of('i1') }),
  fc.record({ do: of('end-deputy' as const), of: user, to: user }),
  fc.record({ do: of('ask-password' as const), user }),
  fc.record({
    do: of('make-connection' as const),
    id: connection,
    name,
    terms: of({ kind: 'oidc', issuer: 'https://county.example', clientId: 'c' } as const),
  }) as fc.Arbitrary<Step>,
  fc.record({ do: of('edit-connection' as const), id: connection, name }),
  fc.record({ do: of('turn-connection' as const), id: connection, to: of('on' as const, 'off' as const) }),
  fc.record({ do: of('drop-connection' as const), id: connection }),
  fc.record({ do: of('unbar' as const), connection, subject: of('s') }),
  fc.record({ do: of('claim-domain' as const, 'give-up-domain' as const), domain: of('attack.example') }),
  fc.record({ do: of('send-domain' as const), domain: of('attack.example'), connection: of('county', null) }),
  fc.record({ do: of('hand-over' as const), from: user, to: user, kinds: of(['hive']) }),
);

/** A change of any kind at all, but for the closing of the tenant, after which nothing is left to attack. */
export const anyStep: fc.Arbitrary<Step> = fc.oneof({ weight: 5, arbitrary: step }, { weight: 1, arbitrary: ruling }, { weight: 3, arbitrary: further });

/* What two who attack do: from where they begin, and by which moves. */
import fc from 'fast-check';
import type { Anchor, Assignment } from 'warm-lintel';
import type { Gives, Step } from 'warm-lintel/server';
import { shorter, shrunkBy } from '../harness/shrink.js';
import { anyStep, holder, hour, of, permission, role, ruling, several, some, step, unlike, until } from './steps.js';
import { charter, GROUPS, HOUR, OWN_ROLES, PROGRAM, START, STOOD_IN, UNITS } from './world.js';

export type Move =
  | { readonly by: number; readonly steps: readonly Step[] }
  | { readonly by: number; readonly asks: string }
  | { readonly by: number; readonly waits: number }
  | { readonly by: number; readonly erases: string }
  | {
      readonly by: number;
      readonly invites: string;
      readonly roles: readonly Assignment[];
      readonly memberUntil: string | undefined;
      readonly gives?: Gives | undefined;
    };

const whole = { on: 'tenant' } as const;
const atNorth = { on: 'unit', unitId: 'north' } as const;
const later = (hours: number) => new Date(START + hours * HOUR).toISOString();

/**
 * Every way by which somebody could come to more if it were not looked at, each once from every start: the two help each other, and themselves, to all that they can name, for as long
 * as they can.
 */
const AIMED: readonly (readonly Move[])[] = [0, 1].flatMap((by) => {
  const [self, other] = by === 0 ? ['ann', 'ben'] : ['ben', 'ann'];
  const deputies = [undefined, later(1)].flatMap((since): Step[] =>
    [
      { of: self, to: other },
      { of: other, to: self },
    ].map((who) => ({ do: 'name-deputy', ...who, permissions: STOOD_IN, until: later(24), ...(since && { since }) })),
  );
  const steps: Step[] = [
    ...GROUPS.map((id): Step => ({ do: 'set-group', id, people: [other] })),
    ...[self, other].map((user): Step => ({ do: 'place', user, units: ['south'] })),
    { do: 'place', user: other, units: UNITS },
    ...OWN_ROLES.flatMap((id) =>
      ['hive.read', 'hive.transfer', 'member.assign'].map(
        (name): Step => ({ do: 'edit-role', id, role: { label: 'Own', may: { [name]: ['tenant'] }, includes: [], gives: ['mover'] } }),
      ),
    ),
    { do: 'move-unit', id: 'south', below: 'north' },
    { do: 'move-unit', id: 'north', below: 'south' },
    { do: 'move-unit', id: 'south', below: 'valley' },
    { do: 'make-key', program: PROGRAM },
    { do: 'make-key', program: PROGRAM, ends: later(2) },
    ...deputies,
    { do: 'make-activation', user: 'kept' },
    ...['arranger', 'scout', 'mover', 'warden'].map(
      (name): Step => ({ do: 'enrol', id: 'late', address: 'late@attack.example', name: 'Late', roles: [{ role: name, anchor: whole }] }),
    ),
    ...['tenant', 'team'].map((hive): Step => ({ do: 'set-rules', bases: { hive } })),
    ...GROUPS.flatMap((group) =>
      [self, other].map((user): Step => ({ do: 'open-records', group, to: { user }, kind: 'hive', actions: ['read', 'update'], keeps: false })),
    ),
    ...['arranger', 'scout', 'mover', 'warden', 'basic', 'own-a'].map(
      (name): Step => ({
        do: 'set-roles',
        holder: { user: other },
        roles: [{ role: name, anchor: whole }],
      }),
    ),
    { do: 'set-roles', holder: { user: self }, roles: [{ role: 'arranger', anchor: whole }] },
    ...['hive.read', 'hive.transfer', 'member.assign'].map(
      (name): Step => ({
        do: 'set-permissions',
        holder: { user: other },
        permissions: [{ permission: name, reach: 'tenant', anchor: whole }],
      }),
    ),
  ];
  // One goes and comes back.
  const returns = ['arranger', 'scout', 'mover'].map((name) => [
    { by: 1 - by, steps: [{ do: 'leave' as const }] },
    { by, invites: other as string, roles: [{ role: name, anchor: whole }], memberUntil: undefined },
  ]);
  return [...steps.map((one) => [{ by, steps: [one] }]), ...returns];
});

const by = of(0, 1);
/** Half of the time something besides roles. */
const gives = fc.option(fc.record({ groups: some(GROUPS), units: some(UNITS), permissions: fc.array(permission, { maxLength: 1 }) }), {
  nil: undefined,
  freq: 2,
});
/** Anything: changes; an invitation to somebody, who accepts it; somebody asks to be let in; hours go by; somebody is erased. */
const anything: fc.Arbitrary<readonly Move[]> = fc.tuple(
  fc.oneof(
    { weight: 8, arbitrary: fc.record({ by, steps: fc.oneof(fc.tuple(step), fc.tuple(step, step), fc.tuple(ruling), fc.tuple(anyStep)) }) },
    { weight: 1, arbitrary: fc.record({ by, asks: of('ann', 'ben', 'eve') }) },
    { weight: 1, arbitrary: of({ by: 0, waits: 1 }, { by: 0, waits: 2 }) },
    { weight: 1, arbitrary: of('cas', 'dot').map((erases) => ({ by: 0, erases })) },
    { weight: 1, arbitrary: fc.record({ by, invites: of('ann', 'ben', 'eve'), roles: several({ maxLength: 2 }), memberUntil: until, gives }) },
  ),
);

/** Most attackers may arrange, without which little goes through; and hold something that would reach further if what it turns on were other than it is. */
const attackerRoles = (turnsOn: string) =>
  fc
    .tuple(
      fc.nat(9),
      fc.option(of(turnsOn), { nil: undefined, freq: 2 }),
      fc.option(of('keeper', 'mate', 'scout', ...OWN_ROLES), { nil: undefined, freq: 2 }),
      fc.boolean(),
      of<Anchor>(whole, atNorth),
      several({ maxLength: 1 }),
      fc.option(hour, { nil: undefined, freq: 2 }),
    )
    .map(([plain, one, another, isBasic, at, other, end]) => {
      const held = [one, another].flatMap((name) => (name === undefined ? [] : [{ role: name, anchor: at }]));
      const basic = isBasic ? [{ role: 'basic', anchor: whole }] : [];
      const arranges = plain === 0 ? [] : [{ role: 'arranger', anchor: whole, ...(end !== undefined && { until: end }) }];
      return unlike([...arranges, ...basic, ...held, ...other]);
    });
const clerk = { role: 'clerk', anchor: whole };

/** Runs from one start: to arrange it takes longer than a run. */
export const RUNS = 5;

/** What stands before anybody attacks. */
const situation = fc.record({
  attackers: of(['ann'], ['ann'], ['ann', 'ben'], ['ann', 'ben'], ['ann', 'ben']),
  // What the two hold together is to be apart.
  ann: attackerRoles('mover'),
  ben: attackerRoles('warden'),
  // What is about no record is held nowhere but in the whole.
  direct: fc.option(
    permission.map((one) => (charter.permission(one.permission).kind === undefined ? { ...one, anchor: whole } : one)),
    { nil: undefined },
  ),
  red: fc.tuple(fc.record({ role: of('scout', 'mover', 'reader', 'warden'), anchor: of<Anchor>(whole, atNorth) })),
  north: several({ minLength: 1, maxLength: 2 }),
  own: fc.tuple(role, role),
  program: fc.oneof(
    { weight: 4, arbitrary: fc.tuple(fc.record({ role: of('arranger', 'scout', 'scout'), anchor: of(whole) })) },
    { weight: 1, arbitrary: several({ minLength: 1, maxLength: 2 }) },
  ),
  kept: several({ minLength: 1, maxLength: 2 }),
  redPeople: some(['cas', 'dot', 'ann']),
  bluePeople: some(['cas', 'dot', 'boss']),
  placed: fc.record({ ann: some(UNITS), ben: some(UNITS), cas: some(UNITS) }),
  opened: fc.option(
    fc.record({ to: holder.filter((to) => !('user' in to) || to.user !== 'late'), actions: fc.subarray(['read', 'update'], { minLength: 1 }) }),
    { nil: undefined },
  ),
  /** Whom somebody stands in for, by whom it may be: from when until when. */
  deputy: fc.option(fc.record({ of: of('boss', 'cas'), to: of('ann', 'ben'), since: of(0, 1, 2) }), { nil: undefined }),
  /** One of them is barred at first, until then. */
  barred: fc.option(hour, { nil: undefined, freq: 2 }),
  /** What the attackers do, in several runs from the same start. */
  runs: fc
    .tuple(fc.shuffledSubarray([...AIMED], { minLength: AIMED.length }), fc.array(anything, { minLength: 3 * RUNS, maxLength: 5 * RUNS }))
    .map(([aimed, drawn]) =>
      Array.from({ length: RUNS }, (_, run) => {
        const dealt = (all: readonly (readonly Move[])[]) => all.filter((_, i) => i % RUNS === run);
        const others = dealt(drawn);
        return [...dealt(aimed).flatMap((one, i) => [one, ...others.slice(i, i + 1)]), ...others.slice(dealt(aimed).length)].flat();
      }),
    ),
});
/** Whoever may give a scout may give most, so that what else two come to was allowed: it is mostly one alone who may. */
const begun = fc
  .tuple(situation, fc.nat(5))
  .map(([s, clerks]) => ({ ...s, ann: unlike([...s.ann, ...(clerks === 0 || (s.attackers.length === 1 && clerks < 5) ? [clerk] : [])]) }));
export type Start = typeof begun extends fc.Arbitrary<infer T> ? T : never;

/** One run of those, with fewer moves, from less that stands before. */
function* smaller(s: Start): Generator<Start> {
  if (s.runs.length > 1) for (const one of s.runs) yield { ...s, runs: [one] };
  else for (const moves of shorter(s.runs[0] ?? [], 1)) yield { ...s, runs: [moves] };
  for (const name of ['opened', 'deputy', 'barred', 'direct'] as const) if (s[name] !== undefined) yield { ...s, [name]: undefined };
  for (const name of ['ann', 'ben', 'red', 'north', 'program', 'kept', 'redPeople', 'bluePeople'] as const)
    for (const less of shorter<any>(s[name] as readonly unknown[])) yield { ...s, [name]: less };
}

export const start: fc.Arbitrary<Start> = shrunkBy(begun, smaller);

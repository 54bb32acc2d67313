import { entryOf, LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import {
  aKeyholder,
  anchorWords,
  charterOf,
  type Facts,
  type Grant,
  grantsOf,
  openingKey,
  ruleOf,
  type Standing,
  type StandingIn,
} from '../../standing/index.js';
import type { Course } from './facts.js';
import { alike, belowOf, contains, type Giver, givesByCharter, momentWords } from './giving.js';
import { covers } from './lists.js';

/** What somebody's powers rest on at a moment: their facts, and the charter with the tenant's own roles. */
export interface Reading {
  readonly charter: Charter;
  readonly facts: Facts;
}

/** Something that a member holds after a change and did not hold before it. */
export interface Gain {
  readonly userId: string;
  /** A permission; or, where `gives` is set, the right to give that role. */
  readonly grant: Grant;
  readonly gives?: string;
  /** Somebody for whom the member stands in, and whose grant it is; `named`: since they came to stand in for this. */
  readonly of?: string;
  readonly named?: boolean;
  /** Units and groups of their own into which the reach comes to extend; groups with the people whose records that are, where a rule asks for them. */
  readonly units: readonly string[];
  readonly groups: readonly (readonly [id: string, people: readonly string[] | undefined])[];
  /** Units that lie below the anchor. */
  readonly below: readonly string[];
}

const includesAll = (outer: readonly string[] | undefined, inner: readonly string[] = []) => inner.every((one) => outer?.includes(one));
const missingIn = (outer: readonly string[], inner: readonly string[]) => inner.filter((one) => !outer.includes(one));

/** Every unit at or below those in which somebody is placed. */
export const placedBelow = (facts: Facts) => [...new Set(facts.me.unitIds.flatMap((id) => entryOf(facts.below, id) ?? [id]))];

/** What a rule turns on besides the record and who the person is. */
export interface TurnsOn {
  readonly units: boolean;
  readonly groups: boolean;
  readonly people: boolean;
  readonly attributes: readonly string[];
}

function turning(rules: unknown): TurnsOn {
  const text = JSON.stringify(rules);
  return {
    units: text.includes('"me":"unitIds"'),
    groups: text.includes('"me":"groupIds"'),
    people: text.includes('"op":"among"'),
    attributes: [...text.matchAll(/"me":"attributes\.(\w+)"/g)].map(([, name]) => name as string),
  };
}

export function turnsOn(charter: Charter, grant: Grant): TurnsOn {
  const { kind } = charter.permission(grant.permission);
  if (!kind) return { units: grant.reach === 'units', groups: grant.reach === 'groups', people: grant.reach === 'groups', attributes: [] };
  return turning(grant.only ? [] : ruleOf(charter, kind, grant));
}

const bounds = new WeakMap<Charter, Map<string, TurnsOn>>();

/** What the limits of an action turn on: where that is other, a limit may hold no more. */
function limitsTurnOn(charter: Charter, permission: string): TurnsOn {
  const known = bounds.get(charter) ?? new Map<string, TurnsOn>();
  bounds.set(charter, known);
  const { kind, action = '' } = charter.permission(permission);
  const found = known.get(permission) ?? turning(kind ? charter.limitsOf(kind).flatMap(({ actions, where }) => (actions.includes(action) ? [where] : [])) : []);
  known.set(permission, found);
  return found;
}

export const ownersOf = (facts: Facts, grant: Grant) => (grant.path.by === 'opening' ? (entryOf(facts.people, openingKey(grant.path.opening)) ?? []) : []);

/** Somebody's grants, by themselves or also as every member has them. Where facts are read as if nobody were suspended, what a suspended member will hold is among them. */
const grantsIn = (charter: Charter, facts: Facts, everyMember = false) =>
  grantsOf(charter, facts).filter(({ path }) => everyMember || path.by !== 'everyMember');

/** Rights to give roles, as grants. */
function givesOf(charter: Charter, facts: Facts): { readonly role: string; readonly grant: Grant }[] {
  if (facts.subject !== 'member') return [];
  return facts.assignments.flatMap(({ role, anchor }) =>
    charter.resolveRole(role).gives.map((given) => ({
      role: given,
      grant: { permission: 'member.assign', reach: 'tenant', anchor, path: { by: 'role' as const, role, included: [] } },
    })),
  );
}

/**
 * What a member gains between two readings of their facts: grants, rights to give, and the units, groups and owners into which what they hold
 * comes to extend. What is not known to be held before counts as gained. `charter` is that of the tenant at each moment.
 */
function gainsOf(before: Reading | undefined, after: Reading): Gain[] {
  // guard deputy-gains-compared by attack: A deputy could come to more in the place of another.
  return [...ownGains(before, after), /* guard deputy-gains-compared */ ...gainsInPlace(before, after)];
}

/** What a member gains by standing in for others: what they come to stand in for, and what these gain of it. */
function gainsInPlace(before: Reading | undefined, after: Reading): Gain[] {
  const reading = ({ charter }: Reading, { facts }: StandingIn): Reading => ({ charter: charterOf(charter, facts), facts });
  const had = before ? grantsIn(before.charter, before.facts) : [];
  const holdsAll = ({ grant, below }: Gain) =>
    had.some((b) => {
      const { kind } = after.charter.permission(b.permission);
      const all = b.permission === grant.permission && b.reach === (kind ? after.charter.widestReach(kind) : 'tenant') && !b.only;
      return all && before !== undefined && contains(b.anchor, grant.anchor, before.facts, below);
    });
  return (after.facts.standsFor ?? []).flatMap((one) => {
    const was = before?.facts.standsFor?.find(({ of }) => of.userId === one.of.userId);
    const named = ({ grant }: Gain) => !was?.permissions.includes(grant.permission);
    const fresh = ownGains(undefined, reading(after, one), true).filter(named);
    const grown = before && was ? ownGains(reading(before, was), reading(after, one), true).filter((gain) => !named(gain)) : [];
    return [...fresh.map((gain) => ({ ...gain, named: true })), ...grown]
      .filter((gain) => gain.gives === undefined && one.permissions.includes(gain.grant.permission) && !holdsAll(gain))
      .map((gain) => ({ ...gain, userId: after.facts.me.userId as string, of: one.of.userId }));
  });
}

function ownGains(before: Reading | undefined, after: Reading, everyMember = false): Gain[] {
  const userId = after.facts.me.userId as string;
  const had = before ? grantsIn(before.charter, before.facts, everyMember) : [];
  const gave = before ? givesOf(before.charter, before.facts) : [];
  const units = missingIn(before ? placedBelow(before.facts) : [], placedBelow(after.facts));
  const joined = missingIn(before?.facts.me.groupIds ?? [], after.facts.me.groupIds).map((id) => [id, undefined] as const);
  const grown = after.facts.me.groupIds
    .map((id) => [id, entryOf(after.facts.people, id)] as const)
    .filter(([id, people]) => !before?.facts.me.groupIds.includes(id) || !covers(entryOf(before.facts.people, id), people));
  const moved = units.length > 0 || missingIn(placedBelow(after.facts), before ? placedBelow(before.facts) : []).length > 0;
  const regrouped = joined.length > 0 || missingIn(after.facts.me.groupIds, before?.facts.me.groupIds ?? []).length > 0;
  const said = (of: Reading | undefined, name: string) => JSON.stringify(entryOf(of?.facts.me.attributes, name));
  const gains: Gain[] = [];
  for (const grant of grantsIn(after.charter, after.facts, everyMember)) {
    const { kind } = after.charter.permission(grant.permission);
    const widest = kind ? after.charter.widestReach(kind) : 'tenant';
    const on = turnsOn(after.charter, grant);
    // guard units-within-reach-compared by attack: Units that come to lie within a reach would not be compared.
    const into = { units: on.units ? /* guard units-within-reach-compared */ units : [], groups: on.people ? grown : on.groups ? joined : [] };
    const bound = limitsTurnOn(after.charter, grant.permission);
    const other = (names: readonly string[]) => names.some((name) => said(before, name) !== said(after, name));
    const lifted = (bound.units && moved) || (bound.groups && regrouped) || other(bound.attributes);
    const grew = lifted || into.units.length > 0 || into.groups.length > 0 || other(on.attributes);
    const below = belowOf(after.facts, grant.anchor);
    const held = had.some((b) => {
      if (b.permission !== grant.permission || !before || !contains(b.anchor, grant.anchor, before.facts, below)) return false;
      if (b.reach === widest && !b.only) return !lifted;
      // guard opening-is-no-holding by attack: An opening would count as if its records were held.
      if (grant.only)
        return (
          /* guard opening-is-no-holding */ b.only !== undefined &&
          /* guard opening-is-no-holding */ covers(ownersOf(before.facts, b), ownersOf(after.facts, grant))
        );
      return b.reach === grant.reach && !b.only && !grew;
    });
    if (!held) gains.push({ userId, grant, ...into, below });
  }
  for (const { role, grant } of givesOf(after.charter, after.facts)) {
    const below = belowOf(after.facts, grant.anchor);
    const held = gave.some((g) => g.role === role && before && contains(g.grant.anchor, grant.anchor, before.facts, below));
    if (!held) gains.push({ userId, grant, gives: role, units: [], groups: [], below });
  }
  return gains;
}

/** What a person holds over time, with the charter as it stands in their tenant. */
export interface Holding {
  readonly charter: Charter;
  readonly course: Course;
}

/** Gains, and the moment at which they are there: now, or when something begins or ends. */
export interface GainsAt {
  readonly moment: number;
  readonly gains: readonly Gain[];
}

export const courseDiffers = (before: Holding | undefined, after: Holding | undefined) => before?.course.exactly !== after?.course.exactly;

export const momentsOf = (...courses: readonly ({ readonly moments: readonly number[] } | undefined)[]) =>
  [...new Set(courses.flatMap((one) => one?.moments ?? []))].sort((a, b) => a - b);

/**
 * What a member gains by a change at any moment from now on: at each at which something that they or the giver hold begins or ends, what is held after the change is
 * compared with what was held at that moment before it. Suspensions count as over, since they will be.
 */
export function gainsAhead(before: Holding | undefined, after: Holding, giver: Giver): GainsAt[] {
  if (!courseDiffers(before, after)) return [];
  const reading = (held: Holding, moment: number): Reading => ({ charter: held.charter, facts: held.course.asIfFree(moment) });
  // guard giver-at-every-moment by attack: Somebody could give for longer than they hold it themselves.
  const [now, ...later] = momentsOf(before?.course, after.course, /* guard giver-at-every-moment */ giver);
  // guard held-at-every-moment by attack: A gain that begins later would not be compared.
  return [now as number, /* guard held-at-every-moment */ ...later].map((moment) => ({
    moment,
    gains: gainsOf(before && reading(before, moment), reading(after, moment)),
  }));
}

/**
 * May this person, by what they hold at the moment of a gain as it was before the change, bring it about? A keyholder may all. Others need to hold as much themselves,
 * over an anchor that contains it, or to have, now, the charter's right to give the role by which it comes. `edited`: roles that the change itself alters,
 * for which that right does not count; all, where what is gained comes to the giver themselves.
 */
function mayBring(giver: Standing, now: Standing, gain: Gain, edited: ReadonlySet<string> | 'all'): boolean {
  if (giver.isKeyholder) return true;
  // What is one's own, one may let another do in one's place.
  if (gain.named && gain.of === now.userId) return true;
  const { grant } = gain;
  if (grant.path.by === 'keyholder') return false;
  if (gain.gives !== undefined) return givesByCharter(now, gain.gives, grant.anchor, gain.below);
  const { path } = grant;
  if (
    // guard key-within-own-power by attack: Whoever may give a program's role could make a key of it for themselves.
    edited !== 'all' &&
    // guard key-within-own-power
    !gain.named &&
    path.by === 'role' &&
    // guard key-within-own-power
    !edited.has(path.role) &&
    // guard key-within-own-power
    !path.included.some((role) => edited.has(role)) &&
    givesByCharter(now, path.role, grant.anchor, gain.below)
  )
    return true;
  const { charter } = giver;
  const { kind } = charter.permission(grant.permission);
  const widest = kind ? charter.widestReach(kind) : 'tenant';
  const ownUnits = placedBelow(giver.facts);
  const extends_ = gain.units.length > 0 || gain.groups.length > 0;
  return giver.reaches.grantsFor(charter.permission(grant.permission)).some((own) => {
    if (!contains(own.anchor, grant.anchor, giver.facts, gain.below)) return false;
    if (own.reach === widest && !own.only) return true;
    if (own.only || grant.only || gain.named) return false;
    // Over a group of one's own one has power, and over nobody who comes into it.
    const isOwn = (id: string, people: readonly string[] | undefined) =>
      giver.facts.me.groupIds.includes(id) && covers(entryOf(giver.facts.people, id), people);
    if (extends_) return own.reach === grant.reach && includesAll(ownUnits, gain.units) && gain.groups.every(([id, people]) => isOwn(id, people));
    return alike(charter, kind, grant.reach, own.reach);
  });
}

/**
 * @param programs those of which the actor has a key: what they gain is the actor's, so that to give it is not enough.
 * @throws LintelError `own-power`, `beyond-power` for the first gain that the actor may not bring about.
 */
export function insistOnGains(giver: Giver, all: readonly GainsAt[], edited: ReadonlySet<string>, programs: ReadonlySet<string>): void {
  const { charter, facts, userId } = giver.now;
  for (const { moment, gains } of all) {
    const then = giver.at(moment);
    if (then.isKeyholder) continue;
    const words = ({ grant, gives }: Gain) =>
      `“${gives === undefined ? charter.permission(grant.permission).label : `give ${gives}`}” for ${anchorWords(grant.anchor) ?? 'the whole organisation'}${moment > (giver.moments[0] as number) ? `, from ${momentWords(moment)} on` : ''}`;
    const own = gains.find((gain) => gain.userId === userId);
    if (own) throw new LintelError('own-power', `This would add to your own powers: ${words(own)}. Ask ${aKeyholder(charter)} of ${facts.tenant.name}.`, {});
    const beyond = gains.find((gain) => !mayBring(then, giver.now, gain, programs.has(gain.userId) ? 'all' : edited));
    if (!beyond) continue;
    throw new LintelError(
      'beyond-power',
      `This would give ${words(beyond)} to somebody, and that is more than you may give. Ask ${aKeyholder(charter)} of ${facts.tenant.name}.`,
      { permission: beyond.grant.permission, userId: beyond.userId },
    );
  }
}

import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { anchorWords, charterOf, type Facts, type Grant, grantsOf, openingKey, ruleOf, type Standing, type StandingIn } from '../../standing/index.js';
import { alike, belowOf, contains, givesByCharter } from './giving.js';

/** What somebody's powers rest on at a moment: their facts, and the charter with the tenant's own roles. */
export interface Reading {
  readonly charter: Charter;
  readonly facts: Facts;
  /** The same for two people whose facts differ in nothing but who they are. */
  readonly alike: string;
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
  /** Units and groups of their own into which the reach comes to extend. */
  readonly units: readonly string[];
  readonly groups: readonly string[];
  /** Units that lie below the anchor. */
  readonly below: readonly string[];
}

const includesAll = (outer: readonly string[] | undefined, inner: readonly string[] = []) => inner.every((one) => outer?.includes(one));
const missingIn = (outer: readonly string[], inner: readonly string[]) => inner.filter((one) => !outer.includes(one));

/** Every unit at or below those in which somebody is placed. */
export const placedBelow = (facts: Facts) => [...new Set(facts.me.unitIds.flatMap((id) => facts.below?.[id] ?? [id]))];

/** What a reach turns on besides the record and who the person is. */
export function turnsOn(charter: Charter, grant: Grant): { units: boolean; groups: boolean; attributes: boolean } {
  const { kind } = charter.permission(grant.permission);
  if (!kind) return { units: grant.reach === 'units', groups: grant.reach === 'groups', attributes: false };
  const text = !grant.only ? JSON.stringify(ruleOf(charter, kind, grant)) : '';
  return { units: text.includes('"me":"unitIds"'), groups: text.includes('"me":"groupIds"'), attributes: /"me":"(?!userId|unitIds|groupIds)/.test(text) };
}

export const ownersOf = (facts: Facts, grant: Grant) => (grant.path.by === 'opening' ? (facts.people?.[openingKey(grant.path.opening)] ?? []) : []);

/** Somebody's grants as if they were active, so that what is given to a suspended member is looked at as well. */
const grantsAsMember = (charter: Charter, facts: Facts, everyMember = false) =>
  grantsOf(charter, { ...facts, subject: 'member' }).filter(({ path }) => everyMember || path.by !== 'everyMember');

/** Rights to give roles, as grants. */
function givesOf(charter: Charter, facts: Facts): { readonly role: string; readonly grant: Grant }[] {
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
export function gainsOf(before: Reading | undefined, after: Reading): Gain[] {
  return [...ownGains(before, after), ...gainsInPlace(before, after)];
}

/** What a member gains by standing in for others: what they come to stand in for, and what these gain of it. */
function gainsInPlace(before: Reading | undefined, after: Reading): Gain[] {
  const reading = ({ charter }: Reading, { facts }: StandingIn): Reading => ({ charter: charterOf(charter, facts), facts, alike: '' });
  const had = before ? grantsAsMember(before.charter, before.facts) : [];
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
  const had = before ? grantsAsMember(before.charter, before.facts, everyMember) : [];
  const gave = before ? givesOf(before.charter, before.facts) : [];
  const units = missingIn(before ? placedBelow(before.facts) : [], placedBelow(after.facts));
  const groups = after.facts.me.groupIds.filter(
    (id) => !before?.facts.me.groupIds.includes(id) || !includesAll(before.facts.people?.[id], after.facts.people?.[id]),
  );
  const attributesDiffer = JSON.stringify(before?.facts.me.attributes) !== JSON.stringify(after.facts.me.attributes);
  const gains: Gain[] = [];
  for (const grant of grantsAsMember(after.charter, after.facts, everyMember)) {
    const { kind } = after.charter.permission(grant.permission);
    const widest = kind ? after.charter.widestReach(kind) : 'tenant';
    const on = turnsOn(after.charter, grant);
    const grown = { units: on.units ? units : [], groups: on.groups ? groups : [] };
    const grew = grown.units.length > 0 || grown.groups.length > 0 || (on.attributes && attributesDiffer);
    const below = belowOf(after.facts, grant.anchor);
    const held = had.some((b) => {
      if (b.permission !== grant.permission || !before || !contains(b.anchor, grant.anchor, before.facts, below)) return false;
      if (b.reach === widest && !b.only) return true;
      if (grant.only) return b.only !== undefined && includesAll(ownersOf(before.facts, b), ownersOf(after.facts, grant));
      return b.reach === grant.reach && !b.only && !grew;
    });
    if (!held) gains.push({ userId, grant, ...grown, below });
  }
  for (const { role, grant } of givesOf(after.charter, after.facts)) {
    const below = belowOf(after.facts, grant.anchor);
    const held = gave.some((g) => g.role === role && before && contains(g.grant.anchor, grant.anchor, before.facts, below));
    if (!held) gains.push({ userId, grant, gives: role, units: [], groups: [], below });
  }
  return gains;
}

/**
 * May this standing, as it was before a change, bring this gain about? A keyholder may all. Others need to hold as much themselves, over an
 * anchor that contains it, or to have the charter's right to give the role by which it comes. `edited`: roles that the change itself alters,
 * for which that right does not count; all, where what is gained comes to the giver themselves.
 */
export function mayBring(giver: Standing, gain: Gain, edited: ReadonlySet<string> | 'all'): boolean {
  if (giver.isKeyholder) return true;
  // What is one's own, one may let another do in one's place.
  if (gain.named && gain.of === giver.userId) return true;
  const { grant } = gain;
  if (grant.path.by === 'keyholder') return false;
  if (gain.gives !== undefined) return givesByCharter(giver, gain.gives, grant.anchor);
  const { path } = grant;
  if (
    edited !== 'all' &&
    !gain.named &&
    path.by === 'role' &&
    !edited.has(path.role) &&
    !path.included.some((role) => edited.has(role)) &&
    givesByCharter(giver, path.role, grant.anchor)
  )
    return true;
  const { charter } = giver;
  const { kind } = charter.permission(grant.permission);
  const widest = kind ? charter.widestReach(kind) : 'tenant';
  const ownUnits = placedBelow(giver.facts);
  const extends_ = gain.units.length > 0 || gain.groups.length > 0;
  return giver.held(grant.permission).some((own) => {
    if (!contains(own.anchor, grant.anchor, giver.facts, gain.below)) return false;
    if (own.reach === widest && !own.only) return true;
    if (own.only || grant.only || gain.named) return false;
    if (extends_) return own.reach === grant.reach && includesAll(ownUnits, gain.units) && includesAll(giver.facts.me.groupIds, gain.groups);
    return alike(charter, kind, grant.reach, own.reach);
  });
}

/**
 * @param programs those of which the actor has a key: what they gain is the actor's, so that to give it is not enough.
 * @throws LintelError `own-power`, `beyond-power` for the first gain that the actor may not bring about.
 */
export function insistOnGains(actor: Standing, gains: readonly Gain[], edited: ReadonlySet<string>, programs: ReadonlySet<string>): void {
  const own = actor.isKeyholder ? undefined : gains.find((gain) => gain.userId === actor.userId);
  const words = ({ grant, gives }: Gain) =>
    `“${gives === undefined ? actor.charter.permission(grant.permission).label : `give ${gives}`}” for ${anchorWords(grant.anchor) ?? 'the whole organisation'}`;
  if (own) throw new LintelError('own-power', `This would add to your own powers: ${words(own)}. Ask a keyholder of ${actor.facts.tenant.name}.`, {});
  const beyond = gains.find((gain) => !mayBring(actor, gain, programs.has(gain.userId) ? 'all' : edited));
  if (!beyond) return;
  throw new LintelError(
    'beyond-power',
    `This would give ${words(beyond)} to somebody, and that is more than you may give. Ask a keyholder of ${actor.facts.tenant.name}.`,
    { permission: beyond.grant.permission, userId: beyond.userId },
  );
}

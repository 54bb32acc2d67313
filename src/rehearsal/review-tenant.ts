import { type Charter, KEYHOLDER, type RoleData } from '../charter/index.js';
import { heldTogether, type PeopleReach, peopleReach, rolesIn, type Standing } from '../standing/index.js';
import { byWeight, type ReviewFinding, reviewCharter } from './review.js';
import type { Told } from './review-codes.js';

/** What can be found in a tenant, beside what its own roles show as the charter's would. */
export const TENANT_CODES = {
  'holds-apart': {
    severity: 'error',
    why: 'Somebody holds together what the charter keeps apart: from before the rule, or by ways that came together.',
    remedy: 'Take one of the two from them.',
  },
  'names-what-is-gone': {
    severity: 'warning',
    why: 'A role of the organisation names something that the charter does not have any more. For that it gives nothing.',
    remedy: 'Edit the role, and say it anew.',
  },
  'holds-nothing': {
    severity: 'warning',
    why: 'A member to whom nothing is given finds an empty application.',
    remedy: 'Give them a role, or end their membership.',
  },
  'reads-nothing': {
    severity: 'warning',
    why: 'A member has to do with records alone, and there is not one that they read: they find an empty application.',
    remedy: 'Widen what they read, or place them where their records are.',
  },
  bridge: {
    severity: 'note',
    why: 'Somebody is in two groups that do not know of each other. What the one tells them the other may hear.',
    remedy: 'See that it is meant so; else take them out of one.',
  },
  'role-unheld': { severity: 'note', why: 'Nobody holds the role, by whatever way.', remedy: 'Keep it for those to come, or leave it out.' },
} as const satisfies Record<string, Told>;

export type TenantCode = keyof typeof TENANT_CODES;

/** A tenant as it stands. */
export interface ReviewedTenant {
  /** The charter with the tenant's own roles. */
  readonly charter: Charter<any>;
  /** Roles of the tenant's own as they are stored, in names of now. */
  readonly own: Readonly<Record<string, RoleData>>;
  readonly members: readonly Standing<any>[];
  readonly groups: readonly { readonly id: string; readonly name: string }[];
  /** By member, how many records they read altogether; null where it was not counted. */
  readonly reads: ReadonlyMap<string, number | null>;
}

const nameOf = ({ facts }: Standing<any>) => facts.me.name ?? facts.me.userId ?? '';

/** What somebody knows of others, and what others may know them by. */
interface Knowing {
  readonly standing: Standing<any>;
  readonly knows: PeopleReach;
  readonly groups: readonly string[];
  readonly units: readonly string[];
}

function knowsOf({ knows }: Knowing, { standing, groups, units }: Knowing): boolean {
  if (knows === 'all') return true;
  return (
    knows.users.includes(standing.userId as string) ||
    standing.facts.assignments.some(({ role }) => knows.roles.includes(role)) ||
    knows.groups.some((id) => groups.includes(id)) ||
    knows.units.some((id) => units.includes(id))
  );
}

/** People in two groups of which, but for them, nobody knows of anybody in the other. Whoever knows of everybody is none. */
function bridges(members: readonly Standing<any>[]): { readonly who: Standing<any>; readonly between: readonly [string, string] }[] {
  const all = members.map((standing): Knowing => {
    const { groupIds, unitIds } = standing.facts.me;
    return { standing, knows: peopleReach(standing, 'member.read'), groups: groupIds, units: unitIds };
  });
  const limited = all.filter(({ knows, groups }) => knows !== 'all' && groups.length > 0);
  const apart = new Map<string, boolean>();
  const areApart = (a: string, b: string): boolean => {
    const key = JSON.stringify([a, b]);
    const known = apart.get(key);
    if (known !== undefined) return known;
    const only = (one: string, other: string) => limited.filter(({ groups }) => groups.includes(one) && !groups.includes(other));
    const [left, right] = [only(a, b), only(b, a)];
    const answer = left.length > 0 && right.length > 0 && !left.some((x) => right.some((y) => knowsOf(x, y) || knowsOf(y, x)));
    apart.set(key, answer);
    return answer;
  };
  return limited.flatMap(({ standing, groups }) => {
    const sorted = [...groups].sort();
    return sorted.flatMap((a, i) => sorted.slice(i + 1).flatMap((b) => (areApart(a, b) ? [{ who: standing, between: [a, b] as const }] : [])));
  });
}

/** What a stored role names that the charter does not have. */
function gone(charter: Charter<any>, { may, includes, gives }: RoleData): string[] {
  const grants = Object.entries(may).flatMap(([permission, reaches]) =>
    charter.permissions.has(permission)
      ? reaches.filter((reach) => !charter.knows({ permission, reach })).map((reach) => `${permission} ${reach}`)
      : [permission],
  );
  const roles = [...includes, ...gives].filter((role) => role !== KEYHOLDER && !Object.hasOwn(charter.data.roles, role));
  return [...new Set([...grants, ...roles])];
}

/** Everything in a tenant that is hardly meant so, what weighs most first: people, groups, and the roles of its own. */
export function reviewTenant({ charter, own, members, groups, reads }: ReviewedTenant): ReviewFinding[] {
  const found: ReviewFinding[] = reviewCharter(charter).filter(({ place }) =>
    Object.keys(own).some((id) => place === `roles.${id}` || place.startsWith(`roles.${id}.`)),
  );
  const find = (code: TenantCode, place: string, message: string) => found.push({ code, severity: TENANT_CODES[code].severity, place, message });
  const held = new Set(members.flatMap(({ facts }) => facts.assignments.flatMap(({ role }) => rolesIn(charter, role))));
  for (const role of Object.keys(charter.data.roles)) if (!held.has(role)) find('role-unheld', `roles.${role}`, `nobody is ${charter.role(role).label}`);
  for (const [id, role] of Object.entries(own)) {
    const names = gone(charter, role);
    if (names.length > 0) find('names-what-is-gone', `roles.${id}`, `${role.label} names ${names.join(', ')}`);
  }
  for (const standing of members) {
    const place = `members.${standing.userId}`;
    for (const rule of heldTogether(charter, standing.facts))
      find('holds-apart', place, `${nameOf(standing)} holds ${charter.data.apart[rule]?.hold.join(' and ')}, which apart.${rule} keeps apart`);
    if (standing.facts.subject !== 'member') continue;
    const { permissions } = standing.describe();
    const given = permissions.filter(({ ways }) => ways.some(({ path }) => path.by !== 'everyMember'));
    // Whoever has to do with people finds something all the same.
    const recordsAlone = given.every(({ permission }) => charter.permission(permission).kind !== undefined || permission.startsWith('area.'));
    if (given.length === 0) find('holds-nothing', place, `nothing is given to ${nameOf(standing)}`);
    else if (recordsAlone && reads.get(standing.userId as string) === 0) find('reads-nothing', place, `${nameOf(standing)} reads no record at all`);
  }
  const called = new Map(groups.map(({ id, name }) => [id, name]));
  for (const { who, between } of bridges(members)) {
    const [a, b] = between.map((id) => called.get(id) ?? id);
    find('bridge', `members.${who.userId}`, `${nameOf(who)} is in ${a} and in ${b}, which do not know of each other`);
  }
  return byWeight(found);
}

import { entryOf } from '../base/index.js';
import { type Charter, KEYHOLDER } from '../charter/index.js';
import { charterOf, type Facts } from './facts.js';
import { grantsOf } from './grants.js';

/** Every role that comes with a role, itself too. */
export function rolesIn(charter: Charter<any>, role: string): string[] {
  const data = entryOf(charter.data.roles, role);
  return [role, ...(data?.includes ?? []).flatMap((inner) => rolesIn(charter, inner))];
}

/** Rules of the charter against which somebody holds two things together, by whatever ways. Full control counts for none. */
export function heldTogether(charter: Charter<any>, facts: Facts): string[] {
  const rules = Object.entries(charter.data.apart);
  if (rules.length === 0) return [];
  const held = new Set<string>(facts.assignments.flatMap(({ role }) => (role === KEYHOLDER ? [] : rolesIn(charter, role))));
  // Whoever is suspended or comes later holds it all the same.
  for (const { permission, path } of grantsOf(charter, { ...facts, subject: 'member' })) if (path.by !== 'keyholder') held.add(permission);
  // Also in somebody's place: it is one person all the same.
  // guard apart-with-deputies by attack: What is to be apart could come together in the place of another.
  for (const { permissions, facts: theirs } of /* guard apart-with-deputies */ facts.standsFor ?? [])
    for (const { permission } of grantsOf(charterOf(charter, theirs), { ...theirs, subject: 'member' }))
      if (permissions.includes(permission)) held.add(permission);
  return rules.filter(([, { hold }]) => hold.filter((one) => held.has(one)).length > 1).map(([name]) => name);
}

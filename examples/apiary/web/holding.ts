import type { Assignment } from 'warm-lintel';
import type { Member, Role } from './api.js';
import { placeWords } from './parts.js';

/** Roles in one line, each with where it is held. */
export const rolesInWords = (roles: Member['roles']) => roles.map(({ label, anchor }) => `${label}${placeWords(anchor)}`).join(', ') || 'no role';

/** Who holds something: a member, the people of a group, or those placed at a unit. */
export type Holder = { user: string } | { group: string } | { unit: string };

export const holderOf = (on: 'user' | 'group' | 'unit', id: string): Holder => (on === 'user' ? { user: id } : on === 'group' ? { group: id } : { unit: id });

/** All roles that a holder has by name, as `set-roles` takes them: each where, until when and without what it is held. */
export function rolesOf(roles: readonly Role[], holder: Holder): Assignment[] {
  const [[on, id]] = Object.entries(holder) as [[string, string]];
  return roles.flatMap(({ id: role, holders }) =>
    holders
      .filter((one) => one.on === on && one.id === id && !one.by)
      .map(({ anchor, until, without }) => ({ role, anchor, ...(until && { until }), ...(without && { without }) })),
  );
}

/** Roles that are held for the whole association and without an end, which a form of checkboxes shows; and what it leaves as it is. */
export function inForm(held: readonly Assignment[]): { wide: string[]; kept: Assignment[] } {
  const isPlain = ({ anchor, until, without }: Assignment) => anchor.on === 'tenant' && until === undefined && without === undefined;
  return { wide: held.filter(isPlain).map(({ role }) => role), kept: held.filter((one) => !isPlain(one)) };
}

/** What the form and what it left make together, for `set-roles`. */
export const outOfForm = (wide: readonly string[], kept: readonly Assignment[]): Assignment[] => [
  ...wide.map((role) => ({ role, anchor: { on: 'tenant' } as const })),
  ...kept,
];

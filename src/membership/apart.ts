import { LintelError } from '../base/index.js';
import { type Charter, KEYHOLDER } from '../charter/index.js';
import { type Assignment, type Facts, grantsOf } from '../standing/index.js';
import type { Change } from './change.js';
import { readFactsOf } from './facts.js';
import type { Reading } from './power.js';

/** Every role that comes with a role, itself too. */
function rolesIn(charter: Charter, role: string): string[] {
  const data = Object.hasOwn(charter.data.roles, role) ? charter.data.roles[role] : undefined;
  return [role, ...(data?.includes ?? []).flatMap((inner) => rolesIn(charter, inner))];
}

/** Rules of the charter against which somebody holds two things together, by whatever ways. Full control counts for none. */
function brokenBy(charter: Charter, facts: Facts): string[] {
  const rules = Object.entries(charter.data.apart);
  if (rules.length === 0) return [];
  const held = new Set<string>(facts.assignments.flatMap(({ role }) => (role === KEYHOLDER ? [] : rolesIn(charter, role))));
  // Whoever is suspended or comes later holds it all the same.
  for (const { permission, path } of grantsOf(charter, { ...facts, subject: 'member' })) if (path.by !== 'keyholder') held.add(permission);
  return rules.filter(([, { hold }]) => hold.filter((one) => held.has(one)).length > 1).map(([name]) => name);
}

function refuse(charter: Charter, name: string, who: string | undefined): never {
  const { sentence, hold } = charter.data.apart[name] as { sentence: string; hold: readonly string[] };
  throw new LintelError('apart', `${who ?? 'One person'} would hold together what is to be apart: ${sentence}`, { rule: name, hold });
}

/** @throws LintelError `apart` where somebody comes to hold together what is to be apart, and did not before. */
export function insistOnApart(before: ReadonlyMap<string, Reading>, after: ReadonlyMap<string, Reading>): void {
  for (const [userId, { charter, facts }] of after) {
    const was = before.get(userId);
    const known = was ? brokenBy(was.charter, was.facts) : [];
    const broken = brokenBy(charter, facts).find((name) => !known.includes(name));
    if (broken !== undefined) refuse(charter, broken, facts.me.name);
  }
}

/** The same for somebody who has just come in. */
export async function insistOnApartOf({ tx, tenantId, setting, at, actor }: Change, userId: string): Promise<void> {
  if (Object.keys(setting.charter.data.apart).length === 0) return;
  for (const facts of await readFactsOf(tx, setting.charter, tenantId, [userId], at.getTime())) {
    const charter = actor.charter.withRoles(facts.roles ?? {}) as Charter;
    const [broken] = brokenBy(charter, facts);
    if (broken !== undefined) refuse(charter, broken, facts.me.name);
  }
}

/**
 * What somebody is to hold by themselves, before anything is written.
 *
 * @throws LintelError `one-role` where the tenant allows one role a person, `apart`.
 */
export function insistOnRules({ rules, actor }: Pick<Change, 'rules' | 'actor'>, roles: readonly Assignment[]): void {
  if (rules.oneRole && roles.length > 1)
    throw new LintelError('one-role', `In ${actor.facts.tenant.name} everybody has one role at most. Take one away to give another.`, { roles: roles.length });
  const [broken] = brokenBy(actor.charter as Charter, { ...actor.facts, assignments: roles, direct: [], opened: [], me: { ...actor.facts.me } });
  if (broken !== undefined) refuse(actor.charter as Charter, broken, undefined);
}

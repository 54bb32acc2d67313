import { LintelError } from '../../base/index.js';
import { type Charter, KEYHOLDER } from '../../charter/index.js';
import { implies, type Predicate } from '../../predicate/index.js';
import { type Anchor, type Assignment, anchorWords, type Facts, fromRole, type Standing } from '../../standing/index.js';

/** The units that an anchor covers. */
export const belowOf = (facts: Facts, anchor: Anchor) => (anchor.on === 'unit' ? (facts.below?.[anchor.unitId] ?? [anchor.unitId]) : []);

/**
 * Everything that lies at `inner` lies at `outer` too. What is not known to be contained is not.
 *
 * @param below the units that `inner` covers, where they were read at another time than the facts.
 */
export function contains(outer: Anchor, inner: Anchor, facts: Facts, below: readonly string[] = inner.on === 'unit' ? [inner.unitId] : []): boolean {
  if (outer.on === 'tenant') return true;
  if (outer.on === 'record') return inner.on === 'record' && inner.kind === outer.kind && inner.id === outer.id;
  return inner.on === 'unit' && below.every((unitId) => facts.below?.[outer.unitId]?.includes(unitId));
}

/** A reach that turns on units, groups or attributes reaches other records for somebody else, so it is not passed on by its name. */
function turnsOnMore(predicate: Predicate): boolean {
  return /"me":"(?!userId")|"context":/.test(JSON.stringify(predicate));
}

export function givesByCharter(standing: Standing, role: string, anchor: Anchor): boolean {
  return standing.facts.assignments.some((own) => contains(own.anchor, anchor, standing.facts) && standing.charter.resolveRole(own.role).gives.includes(role));
}

/** What is given at one reach is given to everybody who holds the other, whoever they are. */
export function alike(charter: Charter, kind: string | undefined, given: string, own: string): boolean {
  // Of an operation about people: whoever may know of anybody may know of themselves.
  if (kind === undefined) return own === 'tenant' || given === 'self';
  const [inner, outer] = [charter.reach(kind, given), charter.reach(kind, own)];
  return !turnsOnMore(inner) && !turnsOnMore(outer) && (given === own || implies(inner, outer, kind, charter.shapes).verdict === 'yes');
}

/**
 * May this person give this role at this anchor? A keyholder may give any. Others may where the charter lets a role of theirs
 * give it, or where they hold all that it gives: each permission at `tenant` or at a reach that the given one implies, over an anchor that contains
 * this one. What cannot be shown to be within their power is not.
 */
export function mayGive(standing: Standing, { role, anchor, without }: Assignment, charter: Charter = standing.charter as Charter): boolean {
  if (standing.isKeyholder) return true;
  if (role === KEYHOLDER || standing.facts.subject !== 'member') return false;
  if (givesByCharter(standing, role, anchor)) return true;
  const withinPower = fromRole(charter, { role, anchor, ...(without && { without }) }).every(({ permission, reach }) => {
    const { kind } = charter.permission(permission);
    const widest = kind ? charter.widestReach(kind) : 'tenant';
    return standing
      .held(permission)
      .some((way) => !way.only && contains(way.anchor, anchor, standing.facts) && (way.reach === widest || alike(charter, kind, reach, way.reach)));
  });
  return withinPower && charter.resolveRole(role).gives.every((further) => givesByCharter(standing, further, anchor));
}

/** @throws LintelError `unknown-role`, `keyholder-anchor`, `beyond-power`. */
export function insistOnGiving(standing: Standing, assignments: readonly Assignment[]): void {
  for (const assignment of assignments) {
    const { label } = standing.charter.role(assignment.role);
    if (assignment.role === KEYHOLDER && assignment.anchor.on !== 'tenant') {
      throw new LintelError('keyholder-anchor', 'full control is held for the whole organisation, not for a part of it', {});
    }
    if (mayGive(standing, assignment)) continue;
    const place = anchorWords(assignment.anchor) ?? 'the whole organisation';
    throw new LintelError(
      'beyond-power',
      `You cannot give the role “${label}” for ${place}: it holds more than you do. Ask a keyholder of ${standing.facts.tenant.name}.`,
      { role: assignment.role },
    );
  }
}

import { LintelError } from '../base/index.js';
import { KEYHOLDER } from '../charter/index.js';
import { implies, type Predicate } from '../predicate/index.js';
import { type Anchor, type Assignment, anchorWords, fromRole, type Standing } from '../standing/index.js';

/** Everything that lies at `inner` lies at `outer` too. What is not known to be contained is not. */
function contains(outer: Anchor, inner: Anchor, standing: Standing): boolean {
  if (outer.on === 'tenant') return true;
  if (outer.on === 'record') return inner.on === 'record' && inner.kind === outer.kind && inner.id === outer.id;
  return inner.on === 'unit' && (standing.facts.below?.[outer.unitId] ?? []).includes(inner.unitId);
}

/** A reach that turns on units, groups or attributes reaches other records for somebody else, so it is not passed on by its name. */
function turnsOnMore(predicate: Predicate): boolean {
  return /"me":"(?!userId")|"context":/.test(JSON.stringify(predicate));
}

function givesByCharter(standing: Standing, role: string, anchor: Anchor): boolean {
  return standing.facts.assignments.some((own) => contains(own.anchor, anchor, standing) && standing.charter.resolveRole(own.role).gives.includes(role));
}

/**
 * May this person give this role at this anchor? A keyholder may give any. Others may where the charter lets a role of theirs
 * give it, or where they hold all that it gives: each permission at `tenant` or at a reach that the given one implies, over an anchor that contains
 * this one. What cannot be shown to be within their power is not.
 */
export function mayGive(standing: Standing, { role, anchor }: Assignment): boolean {
  if (standing.isKeyholder) return true;
  if (role === KEYHOLDER || standing.facts.subject !== 'member') return false;
  if (givesByCharter(standing, role, anchor)) return true;
  const { charter } = standing;
  const held = standing.describe().permissions;
  const withinPower = fromRole(charter, { role, anchor }).every(({ permission, reach }) => {
    const { kind } = charter.permission(permission);
    const widest = kind ? charter.widestReach(kind) : 'tenant';
    const alike = (way: string) => {
      if (way === widest || kind === undefined) return way === widest;
      const [given, own] = [charter.reach(kind, reach), charter.reach(kind, way)];
      return !turnsOnMore(given) && !turnsOnMore(own) && (way === reach || implies(given, own, kind, charter.shapes).verdict === 'yes');
    };
    return held.find((p) => p.permission === permission)?.ways.some((way) => contains(way.anchor, anchor, standing) && alike(way.reach)) ?? false;
  });
  return withinPower && charter.resolveRole(role).gives.every((further) => givesByCharter(standing, further, anchor));
}

/** The roles that this person may give at an anchor: a list that is short and exact. */
export function rolesToGive(standing: Standing, anchor: Anchor): string[] {
  return [...Object.keys(standing.charter.data.roles), KEYHOLDER].filter((role) => mayGive(standing, { role, anchor }));
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

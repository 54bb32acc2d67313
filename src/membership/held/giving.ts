import { entryOf, LintelError } from '../../base/index.js';
import { type Charter, HOLDERS, KEYHOLDER, type RoleData } from '../../charter/index.js';
import { implies, type Predicate } from '../../predicate/index.js';
import { type Anchor, type Assignment, aKeyholder, anchorWords, type Facts, fromRole, Standing } from '../../standing/index.js';
import type { Course } from './facts.js';

/** The units that an anchor covers. */
export const belowOf = (facts: Facts, anchor: Anchor) => (anchor.on === 'unit' ? (entryOf(facts.below, anchor.unitId) ?? [anchor.unitId]) : []);

/**
 * Everything that lies at `inner` lies at `outer` too. What is not known to be contained is not.
 *
 * @param below the units that `inner` covers, where they were read at another time than the facts.
 */
export function contains(outer: Anchor, inner: Anchor, facts: Facts, below: readonly string[] = inner.on === 'unit' ? [inner.unitId] : []): boolean {
  if (outer.on === 'tenant') return true;
  if (outer.on === 'record') return inner.on === 'record' && inner.kind === outer.kind && inner.id === outer.id;
  return inner.on === 'unit' && below.every((unitId) => entryOf(facts.below, outer.unitId)?.includes(unitId));
}

/** A reach that turns on units, groups or attributes reaches other records for somebody else, so it is not passed on by its name. */
function turnsOnMore(predicate: Predicate): boolean {
  return /"me":"(?!userId")|"context":/.test(JSON.stringify(predicate));
}

/** @param below the units that the anchor covers, where they were read at another time than the facts. */
export function givesByCharter(standing: Standing, role: string, anchor: Anchor, below?: readonly string[]): boolean {
  return standing.facts.assignments.some(
    (own) => contains(own.anchor, anchor, standing.facts, below) && standing.charter.resolveRole(own.role).gives.includes(role),
  );
}

/** What is given at one reach is given to everybody who holds the other, whoever they are. */
export function alike(charter: Charter, kind: string | undefined, given: string, own: string): boolean {
  // Of an operation about people: whoever may know of anybody may know of themselves.
  if (kind === undefined) return own === 'tenant' || given === 'self' || (given === own && given.startsWith(HOLDERS));
  const [inner, outer] = [charter.reach(kind, given), charter.reach(kind, own)];
  return !turnsOnMore(inner) && !turnsOnMore(outer) && (given === own || implies(inner, outer, kind, charter.shapes).verdict === 'yes');
}

/** Somebody who gives: what they hold now, and at each later moment at which something of it begins or ends. */
export class Giver {
  /** Milliseconds since 1970, in order; the first is now. */
  readonly moments: readonly number[];
  readonly now: Standing;
  readonly #charter: Charter;
  readonly #course: Course;
  readonly #standings = new Map<number, Standing>();
  readonly #roles: Record<string, RoleData>;
  readonly #clock: () => number;

  constructor(charter: Charter, course: Course, roles: Record<string, RoleData>, clock: () => number) {
    this.#charter = charter;
    this.#course = course;
    this.#roles = roles;
    this.#clock = clock;
    this.moments = course.moments;
    this.now = new Standing(charter, { ...course.at(course.moments[0] as number), roles }, { now: clock });
    this.#standings.set(course.moments[0] as number, this.now);
  }

  at(moment: number): Standing {
    const known = this.#standings.get(moment);
    if (known) return known;
    const standing = new Standing(this.#charter, { ...this.#course.at(moment), roles: this.#roles }, { now: () => moment });
    this.#standings.set(moment, standing);
    return standing;
  }

  /** With full control, and for good. */
  get isKeyholder(): boolean {
    return this.moments.every((moment) => this.at(moment).isKeyholder);
  }

  /** The same person where the tenant has these roles of its own. */
  withRoles(roles: Record<string, RoleData>): Giver {
    return new Giver(this.#charter, this.#course, roles, this.#clock);
  }
}

/**
 * From which moment on this person may not have given this role at this anchor; undefined where they may, for as long as it is to be held. A keyholder may give any.
 * Others may where the charter lets a role of theirs give it, which is asked of now alone; or while they hold all that it gives: each permission at `tenant` or at a
 * reach that the given one implies, over an anchor that contains this one. What cannot be shown to be within their power is not.
 */
export function beyondFrom(giver: Giver, assignment: Assignment, charter: Charter = giver.now.charter as Charter): number | undefined {
  const isHeldAt = (moment: number) => assignment.until === undefined || Date.parse(assignment.until) > moment;
  return giver.moments.find(
    (moment, i) => (i === 0 || /* guard giver-at-every-moment */ isHeldAt(moment)) && !mayGiveAt(giver.at(moment), giver.now, assignment, charter),
  );
}

/** An assignment to somebody whose membership ends: it is held no longer than that. */
export function endingBy(assignment: Assignment, end: Date | null): Assignment {
  if (end === null || (assignment.until !== undefined && Date.parse(assignment.until) <= end.getTime())) return assignment;
  return { ...assignment, until: end.toISOString() };
}

export function mayGive(giver: Giver, assignment: Assignment, charter?: Charter): boolean {
  return beyondFrom(giver, assignment, charter) === undefined;
}

function mayGiveAt(standing: Standing, now: Standing, { role, anchor, without }: Assignment, charter: Charter): boolean {
  if (standing.isKeyholder) return true;
  if (role === KEYHOLDER) return false;
  if (now.facts.subject === 'member' && givesByCharter(now, role, anchor)) return true;
  if (standing.facts.subject !== 'member') return false;
  const withinPower = fromRole(charter, { role, anchor, ...(without && { without }) }).every(({ permission, reach }) => {
    const { kind } = charter.permission(permission);
    const widest = kind ? charter.widestReach(kind) : 'tenant';
    return standing.reaches
      .grantsFor(charter.permission(permission))
      .some((way) => !way.only && contains(way.anchor, anchor, standing.facts) && (way.reach === widest || alike(charter, kind, reach, way.reach)));
  });
  return withinPower && charter.resolveRole(role).gives.every((further) => givesByCharter(now, further, anchor));
}

/** A moment as it is said to people. */
export const momentWords = (moment: number) => new Date(moment).toISOString().replace(/\.000Z$/, 'Z');

/** @throws LintelError `unknown-role`, `keyholder-anchor`, `beyond-power`. */
export function insistOnGiving(giver: Giver, assignments: readonly Assignment[]): void {
  const { charter, facts } = giver.now;
  for (const assignment of assignments) {
    const { label } = charter.role(assignment.role);
    if (assignment.role === KEYHOLDER && assignment.anchor.on !== 'tenant') {
      throw new LintelError('keyholder-anchor', 'full control is held for the whole organisation, not for a part of it', {});
    }
    const end = beyondFrom(giver, assignment);
    if (end === undefined) continue;
    const place = anchorWords(assignment.anchor) ?? 'the whole organisation';
    const why =
      end === giver.moments[0]
        ? `it holds more than you do. Ask ${aKeyholder(charter)} of ${facts.tenant.name}.`
        : `what you hold of it ends at ${momentWords(end)}. Give it until then at most.`;
    throw new LintelError('beyond-power', `You cannot give the role “${label}” for ${place}: ${why}`, { role: assignment.role });
  }
}

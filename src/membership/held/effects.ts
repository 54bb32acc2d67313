import { entryOf } from '../../base/index.js';
import { charterOf, type Grant, grantsOf, wayWords } from '../../standing/index.js';
import { belowOf } from './giving.js';
import { listMark } from './lists.js';
import { ownersOf, placedBelow, type Reading, turnsOn } from './power.js';

/** How one permission of one person differs after a change. */
export interface PersonChange {
  readonly permission: string;
  readonly was: readonly string[];
  readonly becomes: readonly string[];
  readonly gains: boolean;
  readonly loses: boolean;
  /** Everything that the reach turns on at both moments: two that are equal did the same to this person. */
  readonly exactly: string;
}

const ALL = 'all';

/** What a grant extends to for this person, exactly, whatever it is called. */
function extentOf({ charter, facts }: Reading, grant: Grant): string {
  const { kind } = charter.permission(grant.permission);
  const whole = grant.reach === (kind ? charter.widestReach(kind) : 'tenant') && !grant.only;
  if (whole && grant.anchor.on === 'tenant') return ALL;
  const on = turnsOn(charter, grant);
  const anchor = grant.anchor.on === 'unit' ? [...belowOf(facts, grant.anchor)].sort() : grant.anchor;
  return JSON.stringify([
    grant.reach,
    anchor,
    grant.path.by === 'opening' && listMark(ownersOf(facts, grant)),
    on.units && placedBelow(facts).sort(),
    on.groups && facts.me.groupIds.map((id) => [id, listMark(entryOf(facts.people, id))]).sort(),
    on.attributes.map((name) => [name, entryOf(facts.me.attributes, name)]),
  ]);
}

/** A way to a permission, and everything that it turns on. */
interface Way {
  readonly grant: Grant;
  readonly extent: string;
}

function held(reading: Reading | undefined): Map<string, Way[]> {
  const by = new Map<string, Way[]>();
  const add = (way: Way) => {
    const list = by.get(way.grant.permission);
    if (list) list.push(way);
    else by.set(way.grant.permission, [way]);
  };
  if (!reading) return by;
  for (const grant of grantsOf(reading.charter, reading.facts)) add({ grant, extent: extentOf(reading, grant) });
  for (const { of, permissions, facts } of reading.facts.standsFor ?? []) {
    const theirs = { charter: charterOf(reading.charter, facts), facts };
    for (const grant of grantsOf(theirs.charter, facts)) {
      if (!permissions.includes(grant.permission)) continue;
      const extent = extentOf(theirs, grant);
      add({ grant: { ...grant, path: { by: 'deputy', of: of.userId, name: of.name } }, extent: extent === ALL ? ALL : JSON.stringify([of.userId, extent]) });
    }
  }
  return by;
}

/** What differs in somebody's permissions between two readings. Another way to the same is no difference. */
export function changesOf(before: Reading | undefined, after: Reading | undefined): PersonChange[] {
  const [had, has] = [held(before), held(after)];
  const { charter } = (after ?? before) as Reading;
  const changes: PersonChange[] = [];
  for (const permission of charter.permissions.keys()) {
    const extents = (ways: readonly Way[] = []) => {
      const all = new Set(ways.map(({ extent }) => extent));
      return all.has(ALL) ? [ALL] : [...all].sort();
    };
    const [was, becomes] = [extents(had.get(permission)), extents(has.get(permission))];
    const gains = !was.includes(ALL) && becomes.some((one) => !was.includes(one));
    const loses = !becomes.includes(ALL) && was.some((one) => !becomes.includes(one));
    if (!gains && !loses) continue;
    const words = (ways: readonly Way[] = []) =>
      wayWords(
        ways.map(({ grant }) => grant),
        charter.permission(permission),
      );
    changes.push({
      permission,
      was: words(had.get(permission)),
      becomes: words(has.get(permission)),
      gains,
      loses,
      exactly: JSON.stringify([permission, was, becomes]),
    });
  }
  return changes;
}

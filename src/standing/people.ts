import { entryOf } from '../base/index.js';
import type { AboutPeople } from '../charter/index.js';
import { Standing } from './standing.js';

/** Of which people somebody may know: all; or themselves, those in these groups, and those placed in these units. */
export type PeopleReach = 'all' | { readonly users: readonly string[]; readonly groups: readonly string[]; readonly units: readonly string[] };

/** To which people a permission about people extends. Whoever may know of anybody may know of themselves. */
export function peopleReach(standing: Standing<any>, permission: AboutPeople): PeopleReach {
  const { me, below, view } = standing.facts;
  // Which of those whom another may know of the viewer may know too is not worked out: it takes one who may know of all.
  const bounded = view?.within && peopleReach(new Standing(standing.charter, view.within), permission) !== 'all';
  const reaches = new Set(bounded ? [] : standing.grantsFor(permission).map(({ reach }) => reach));
  if (reaches.has('tenant')) return 'all';
  return {
    users: reaches.size > 0 && me.userId !== undefined ? [me.userId] : [],
    groups: reaches.has('groups') ? me.groupIds : [],
    units: reaches.has('units') ? [...new Set(me.unitIds.flatMap((id) => entryOf(below, id) ?? [id]))] : [],
  };
}

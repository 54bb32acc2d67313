import { entryOf } from '../base/index.js';
import { type AboutPeople, HOLDERS, KEYHOLDER } from '../charter/index.js';
import { rolesIn } from './apart.js';
import { Standing } from './standing.js';

/** Of which people somebody may know: all; or themselves, those in these groups, those placed in these units, and those who hold these roles. */
export type PeopleReach =
  | 'all'
  | { readonly users: readonly string[]; readonly groups: readonly string[]; readonly units: readonly string[]; readonly roles: readonly string[] };

/** To which people a permission about people extends. Whoever may know of anybody may know of themselves. */
export function peopleReach(standing: Standing<any>, permission: AboutPeople): PeopleReach {
  const { me, below, look } = standing.facts;
  // Which of those whom another may know of the viewer may know too is not worked out: it takes one who may know of all.
  const bounded = look?.within && peopleReach(new Standing(standing.charter, look.within), permission) !== 'all';
  const reaches = new Set(bounded ? [] : standing.grantsFor(permission).map(({ reach }) => reach));
  if (reaches.has('tenant')) return 'all';
  const named = [...reaches].flatMap((reach) => (reach.startsWith(HOLDERS) ? [reach.slice(HOLDERS.length)] : []));
  const { roles } = standing.charter.data;
  return {
    users: reaches.size > 0 && me.userId !== undefined ? [me.userId] : [],
    groups: reaches.has('groups') ? me.groupIds : [],
    units: reaches.has('units') ? [...new Set(me.unitIds.flatMap((id) => entryOf(below, id) ?? [id]))] : [],
    // By whatever role they hold it.
    roles: [KEYHOLDER, ...Object.keys(roles)].flatMap((role) =>
      rolesIn(standing.charter, role).some((one) => named.includes(one)) ? [role, ...(roles[role]?.was ?? [])] : [],
    ),
  };
}

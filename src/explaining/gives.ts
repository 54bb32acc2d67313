import type { Charter } from '../charter/index.js';
import type { RoleView } from '../membership/index.js';
import { type Anchor, anchorWords, reachWord, type Standing } from '../standing/index.js';

/** A way by which a permission comes to people, and to whom it comes by it. */
export interface Giver {
  /** `role Keeper`, `given to Sela Vardy`, `opened by Juniors`, `every member`. */
  readonly by: string;
  /** How far: the reaches, in words; `all` and `yes` are the whole. */
  readonly reaches: readonly string[];
  /** Who has it by this: members, groups and units, each with where. Empty: nobody does. */
  readonly holders: readonly string[];
}

const at = (anchor: Anchor) => {
  const place = anchorWords(anchor);
  return place === undefined ? '' : ` at ${place}`;
};

/**
 * Everything that gives a permission: every role of the charter and of the tenant's own, directly or by a role that it includes, what is given to all, and what
 * is given alone or opened, with whoever has each.
 *
 * @param roles as `standing.tenant.roles()` answers them.
 * @param standings of the members: for what is given to somebody alone, or opened to them.
 */
export function giversOf(charter: Charter<any>, permission: string, roles: readonly RoleView[], standings: readonly Standing<any>[]): Giver[] {
  const about = charter.permission(permission);
  const own = Object.fromEntries(roles.filter((role) => role.own).map(({ id, holders: _, own: __, ...role }) => [id, role]));
  // A standing's charter knows what its tenant has chosen.
  const view = (standings[0]?.charter ?? charter).withRoles(own);
  const meant = (reaches: readonly string[]) => [...new Set(reaches.map((reach) => view.reachMeant(permission, reach)))];
  const byRole = roles.flatMap(({ id, label, holders }): Giver[] => {
    const reaches =
      id === 'keyholder'
        ? ['tenant']
        : meant(
            view
              .resolveRole(id)
              .grants.filter((grant) => grant.permission === permission)
              .map(({ reach }) => reach),
          );
    if (reaches.length === 0) return [];
    const named = holders.map(({ on, name, anchor, people, by }) => {
      const through = by === undefined ? '' : ` by ${view.role(by).label}`;
      return `${on === 'user' ? name : `${on} ${name} (${people})`}${at(anchor)}${through}`;
    });
    return [{ by: id === 'keyholder' ? 'full control' : `role ${label}`, reaches, holders: named }];
  });
  const toAll = (['everyMember', 'signedIn', 'visitor'] as const).flatMap((subject): Giver[] => {
    const reaches = charter.data[subject][permission];
    const words = { everyMember: 'every member', signedIn: 'whoever is signed in', visitor: 'everybody' }[subject];
    return reaches && reaches.length > 0 ? [{ by: words, reaches: meant(reaches), holders: [words] }] : [];
  });
  const alone = new Map<string, { reaches: Set<string>; holders: string[] }>();
  for (const standing of standings) {
    const ways = standing.describe().permissions.find((held) => held.permission === permission)?.ways ?? [];
    for (const { path, reach, anchor } of ways) {
      if (path.by !== 'direct' && path.by !== 'opening' && path.by !== 'deputy') continue;
      const through = 'through' in path && path.through ? ` through ${path.through.on} ${path.through.name}` : '';
      const by = path.by === 'opening' ? `opened by ${path.group}` : path.by === 'deputy' ? `standing in for ${path.name}` : 'given alone';
      const giver = alone.get(by) ?? { reaches: new Set(), holders: [] };
      giver.reaches.add(reach);
      giver.holders.push(`${standing.facts.me.name ?? standing.userId}${at(anchor)}${through}`);
      alone.set(by, giver);
    }
  }
  const all = [...byRole, ...[...alone].map(([by, { reaches, holders }]) => ({ by, reaches: [...reaches], holders })), ...toAll];
  return all.map((giver) => ({ ...giver, reaches: giver.reaches.map((reach) => reachWord(reach, about)) }));
}

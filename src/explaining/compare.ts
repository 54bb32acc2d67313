import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import { groupRecords, type RecordGroup } from '../scoping/index.js';
import { type Standing, wayWords } from '../standing/index.js';
import { pathWords } from './why.js';

/** Several side by side: what each holds where they differ, and on one kind what all reach and what only some do. */
export interface Comparison {
  readonly tenant: string;
  readonly names: readonly string[];
  /** Permissions that do not reach equally far for all, with the ways by which each comes to them. */
  readonly permissions: readonly {
    readonly permission: string;
    readonly label: string;
    readonly each: readonly { readonly ways: readonly string[]; readonly by: readonly string[] }[];
  }[];
  /** Permissions that reach equally far for all, by name. */
  readonly alike: number;
  readonly records?: { readonly action: string; readonly kind: string; readonly groups: readonly RecordGroup[] };
}

/**
 * Compares people, or others who can be asked, of one tenant: made-up holders of roles, and people as they were on a day.
 *
 * @param on an action on records: these are parted, by the database, by who reaches them by it; `some` of each part are named.
 * @throws LintelError `other-charter` where records are to be parted by rules of different charters.
 */
export async function compare(
  sides: readonly { readonly name: string; readonly standing: Standing<any> }[],
  on?: { readonly db: Kysely<any>; readonly action: string; readonly some?: number },
): Promise<Comparison> {
  const [first] = sides as [(typeof sides)[number]];
  const { charter, facts } = first.standing;
  const held = sides.map(({ standing }) => new Map(standing.describe().permissions.map((p) => [p.permission, p.ways])));
  const all = [...charter.permissions.values()].map((permission) => ({
    permission: permission.name,
    label: permission.label,
    each: held.map((of, i) => {
      const ways = of.get(permission.name) ?? [];
      const own = sides[i]?.standing.charter ?? charter;
      return { ways: wayWords(ways, permission), by: [...new Set(ways.map((way) => pathWords(own, way)))] };
    }),
  }));
  const given = all.filter(({ each }) => each.some(({ ways }) => ways.length > 0));
  const permissions = given.filter(({ each }) => new Set(each.map(({ ways }) => [...ways].sort().join())).size > 1);
  const base = { tenant: facts.tenant.name, names: sides.map(({ name }) => name), permissions, alike: given.length - permissions.length };
  const kind = on && charter.permission(on.action).kind;
  if (!on || kind === undefined) return base;
  if (sides.some(({ standing }) => standing.facts.charter !== facts.charter))
    throw new LintelError(
      'other-charter',
      'On that day another charter was in force, and its rules are about other fields. Compare what they hold, without records.',
      {},
    );
  const reaches = sides.map(({ standing }) => standing.reachOf(on.action));
  return { ...base, records: { action: on.action, kind, groups: await groupRecords(on.db, charter, kind, facts.tenant.id, reaches, on.some ?? 5) } };
}

/** `all`, `only Sela Vardy`, `nobody of them`: whose a part of the records is. */
export function whose(names: readonly string[], { reaches }: Pick<RecordGroup, 'reaches'>): string {
  const those = names.filter((_, i) => reaches[i]);
  if (those.length === names.length) return names.length === 2 ? 'both' : 'all of them';
  if (those.length === 0) return 'none of them';
  return `only ${those.join(' and ')}`;
}

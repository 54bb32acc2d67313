import type { Kysely } from 'kysely';
import { type Charter, idType } from '../charter/index.js';
import { anyOf, isShort, not, type Predicate, readEach } from '../predicate/index.js';
import { type Choice, countCrowded, groupRecords } from '../scoping/index.js';
import type { Standing } from '../standing/index.js';

/** Records that stand out, with a few of them. */
export interface Standout {
  readonly count: number;
  readonly some: readonly Choice[];
}

/** What stands out among the records of one kind. Null: it cannot be counted by a few conditions. Absent: there is no such thing, or nobody asked. */
export interface Stray {
  /** Read by nobody but keyholders. */
  readonly unread: Standout | null;
  /** Owned by somebody who is no member any more. */
  readonly left?: Standout;
  /** Read by more people than were said. */
  readonly crowded?: { readonly most: number; readonly count: number } | null;
}

/** Whom a table is about. */
export interface Members {
  /** Of those who are active. */
  readonly standings: readonly Standing<any>[];
  /** Of all, also of those who are suspended. */
  readonly ids: readonly string[];
}

const NAMED = 3;

/** Looks over the records of a kind in one tenant: the database counts, and no record is loaded but the few that are named. */
export async function strayRecords(
  db: Kysely<any>,
  charter: Charter<any>,
  kind: string,
  tenantId: string,
  { standings, ids }: Members,
  most?: number,
): Promise<Stray> {
  const others = standings.filter((standing) => !standing.isKeyholder).map((standing) => standing.reachOf(`${kind}.read`));
  const read = anyOf(others);
  const countable = isShort(read);
  const owner = charter.fieldWith(kind, 'owner');
  const left: Predicate | undefined =
    owner === undefined
      ? undefined
      : {
          op: 'and',
          of: [not({ op: 'isEmpty', field: owner }), not({ op: 'in', field: owner, to: { value: readEach(idType(charter, 'person'), ids) } })],
        };
  const asked = [...(countable ? [not(read)] : []), ...(left ? [left] : [])];
  const groups = asked.length === 0 ? [] : await groupRecords(db, charter as never, kind, tenantId, asked, NAMED);
  const standout = (i: number): Standout => {
    const those = groups.filter(({ reaches }) => reaches[i]);
    return { count: those.reduce((sum, { count }) => sum + count, 0), some: those.flatMap(({ some }) => some).slice(0, NAMED) };
  };
  const crowded = most === undefined ? undefined : await countCrowded(db, charter.shapes, kind, tenantId, others, most - (standings.length - others.length));
  return {
    unread: countable ? standout(0) : null,
    ...(left && { left: standout(asked.length - 1) }),
    ...(most !== undefined && { crowded: crowded == null ? null : { most, count: crowded } }),
  };
}

import type { Kysely } from 'kysely';
import type { Charter } from '../charter/index.js';
import { and, checkPredicate, implies, NEVER, not, type Predicate, print } from '../predicate/index.js';
import { type Choice, countRecords, fewRecords } from '../scoping/index.js';
import { type Standing, wayWords } from '../standing/index.js';

/** Somebody, or a role, as they stand before and after. */
export interface Changing {
  readonly name: string;
  /** Undefined: they were not there, or are not any more. */
  readonly before: Standing<any> | undefined;
  readonly after: Standing<any> | undefined;
}

/** One permission of one of them that is another than before. */
export interface AccessChange {
  readonly name: string;
  readonly permission: string;
  readonly was: readonly string[];
  readonly becomes: readonly string[];
  /** `grows` where anything is reached that was not: on records that there are, or that there could be where it was not counted. */
  readonly change: 'grows' | 'shrinks' | 'grows and shrinks' | 'differs on no record';
  /** Records reached now and not before, and before and not now, where they were counted. */
  readonly records: { readonly more: number; readonly fewer: number } | null;
  /** A few of these records, by id and label: for the first of those to whom the same happens, of 100 that differ. */
  readonly some?: { readonly more: readonly Choice[]; readonly fewer: readonly Choice[] };
  /** The rule as it was and as it becomes, where it is called the same and is another. */
  readonly rule?: { readonly was: string; readonly becomes: string };
}

interface Reach {
  readonly words: readonly string[];
  readonly where: Predicate;
  /** The rule as a line, the person themselves in it as “me”. */
  readonly line: string;
}

function reachOf(standing: Standing<any> | undefined, name: string): Reach {
  const permission = standing?.charter.permissions.get(name);
  if (!standing || !permission) return { words: [], where: NEVER, line: 'never' };
  const ways = standing.describe().permissions.find((held) => held.permission === name)?.ways ?? [];
  const all: Predicate = standing.may(name) ? { op: 'always' } : NEVER;
  const where = permission.kind ? standing.reachOf(name) : all;
  return { words: wayWords(ways, permission), where, line: print(where).replaceAll(`“${standing.userId}”`, 'me') };
}

interface Found {
  readonly name: string;
  readonly permission: string;
  readonly kind: string | undefined;
  readonly counted: boolean;
  readonly was: Reach;
  readonly becomes: Reach;
}

/** A rule of another release may ask for fields that this one does not have. */
const isKnown = (charter: Charter<any>, kind: string, rule: Predicate) =>
  Object.hasOwn(charter.shapes, kind) && checkPredicate(rule, kind, charter.shapes, '').length === 0;

/** Whether one reach holds anything that another does not, as far as the rules tell. What is not known counts as yes. */
function exceeds(charter: Charter<any>, kind: string | undefined, reach: Predicate, other: Predicate): boolean {
  if (reach.op === 'never') return false;
  if (other.op === 'never' || kind === undefined) return other.op === 'never';
  return !isKnown(charter, kind, reach) || !isKnown(charter, kind, other) || implies(reach, other, kind, charter.shapes).verdict !== 'yes';
}

function changeOf(charter: Charter<any>, { name, permission, kind, was, becomes }: Found, records: AccessChange['records']): AccessChange {
  const more = records ? records.more > 0 : exceeds(charter, kind, becomes.where, was.where);
  const fewer = records ? records.fewer > 0 : exceeds(charter, kind, was.where, becomes.where);
  const same = [...was.words].sort().join() === [...becomes.words].sort().join();
  return {
    name,
    permission,
    was: was.words,
    becomes: becomes.words,
    change: more && fewer ? 'grows and shrinks' : more ? 'grows' : fewer ? 'shrinks' : 'differs on no record',
    records,
    ...(same && { rule: { was: was.line, becomes: becomes.line } }),
  };
}

/** What is alike in the changes of several people. */
export const alike = ({ name: _, some: __, ...same }: AccessChange): string => JSON.stringify(same);

/** Records are named for so many changes that are unlike one another. */
const MOST_NAMED = 100;
/** Predicates that are counted in one statement. */
const TOGETHER = 40;

/**
 * What differs in the access of people, or of roles, between two charters, or two states of a membership: permission by permission, also where a reach is
 * called the same and its rule is another, or a limit came or went.
 *
 * @param on counts on the records of a tenant, and names a few of them (3, or as `some` says); without it, the rules alone are asked whether one holds what the
 * other does not.
 */
export async function accessChanges(
  charter: Charter<any>,
  all: readonly Changing[],
  on?: { readonly db: Kysely<any>; readonly tenant: string; readonly some?: number },
): Promise<AccessChange[]> {
  const found = all.flatMap(({ name, before, after }): Found[] => {
    const names = new Set([...(before?.charter.permissions.keys() ?? []), ...(after?.charter.permissions.keys() ?? [])]);
    return [...names].flatMap((permission) => {
      const [was, becomes] = [reachOf(before, permission), reachOf(after, permission)];
      if (JSON.stringify(was.where) === JSON.stringify(becomes.where)) return [];
      const kind = (after ?? before)?.charter.permissions.get(permission)?.kind;
      const counted =
        on !== undefined && kind !== undefined && !permission.endsWith('.create') && [was, becomes].every(({ where }) => isKnown(charter, kind, where));
      return [{ name, permission, kind, counted, was, becomes }];
    });
  });
  const records = new Map<Found, { more: number; fewer: number }>();
  for (const kind of new Set(found.flatMap((one) => (one.counted ? [one.kind as string] : [])))) {
    const here = found.filter((one) => one.counted && one.kind === kind);
    for (let i = 0; on && i < here.length; i += TOGETHER) {
      const part = here.slice(i, i + TOGETHER);
      const asked = part.flatMap(({ was, becomes }) => [and(becomes.where, not(was.where)), and(was.where, not(becomes.where))]);
      const { counts } = await countRecords(on.db, charter.shapes, kind, on.tenant, asked);
      for (const [k, one] of part.entries()) records.set(one, { more: counts[2 * k] as number, fewer: counts[2 * k + 1] as number });
    }
  }
  const changes = found.map((one) => changeOf(charter, one, records.get(one) ?? null));
  const firsts = new Map(changes.map((change, i) => [alike(change), i] as const).reverse());
  const named = new Map<number, AccessChange['some']>();
  for (const i of on ? [...firsts.values()].sort((a, b) => a - b).slice(0, MOST_NAMED) : []) {
    const { kind, was, becomes } = found[i] as Found;
    const { more, fewer } = changes[i]?.records ?? { more: 0, fewer: 0 };
    const few = async (count: number, one: Reach, other: Reach) =>
      count === 0 || !on ? [] : fewRecords(on.db, charter, kind as string, on.tenant, and(one.where, not(other.where)), on.some ?? 3);
    if (more + fewer > 0) named.set(i, { more: await few(more, becomes, was), fewer: await few(fewer, was, becomes) });
  }
  return changes.map((change, i) => ({ ...change, ...(named.has(i) && { some: named.get(i) }) }) as AccessChange);
}

import type { ValueType } from '../../predicate/index.js';

/** `value`: a parameter, which takes the type of what it meets; `unknown`: not ours to tell. */
export type StaticType = ValueType | 'value' | 'unknown';

/** What is known of an expression before it is asked: its type, and whether it can fail. */
export interface Static {
  readonly type: StaticType;
  /** It fails on no row, whatever stands there: a failure tells what a row holds, also of rows that are not shown. */
  readonly total: boolean;
  /**
   * Whose collation a text has: that of ids, which are all in one, or of one column. Two of different columns may not compare, which is found out row by row.
   * Absent for what has none yet, such as a parameter.
   */
  readonly collation?: string;
  /** How many columns are joined together in a text: their sizes add up to what a database can hold at most. */
  readonly joined?: number;
  /** What each part of a tuple is. */
  readonly of?: readonly Static[];
}

/** The collation of every id: the check of the schema insists that it is one. */
export const IDS = 'ids';
/** Texts of two columns met: their collations may be two. */
export const MIXED = 'mixed';

/** So many columns may be joined in one text: each holds less than a gigabyte divided by it. */
const MAX_JOINED = 16;

/** One type for several expressions of which each may be the result. Undefined where they have none. */
export function commonType(all: readonly Static[]): StaticType | undefined {
  let common: StaticType = 'value';
  for (const { type } of all) {
    if (type === 'value' || type === common) continue;
    const areNumbers = (type === 'integer' || type === 'decimal') && (common === 'integer' || common === 'decimal');
    if (common !== 'value' && !areNumbers) return undefined;
    common = common === 'value' ? type : 'decimal';
  }
  return common;
}

export function commonCollation(all: readonly Static[]): string | undefined {
  let common: string | undefined;
  for (const { collation } of all) common = collation === undefined || collation === common ? common : common === undefined ? collation : MIXED;
  return common;
}

export const joinedBy = (all: readonly Static[]) => all.reduce((sum, { type, joined }) => sum + (joined ?? (type === 'value' ? 0 : 1)), 0);

/** One of these, whichever it is. */
export function anyOf(all: readonly Static[]): Static {
  const type = commonType(all);
  const collation = commonCollation(all);
  const joined = Math.max(0, ...all.map((one) => one.joined ?? 0));
  return {
    type: type ?? 'unknown',
    total: type !== undefined && all.every(({ total }) => total),
    ...(collation !== undefined && { collation }),
    ...(joined > 0 && { joined }),
  };
}

/** These can be compared with each other without failing: of one type, and, where that is text, in one collation. */
export function comparesTotally(all: readonly Static[]): boolean {
  const [first] = all;
  if (first?.of) {
    const { length } = first.of;
    return (
      all.every(({ of }) => of?.length === length) && first.of.every((_, i) => comparesTotally(all.map(({ of }) => (of as readonly Static[])[i] as Static)))
    );
  }
  const type = commonType(all);
  // guard mixed-collations-partial by queries: Texts of two collations would be compared on hidden rows.
  return type !== undefined && type !== 'unknown' && /* guard mixed-collations-partial */ commonCollation(all) !== MIXED && all.every(({ total }) => total);
}

/** Texts joined into one cannot become too long for the database. */
export const joinsTotally = (all: readonly Static[]) => all.every(({ total, type }) => total && type !== 'unknown') && joinedBy(all) <= MAX_JOINED;

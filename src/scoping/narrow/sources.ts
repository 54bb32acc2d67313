import { didYouMean, LintelError } from '../../base/index.js';
import type { Static } from '../language/static.js';
import type { FreshNode } from '../read/node.js';

/** The column by which a table that stands for another says that a row of it is in reach. */
export const OK = 'lintel_ok';

/** A table of the charter in a query: what stands for it is known when all of the query was seen. */
export interface Place {
  readonly kind: string;
  /** Where it stands in the query. */
  readonly node: FreshNode;
  /** Columns of it that the query names, also those that it may only mean. */
  readonly used: Set<string>;
}

/** What a query names things of, under an alias. */
export interface Source {
  readonly alias: string;
  /** Its columns by name. Absent for a table that everybody reads whole, of which nothing is known. */
  readonly columns: ReadonlyMap<string, Static> | undefined;
  readonly place?: Place;
  /** The query that it is made of: one in its place, or before it under a name. */
  readonly query?: Query;
  /** Says of its row that it is in reach, where it has no column for that. */
  readonly inReach?: () => FreshNode;
  /** Is told of each column that is named. */
  readonly onNamed?: (column: string) => void;
  /** Asked for all of its columns, whatever they are. */
  starred?: boolean;
  /** Something that can fail is asked of its rows. */
  guarded?: boolean;
}

/** A column of a select. It has no name of ours where the query gives it none. */
export interface Given {
  readonly name: string | undefined;
  readonly is: Static;
}

/** A select that was looked through. */
export interface Query {
  readonly node: FreshNode;
  readonly level: Level;
  /** What it gives, column by column. Absent where that is not known. */
  gives?: readonly Given[];
  /** Its rows are groups. */
  readonly grouped: boolean;
  /** Those that it is united with. */
  readonly branches: Query[];
  /** Nothing in it can fail. */
  total: boolean;
  /** The names of its columns, where they stand before it. */
  listed?: FreshNode[];
  /** It has to say of its rows that they are in reach. */
  guarded?: boolean;
}

/** The columns of a query by their names, where all have one. */
export function columnsOf(gives: readonly Given[] | undefined): ReadonlyMap<string, Static> | undefined {
  const columns = new Map<string, Static>();
  for (const { name, is } of gives ?? []) if (name !== undefined) columns.set(name, is);
  return gives && columns.size === gives.length ? columns : undefined;
}

/** Queries before this place that can be seen by name. */
export interface Named {
  readonly queries: Map<string, Query | undefined>;
  readonly outer: Named | undefined;
}

/** One select: what it reads of, and the one around it. */
export interface Level {
  readonly sources: Source[];
  readonly outer: Level | undefined;
  readonly named: Named | undefined;
}

export function queryNamed(name: string, named: Named | undefined): { readonly query: Query | undefined } | undefined {
  for (let at = named; at; at = at.outer) if (at.queries.has(name)) return { query: at.queries.get(name) };
  return undefined;
}

const UNKNOWN: Static = { type: 'unknown', total: true };

/** What a name means at a level: of which sources it may be a column, and what is known of it. */
export interface Meaning {
  readonly sources: readonly Source[];
  readonly is: Static;
}

/**
 * Finds what a column is of, from the inside out, as a database does. Where a table stands whose columns we do not know all, it may be of that one or of one further
 * out: then it is both.
 *
 * @throws LintelError `unknown-column` with the near match.
 */
export function meaningOf(table: string | undefined, column: string, level: Level): Meaning {
  const sources: Source[] = [];
  for (let at: Level | undefined = level; at; at = at.outer) {
    let is: Static | undefined;
    let [isHere, isCertain] = [false, true];
    for (const source of at.sources) {
      if (table !== undefined && source.alias !== table) continue;
      const found = source.columns?.get(column);
      isHere = true;
      isCertain &&= source.columns !== undefined;
      // A column that the charter does not declare may be there all the same: what stands for the table then has only those that it does.
      // guard undeclared-column-hidden by queries: A column that the charter does not declare could be named beside an open table.
      if (!found) source.place?.used.add(column);
      if (source.columns && !found) continue;
      source.place?.used.add(column);
      source.onNamed?.(column);
      sources.push(source);
      is = is === undefined && found ? found : UNKNOWN;
    }
    if (is && isCertain) return { sources, is: sources.length === 1 ? is : UNKNOWN };
    if (table !== undefined && isHere) break;
  }
  if (sources.length > 0) {
    // It may be a column of a table that is written to, which stands as it is.
    for (let at: Level | undefined = level; at; at = at.outer) for (const source of at.sources) if (table === undefined) source.onNamed?.(column);
    return { sources, is: UNKNOWN };
  }
  throw unknownColumn(table, column, level);
}

function unknownColumn(table: string | undefined, column: string, level: Level): LintelError {
  const known: string[] = [];
  for (let at: Level | undefined = level; at; at = at.outer)
    for (const { alias, columns } of at.sources) if (table === undefined || alias === table) known.push(...(columns?.keys() ?? []));
  return new LintelError('unknown-column', `there is no column "${table === undefined ? '' : `${table}.`}${column}" here${didYouMean(column, known)}`, {
    column,
  });
}

/** Something that can fail is asked of a source: its rows have to say that they are in reach. */
export function guard(source: Source): void {
  if (source.guarded) return;
  source.guarded = true;
  if (source.starred && !source.columns) {
    throw new LintelError(
      'scope-refused',
      `all columns of "${source.alias}" cannot be used through scope beside something that can fail; name the columns`,
      {},
    );
  }
  if (source.query) guardQuery(source.query);
}

function guardQuery(query: Query): void {
  if (query.guarded) return;
  query.guarded = true;
  if (!query.grouped) for (const source of query.level.sources) guard(source);
  for (const branch of query.branches) guardQuery(branch);
}

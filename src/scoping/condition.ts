import type { Boundary } from './boundary.js';

/** A condition for a query that another builder makes, or that is written by hand. */
export interface SqlCondition {
  /** With `$1`, `$2`, ... (SQLite, MariaDB: `?`) where the values go. */
  readonly text: string;
  readonly values: readonly unknown[];
  /** The same through the template tag of another builder, such as the `sql` of Drizzle: what comes back goes into its `where`. */
  tag<T>(sql: SqlTag<T>): T;
}

/** What is used of a builder's template tag. `param` marks a list as one value. */
export interface SqlTag<T> {
  (strings: TemplateStringsArray, ...values: any[]): T;
  readonly param?: (value: any) => unknown;
}

/** @param first number of the first placeholder, for a condition that follows others. */
export function sqlCondition(boundary: Boundary, kind: string, action: string, alias: string, first: number): SqlCondition {
  const { writer } = boundary;
  const reached = boundary.reached(kind, action, alias);
  const texts = reached.texts.map((text) => writer.spelled(text));
  // A copy: what a caller does to a list in it changes nothing of the standing.
  const values = Object.freeze(reached.values.map((value) => (Array.isArray(value) ? Object.freeze([...value]) : value)));
  return {
    text: writer.spelled(reached.toText((_value, i) => writer.placeholder(first + i))),
    values,
    tag: (sql) => sql(Object.assign([...texts], { raw: [...texts] }), ...values.map((value) => (Array.isArray(value) && sql.param ? sql.param(value) : value))),
  };
}

import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { refuse } from '../read/refuse.js';
import type { Met, UpsertSteps } from './steps.js';
import type { Target } from './target.js';

/** Rows that are given to an insert, by cell. */
export interface Listed {
  readonly text: Fragment;
  readonly fields: readonly string[];
  readonly rows: readonly (readonly Fragment[])[];
  /** The insert of some of them. */
  readonly some: (numbers: readonly number[]) => Fragment;
}

/** What happens to rows that are there already. */
export interface Conflict {
  /** Absent: nothing. */
  readonly change?: {
    readonly sets: Fragment;
    /** Which of them it is done to: as the statement asks, and as far as the writer reaches. */
    readonly where: Fragment;
    readonly within: Fragment;
  };
}

/** What the given rows are called, as it is in standard upserts. */
const GIVEN = 'excluded';

/**
 * An upsert for a database whose own looks at no condition: the rows that are there are found and locked, the others made, and those within reach changed.
 *
 * @param meets for each given row, the condition under which one that is there is it.
 * @throws LintelError `scope-refused` for what comes out of a select.
 */
export function upsertSteps(target: Target, made: Listed | { readonly text: Fragment }, meets: readonly Fragment[], { change }: Conflict): UpsertSteps {
  if (!('rows' in made)) refuse('an upsert out of a select', 'read first, and give the rows');
  const { alias, table, shape } = target;
  const { writer } = target.boundary;
  const idShape = target.shapeOf(shape.idField);
  const id = name(alias, idShape.column);
  const columns = made.fields.map((field) => name(target.columnOf(field)));
  const given = (numbers: readonly number[]) =>
    joinFragments(
      numbers.map((number) => {
        const cells = (made.rows[number] as readonly Fragment[]).map((cell, i) => sqlText`${isUnset(cell) ? verbatim('null') : cell} as ${columns[i]}`);
        return sqlText`select ${joinFragments([sqlText`${number} as "lintelgiven"`, ...cells], ', ')}`;
      }),
      ' union all ',
    );
  const any = (parts: readonly Fragment[]) => (parts.length === 0 ? verbatim('false') : sqlText`(${joinFragments(parts, ' or ')})`);
  const isOf = (number: number, there: Fragment) => sqlText`(${name(GIVEN, 'lintelgiven')} = ${number} and ${there})`;
  const all = made.rows.map((_, i) => i);
  const is = any(meets.map((there, i) => isOf(i, there)));
  const ok = change ? sqlText`(${change.where}) is true` : verbatim('false');
  const met = sqlText`select ${id} as "lintelid", ${name(GIVEN, 'lintelgiven')} as "lintelgiven", ${ok} as "lintelok" from ${table} as ${name(alias)} join (${given(all)}) as ${name(GIVEN)} on ${is} where ${any(meets)}${writer.lock(alias)}`;
  return {
    given: all.length,
    met: met.toNode(),
    insert: (numbers) => sqlText`${made.some(numbers)} returning ${name(idShape.column)} as "lintelid"`.toNode(),
    ...(change && {
      change: (some: readonly Met[]) => {
        const pairs = some.map(({ lintelid, lintelgiven }) => isOf(Number(lintelgiven), writer.writeList(id, [lintelid], idShape)));
        const ids = some.map(({ lintelid }) => lintelid);
        return sqlText`update ${table} as ${name(alias)} join (${given(some.map(({ lintelgiven }) => Number(lintelgiven)))}) as ${name(GIVEN)} on ${any(pairs)} set ${change.sets} where ${writer.writeList(id, ids, idShape)} and ${change.within}`.toNode();
      },
    }),
  };
}

const isUnset = (cell: Fragment) => cell.values.length === 0 && cell.texts[0] === 'default';

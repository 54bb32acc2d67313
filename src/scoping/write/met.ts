import type { InsertQueryNode } from 'kysely';
import { readValue } from '../../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { BEFORE } from '../journal/put.js';
import { refuse } from '../read/refuse.js';
import type { AfterCheck } from './checks.js';
import { fitting } from './fitting.js';
import { constant } from './needs.js';
import { cellsBeside, rowsOf, stampsFor } from './rows.js';
import { type Target, WRITTEN } from './target.js';

/** A column of what an upsert wrote: the row was there already. */
export const MET = 'lintelmet';

/** A row that was there already and was not read before: somebody made it since this statement began. */
export function metBefore(target: Target): AfterCheck {
  const id = target.columnOf(target.shape.idField);
  return {
    sign: `again ${target.kind}`,
    holds: sqlText`not ${name(WRITTEN, MET)} or exists (select 1 from ${name(BEFORE)} as "lintel_was" where ${name('lintel_was', id)} = ${name(WRITTEN, id)})`,
  };
}

/** For each row that an upsert would make, the condition under which one that is there is it: what they are found by has to be given. @param where of the upsert, for its refusal. */
export function meets(target: Target, node: InsertQueryNode, given: readonly string[], where: string): Fragment[] {
  const columns = (node.onConflict?.columns ?? []).map((column) => target.fieldOf(column));
  const instead = 'give the values of its columns in each row, or read first and then insert or update';
  if (columns.length === 0) refuse(`an upsert ${where}, by a constraint`, 'name its columns: onConflict((oc) => oc.columns([...]))');
  if (node.values?.kind === 'SelectQueryNode') refuse(`an upsert out of a select ${where}`, instead);
  const stamps = stampsFor(target, given);
  const { fields, cells } = cellsBeside(target, rowsOf(target, node), given, stamps);
  const { boundary, alias } = target;
  return cells.map((row) => {
    const values = columns.map((field): Fragment => {
      const at = fields.indexOf(field);
      const value = at < 0 ? stamps[field] : constant(row[at]);
      if (value === undefined) refuse(`a value of ${field} in an upsert ${where} that is not plain`, instead);
      const shape = target.shapeOf(field);
      const plain = readValue(shape.type, at < 0 ? value : fitting(target, field, value), shape.scale) ?? null;
      return boundary.writer.equals(name(alias, target.columnOf(field)), plain, shape);
    });
    return sqlText`(${joinFragments(values, ' and ')})`;
  });
}

/** The rows of the tenant that are there already of those that an upsert would make. */
export function metRows(target: Target, node: InsertQueryNode, given: readonly string[]): Fragment {
  const each = meets(target, node, given, `into ${target.kind}, which has a journal`);
  return sqlText`${target.boundary.tenant(target.kind, target.alias)} and (${each.length === 0 ? verbatim('false') : joinFragments(each, ' or ')})`;
}

import { ColumnNode, type OperationNode, ReferenceNode, SelectAllNode } from 'kysely';
import { didYouMean, LintelError } from '../base/index.js';
import { refuse } from './allowed.js';
import type { Boundary } from './boundary.js';

/** The table that a write is made to. */
export interface Target {
  readonly kind: string;
  /** What the statement calls it. */
  readonly alias: string;
}

/** The field that a column of the target holds. @throws LintelError `unknown-column` with the near match. */
export function fieldOf(node: OperationNode, target: Target, boundary: Boundary): string {
  const column = ReferenceNode.is(node) ? node.column : node;
  const wanted = ColumnNode.is(column) ? column.column.name : '';
  const fields = boundary.columnFields(target.kind);
  const found = fields.find(([, shape]) => shape.column === wanted);
  if (found) return found[0];
  const near = didYouMean(
    wanted,
    fields.map(([, shape]) => shape.column),
  );
  throw new LintelError('unknown-column', `${target.kind} has no field for the column "${wanted}"${near}`, { column: wanted });
}

/**
 * In a write the table stands as it is, with columns that a select would not show. So each column of it that is mentioned must
 * be a declared field which this standing may read on every row.
 */
export function insistOnVisible(node: unknown, target: Target, boundary: Boundary, upsert: boolean, nested = false): void {
  if (typeof node !== 'object' || node === null) return;
  const { kind } = node as OperationNode;
  if (kind === 'ReferenceNode' || kind === 'ColumnNode') return insistOnColumn(node as ReferenceNode | ColumnNode, target, boundary, upsert, nested);
  for (const value of Object.values(node)) insistOnVisible(value, target, boundary, upsert, nested || kind === 'SelectQueryNode');
}

function insistOnColumn(node: ReferenceNode | ColumnNode, target: Target, boundary: Boundary, upsert: boolean, nested: boolean): void {
  const table = node.kind === 'ReferenceNode' ? node.table?.table.identifier.name : undefined;
  // What an upsert was about to insert is the writer's own.
  if (upsert && table === 'excluded') return;
  if (table !== undefined && table !== target.alias) {
    if (!nested) refuse(`the table "${table}" in a write to "${target.alias}"`, 'put it into a subquery');
    return;
  }
  // A name without its table, inside a subquery, could be one of the target's: then it is held to the same rule.
  const column = node.kind === 'ReferenceNode' ? node.column : node;
  if (nested && table === undefined && SelectAllNode.is(column)) return;
  const field = fieldOf(column, target, boundary);
  if (boundary.shows(target.kind, field, target.alias))
    refuse(`${field} of ${target.kind} in a write`, 'it is hidden from you on some records; name the records by other fields');
}

import type { InsertQueryNode, OperationNode, PrimitiveValueListNode, ValueListNode, ValuesNode } from 'kysely';
import { LintelError } from '../../base/index.js';
import { readValue } from '../../predicate/index.js';
import type { FreshNode } from '../read/node.js';
import { refuse } from '../read/refuse.js';
import { constant } from './needs.js';
import type { Target } from './target.js';

const isLeftOut = (cell: OperationNode | undefined) => cell?.kind === 'DefaultInsertValueNode';
const valueNode = (value: unknown) => ({ kind: 'ValueNode', value }) as FreshNode as unknown as OperationNode;

/** Tenant and maker as they must be, and the writer as owner where none is named. */
export function stampsFor(target: Target, given: readonly string[]): Record<string, unknown> {
  const tenantId = target.boundary.standing.facts.tenant.id;
  const stamps: Record<string, unknown> = {};
  for (const [field, { role, type }] of Object.entries(target.fields)) {
    if (role === 'tenant') stamps[field] = readValue(type, tenantId) ?? null;
    if (role === 'maker' || (role === 'owner' && !given.includes(field))) stamps[field] = target.meIn(field);
  }
  return stamps;
}

export function refuseStamped(target: Target, field: string): never {
  throw new LintelError('field-set-by-library', `${field} of a ${target.kind} is set by the library to what it must be; leave it out of the insert`, { field });
}

export const givenFields = (target: Target, node: InsertQueryNode) => (node.columns ?? []).map((column) => target.fieldOf(column));

/** The cells of each row that is inserted, one for each column that is named. None for an insert from a select. */
export function rowsOf(target: Target, node: InsertQueryNode): OperationNode[][] {
  if (node.values?.kind !== 'ValuesNode') return [];
  const given = givenFields(target, node);
  const owner = given.findIndex((field) => target.fields[field]?.role === 'owner');
  return (node.values as ValuesNode).values.map((row) => {
    const cells = row.kind === 'PrimitiveValueListNode' ? (row as PrimitiveValueListNode).values.map(valueNode) : [...(row as ValueListNode).values];
    if (cells.length !== given.length) refuse(`a row of ${cells.length} values for ${given.length} columns`, 'give a value for each');
    // One of several rows that names no owner is the writer's, as it would be alone.
    return cells.map((cell, i) => (i === owner && isLeftOut(cell) ? valueNode(target.meIn(given[owner] as string)) : cell));
  });
}

/** What is given of each row besides the stamps: undefined for a cell that is left out. A stamp may be given as what it is. */
export function cellsBeside(
  target: Target,
  rows: readonly OperationNode[][],
  given: readonly string[],
  stamps: Readonly<Record<string, unknown>>,
): { readonly fields: readonly string[]; readonly cells: (OperationNode | undefined)[][] } {
  const kept = given.flatMap((field, i) => (Object.hasOwn(stamps, field) ? [] : [{ field, i }]));
  const cells = rows.map((row) => {
    given.forEach((field, i) => {
      if (!Object.hasOwn(stamps, field) || isLeftOut(row[i])) return;
      const value = constant(row[i]);
      const isStamp = value === stamps[field] || readValue(target.shapeOf(field).type, value) === stamps[field];
      if (!isStamp) refuseStamped(target, field);
    });
    return kept.map(({ i }) => (isLeftOut(row[i]) ? undefined : row[i]));
  });
  return { fields: kept.map(({ field }) => field), cells };
}

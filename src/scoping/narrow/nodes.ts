import type { FreshNode } from '../read/node.js';
import { OK, type Source } from './sources.js';

export const identifier = (name: string): FreshNode => ({ kind: 'IdentifierNode', name });
export const table = (alias: string): FreshNode => ({ kind: 'TableNode', table: { kind: 'SchemableIdentifierNode', identifier: identifier(alias) } });
export const column = (alias: string, name: string): FreshNode => ({
  kind: 'ReferenceNode',
  table: table(alias),
  column: { kind: 'ColumnNode', column: identifier(name) },
});
export const selection = (selected: FreshNode): FreshNode => ({ kind: 'SelectionNode', selection: selected });
export const named = (node: FreshNode, name: string): FreshNode => ({ kind: 'AliasNode', node, alias: identifier(name) });

const written = (value: unknown): FreshNode => ({ kind: 'ValueNode', value, immediate: true });
const operation = (left: FreshNode, operator: string, right: FreshNode): FreshNode => ({
  kind: 'BinaryOperationNode',
  leftOperand: left,
  operator: { kind: 'OperatorNode', operator },
  rightOperand: right,
});

/** Text of ours with nodes in between. */
export const text = (sqlFragments: readonly string[], parameters: readonly unknown[]): FreshNode => ({ kind: 'RawNode', sqlFragments, parameters });

export function allOf(conditions: readonly FreshNode[]): FreshNode {
  return text(['(', ...conditions.slice(1).map(() => ') and ('), ')'], conditions);
}

/** Asked of rows in reach alone: of others, a database does not come to what stands behind it. */
export function onlyIf(condition: FreshNode, node: FreshNode): FreshNode {
  return { kind: 'CaseNode', when: [{ kind: 'WhenNode', condition, result: node }] };
}

/** True of every group, and not to be worked out before there are groups. */
export const ofGroups = (): FreshNode => operation({ kind: 'AggregateFunctionNode', func: 'count', aggregated: [{ kind: 'SelectAllNode' }] }, '>=', written(0));

/** The row of a source is in reach, or there is none in its place. */
export function inReach(source: Source): FreshNode | undefined {
  if (source.inReach) return source.inReach();
  // guard derived-table-barrier by queries: A condition over a derived table would be asked of hidden rows.
  return source.place || /* guard derived-table-barrier */ source.query ? operation(column(source.alias, OK), 'is not', written(false)) : undefined;
}

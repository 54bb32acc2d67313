import type { RootOperationNode } from 'kysely';
import { type FreshNode, type Given, insistOnOnly, listOf, maybe, maybeListOf, name, oneOf, place, type Rule, refuseNode, word } from './node.js';
import { refuse } from './refuse.js';
import { copyValue } from './value.js';

/*
 * Which nodes may stand where, in a query that goes through scope: each rule makes a node of ours from one that was handed over, part by part, each of a sort of
 * place. Nothing that is not derived from this is compiled.
 */

const inParens = (node: FreshNode): FreshNode => ({ kind: 'ParensNode', node });
/** These hold together less than what stands in them: what is printed without marks would be another tree. */
const LOOSE = new Set(['BinaryOperationNode', 'UnaryOperationNode', 'AndNode', 'OrNode']);
const apart = (node: FreshNode): FreshNode => (LOOSE.has(node.kind) ? inParens(node) : node);

const NAME = { IdentifierNode: (n: Given) => ({ kind: 'IdentifierNode', name: name(n.name) }) };
// guard name-is-no-sql by queries: Raw SQL could stand as a name.
const named = place('name', () => /* guard name-is-no-sql (replaced) */ NAME);
const ALL: Rule = () => ({ kind: 'SelectAllNode' });
const COLUMN: Rule = (n, d) => ({ kind: 'ColumnNode', column: named(n.column, d) });
const column = place('column', () => ({ ColumnNode: COLUMN }));
const columnOrAll = place('column', () => ({ ColumnNode: COLUMN, SelectAllNode: ALL }));
const path = place('name', () => ({
  SchemableIdentifierNode: (n, d) => ({ kind: 'SchemableIdentifierNode', schema: maybe(n.schema, named, d), identifier: named(n.identifier, d) }),
}));
const TABLE: Rule = (n, d) => ({ kind: 'TableNode', table: path(n.table, d) });
const table = place('table', () => ({ TableNode: TABLE }));
const REFERENCE: Rule = (n, d) => ({ kind: 'ReferenceNode', column: column(n.column, d), table: maybe(n.table, table, d) });
const REFERENCE_OR_ALL: Rule = (n, d) => ({ kind: 'ReferenceNode', column: columnOrAll(n.column, d), table: maybe(n.table, table, d) });

/** A piece of raw SQL that is one of a few words, which the builder writes so. */
const rawWord =
  (...words: string[]): Rule =>
  (n) => {
    const [text, ...more] = listOf(n.sqlFragments, (one) => one);
    return more.length === 0 && words.includes(text as string) ? { kind: 'RawNode', sqlFragments: [text], parameters: [] } : refuseNode('RawNode', '');
  };

/** What is written out is a number, or a word; text is a parameter always, however a session reads what stands in quotes. */
const VALUE: Rule = (n) => {
  const value = copyValue(n.value);
  const immediate = n.immediate === true && (value === null || ['boolean', 'number', 'bigint'].includes(typeof value));
  if (immediate && typeof value === 'number' && !Number.isFinite(value)) refuse(`the number ${value}`, 'write a finite one');
  return { kind: 'ValueNode', value, immediate };
};

const AGGREGATE_PARTS = new Set(['kind', 'func', 'aggregated', 'distinct', 'orderBy', 'filter', 'over']);
const SELECT_PARTS = new Set([
  ...['kind', 'from', 'selections', 'distinctOn', 'joins', 'groupBy', 'orderBy', 'where', 'frontModifiers', 'limit', 'offset', 'with', 'having'],
  'setOperations',
]);
const SELECT: Rule = (n, d) => {
  insistOnOnly(n, 'a select', SELECT_PARTS);
  return {
    kind: 'SelectQueryNode',
    with: maybe(n.with, withQueries, d),
    frontModifiers: maybeListOf(n.frontModifiers, distinct, d),
    distinctOn: maybeListOf(n.distinctOn, expression, d),
    selections: maybeListOf(n.selections, selection, d),
    from: maybe(n.from, from, d),
    joins: maybeListOf(n.joins, join, d),
    where: maybe(n.where, where, d),
    groupBy: maybe(n.groupBy, groups, d),
    having: maybe(n.having, having, d),
    setOperations: maybeListOf(n.setOperations, united, d),
    orderBy: maybe(n.orderBy, orders, d),
    limit: maybe(n.limit, limit, d),
    offset: maybe(n.offset, offset, d),
  };
};
const EXPRESSION: Readonly<Record<string, Rule>> = {
  ReferenceNode: REFERENCE,
  ColumnNode: COLUMN,
  ValueNode: VALUE,
  FunctionNode: (n, d) => ({ kind: 'FunctionNode', func: word(n.func), arguments: listOf(n.arguments, expression, d) }),
  AggregateFunctionNode: (n, d) => {
    insistOnOnly(n, 'an aggregate', AGGREGATE_PARTS);
    return {
      kind: 'AggregateFunctionNode',
      func: word(n.func),
      aggregated: listOf(n.aggregated, aggregated, d),
      distinct: n.distinct === true,
      orderBy: maybe(n.orderBy, orders, d),
      filter: maybe(n.filter, where, d),
      over: maybe(n.over, over, d),
    };
  },
  BinaryOperationNode: (n, d) => {
    const operation = operator(n.operator, d);
    const right = rightSide(n.rightOperand, d);
    const isBetween = (operation.operator as string).startsWith('between');
    if (isBetween && right.kind !== 'AndNode') refuse('a between without two bounds', 'write eb.between(field, from, to)');
    return { kind: 'BinaryOperationNode', leftOperand: operand(n.leftOperand, d), operator: operation, rightOperand: isBetween ? right : apart(right) };
  },
  UnaryOperationNode: (n, d) => ({ kind: 'UnaryOperationNode', operator: operator(n.operator, d), operand: operand(n.operand, d) }),
  AndNode: (n, d) => ({ kind: 'AndNode', left: operand(n.left, d), right: operand(n.right, d) }),
  OrNode: (n, d) => ({ kind: 'OrNode', left: operand(n.left, d), right: operand(n.right, d) }),
  ParensNode: (n, d) => ({ kind: 'ParensNode', node: expression(n.node, d) }),
  CaseNode: (n, d) => ({ kind: 'CaseNode', value: maybe(n.value, expression, d), when: listOf(n.when, when, d), else: maybe(n.else, expression, d) }),
  TupleNode: (n, d) => ({ kind: 'TupleNode', values: listOf(n.values, expression, d) }),
  SelectQueryNode: SELECT,
  // What the builder writes for a join on nothing.
  RawNode: rawWord('true'),
};
const VALUES: Rule = (n) => ({ kind: 'PrimitiveValueListNode', values: listOf(n.values, copyValue) });
const aliased =
  (inner: (value: unknown, depth: number) => FreshNode): Rule =>
  (n, d) => ({ kind: 'AliasNode', node: inner(n.node, d), alias: named(n.alias, d) });

// guard table-is-no-value by queries: A whole row of a table could stand as a value.
const expression = place('value', () => /* guard table-is-no-value (replaced) */ EXPRESSION);
const operand = (value: unknown, d: number) => apart(expression(value, d));
const rightSide = place('value or list', () => ({
  ...EXPRESSION,
  PrimitiveValueListNode: VALUES,
  ValueListNode: (n, d) => ({ kind: 'ValueListNode', values: listOf(n.values, expression, d) }),
}));
const operator = place('operator', () => ({ OperatorNode: (n) => ({ kind: 'OperatorNode', operator: word(n.operator) }) }));
const when = place('case', () => ({
  WhenNode: (n, d) => ({ kind: 'WhenNode', condition: expression(n.condition, d), result: maybe(n.result, expression, d) }),
}));
const aggregated = place('value', () => ({ ...EXPRESSION, SelectionNode: (n, d) => ({ kind: 'SelectionNode', selection: allOfOne(n.selection, d) }) }));
const allOfOne = place('star', () => ({ SelectAllNode: ALL, ReferenceNode: REFERENCE_OR_ALL }));
const over = place('window', () => ({
  OverNode: (n, d) => ({ kind: 'OverNode', orderBy: maybe(n.orderBy, orders, d), partitionBy: maybe(n.partitionBy, partitions, d) }),
}));
const partitions = place('partition', () => ({ PartitionByNode: (n, d) => ({ kind: 'PartitionByNode', items: listOf(n.items, partition, d) }) }));
const partition = place('partition', () => ({ PartitionByItemNode: (n, d) => ({ kind: 'PartitionByItemNode', partitionBy: expression(n.partitionBy, d) }) }));

const selection = place('selection', () => ({ SelectionNode: (n, d) => ({ kind: 'SelectionNode', selection: selected(n.selection, d) }) }));
const selected = place('selection', () => ({
  ...EXPRESSION,
  ReferenceNode: REFERENCE_OR_ALL,
  SelectAllNode: ALL,
  AliasNode: aliased(expression),
}));
const distinct = place('modifier', () => ({ SelectModifierNode: (n) => ({ kind: 'SelectModifierNode', modifier: oneOf(n.modifier, 'Distinct') }) }));
const from = place('from', () => ({ FromNode: (n, d) => ({ kind: 'FromNode', froms: listOf(n.froms, source, d) }) }));
const source = place('table', () => ({ TableNode: TABLE, AliasNode: aliased(tableOrSelect) }));
const tableOrSelect = place('table', () => ({ TableNode: TABLE, SelectQueryNode: SELECT }));
const join = place('join', () => ({
  JoinNode: (n, d) => ({
    kind: 'JoinNode',
    joinType: oneOf(n.joinType, 'InnerJoin', 'CrossJoin', 'LeftJoin', 'RightJoin', 'FullJoin'),
    table: source(n.table, d),
    on: maybe(n.on, on, d),
  }),
}));
const on = place('on', () => ({ OnNode: (n, d) => ({ kind: 'OnNode', on: expression(n.on, d) }) }));
const where = place('where', () => ({ WhereNode: (n, d) => ({ kind: 'WhereNode', where: expression(n.where, d) }) }));
const having = place('having', () => ({ HavingNode: (n, d) => ({ kind: 'HavingNode', having: expression(n.having, d) }) }));
const groups = place('group by', () => ({ GroupByNode: (n, d) => ({ kind: 'GroupByNode', items: listOf(n.items, group, d) }) }));
const group = place('group by', () => ({ GroupByItemNode: (n, d) => ({ kind: 'GroupByItemNode', groupBy: expression(n.groupBy, d) }) }));
const orders = place('order by', () => ({ OrderByNode: (n, d) => ({ kind: 'OrderByNode', items: listOf(n.items, order, d) }) }));
const order = place('order by', () => ({
  OrderByItemNode: (n, d) => ({
    kind: 'OrderByItemNode',
    orderBy: expression(n.orderBy, d),
    direction: maybe(n.direction, direction, d),
    nulls: oneOf(n.nulls, undefined, 'first', 'last'),
    collation: maybe(n.collation, collation, d),
  }),
}));
const direction = place('direction', () => ({ RawNode: rawWord('asc', 'desc') }));
const collation = place('collation', () => ({ CollateNode: (n, d) => ({ kind: 'CollateNode', collation: named(n.collation, d) }) }));
const limit = place('limit', () => ({ LimitNode: (n, d) => ({ kind: 'LimitNode', limit: count(n.limit, d) }) }));
const offset = place('offset', () => ({ OffsetNode: (n, d) => ({ kind: 'OffsetNode', offset: count(n.offset, d) }) }));
const count = place('number', () => ({ ValueNode: VALUE }));
const united = place('union', () => ({
  SetOperationNode: (n, d) => ({
    kind: 'SetOperationNode',
    operator: oneOf(n.operator, 'union', 'intersect', 'except'),
    expression: unitedSelect(n.expression, d),
    all: n.all === true,
  }),
}));
/** What would belong to the whole, if a select that is united with another were printed without marks around it. */
const TRAILING = ['with', 'orderBy', 'limit', 'offset', 'setOperations'];
const unitedSelect = (value: unknown, d: number) => {
  const node = selectInParens(value, d);
  return TRAILING.some((part) => node[part] !== undefined) ? inParens(node) : node;
};
const selectInParens = place('select', () => ({ SelectQueryNode: SELECT, ParensNode: (n, d) => ({ kind: 'ParensNode', node: select(n.node, d) }) }));
const select = place('select', () => ({ SelectQueryNode: SELECT }));
const withQueries = place('with', () => ({
  WithNode: (n, d) => ({ kind: 'WithNode', expressions: listOf(n.expressions, cte, d), recursive: n.recursive === true }),
}));
const cte = place('query', () => ({
  CommonTableExpressionNode: (n, d) => ({
    kind: 'CommonTableExpressionNode',
    name: cteName(n.name, d),
    materialized: oneOf(n.materialized, undefined, true, false),
    expression: select(n.expression, d),
  }),
}));
const cteName = place('name', () => ({
  CommonTableExpressionNameNode: (n, d) => ({ kind: 'CommonTableExpressionNameNode', table: table(n.table, d), columns: maybeListOf(n.columns, column, d) }),
}));

const INSERT_PARTS = new Set(['kind', 'into', 'columns', 'values', 'returning', 'onConflict', 'with']);
const UPDATE_PARTS = new Set(['kind', 'table', 'where', 'updates', 'returning', 'with']);
const DELETE_PARTS = new Set(['kind', 'from', 'where', 'returning', 'with']);
const statement = place('statement', () => ({
  SelectQueryNode: SELECT,
  InsertQueryNode: (n, d) => {
    insistOnOnly(n, 'an insert', INSERT_PARTS);
    return {
      kind: 'InsertQueryNode',
      with: maybe(n.with, withQueries, d),
      into: target(n.into, d),
      columns: maybeListOf(n.columns, column, d),
      values: values(n.values, d),
      onConflict: maybe(n.onConflict, onConflict, d),
      returning: maybe(n.returning, returning, d),
    };
  },
  UpdateQueryNode: (n, d) => {
    insistOnOnly(n, 'an update', UPDATE_PARTS);
    return {
      kind: 'UpdateQueryNode',
      with: maybe(n.with, withQueries, d),
      table: target(n.table, d),
      updates: maybeListOf(n.updates, update, d),
      where: maybe(n.where, where, d),
      returning: maybe(n.returning, returning, d),
    };
  },
  DeleteQueryNode: (n, d) => {
    insistOnOnly(n, 'a delete', DELETE_PARTS);
    return {
      kind: 'DeleteQueryNode',
      with: maybe(n.with, withQueries, d),
      from: fromTarget(n.from, d),
      where: maybe(n.where, where, d),
      returning: maybe(n.returning, returning, d),
    };
  },
}));
const target = place('table to write to', () => ({ TableNode: TABLE, AliasNode: aliased(table) }));
const fromTarget = place('from', () => ({ FromNode: (n, d) => ({ kind: 'FromNode', froms: listOf(n.froms, target, d) }) }));
const update = place('update', () => ({
  ColumnUpdateNode: (n, d) => ({ kind: 'ColumnUpdateNode', column: written(n.column, d), value: expression(n.value, d) }),
}));
const written = place('column', () => ({ ColumnNode: COLUMN, ReferenceNode: REFERENCE }));
const values = place('list of rows', () => ({ ValuesNode: (n, d) => ({ kind: 'ValuesNode', values: listOf(n.values, row, d) }), SelectQueryNode: SELECT }));
const row = place('row', () => ({
  PrimitiveValueListNode: VALUES,
  ValueListNode: (n, d) => ({ kind: 'ValueListNode', values: listOf(n.values, cell, d) }),
}));
const cell = place('value', () => ({ ...EXPRESSION, DefaultInsertValueNode: () => ({ kind: 'DefaultInsertValueNode' }) }));
const returning = place('returning', () => ({ ReturningNode: (n, d) => ({ kind: 'ReturningNode', selections: listOf(n.selections, selection, d) }) }));
const CONFLICT_PARTS = new Set(['kind', 'columns', 'updates', 'updateWhere', 'doNothing']);
const onConflict = place('conflict', () => ({
  OnConflictNode: (n, d) => {
    insistOnOnly(n, 'a conflict', CONFLICT_PARTS);
    return {
      kind: 'OnConflictNode',
      columns: maybeListOf(n.columns, column, d),
      updates: maybeListOf(n.updates, update, d),
      updateWhere: maybe(n.updateWhere, where, d),
      doNothing: n.doNothing === true,
    };
  },
}));

/**
 * Reads what a query builder hands over into nodes of our own, each part once, by the grammar: what is checked, narrowed and compiled
 * afterwards is this and nothing else.
 *
 * @throws LintelError `scope-refused`, `bad-value`.
 */
export function readQuery<N extends RootOperationNode>(node: N): N {
  return statement(node, 0) as never;
}

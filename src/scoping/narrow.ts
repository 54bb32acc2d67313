import {
  type AggregateFunctionNode,
  AliasNode,
  type BinaryOperationNode,
  type FunctionNode,
  IdentifierNode,
  type JoinNode,
  type OperationNode,
  OperationNodeTransformer,
  type OperatorNode,
  type OrderByItemNode,
  type QueryId,
  type RawNode,
  type ReferenceNode,
  type SelectModifierNode,
  type SelectQueryNode,
  type SetOperationNode,
  TableNode,
  type WithNode,
} from 'kysely';
import { didYouMean, LintelError } from '../base/index.js';
import type { Boundary } from './boundary.js';

/** What a narrowed query may be built of. Whatever is not listed is refused by name: the list fails closed. */
const ALLOWED_NODES = new Set<OperationNode['kind']>([
  'AggregateFunctionNode',
  'AliasNode',
  'AndNode',
  'BinaryOperationNode',
  'CaseNode',
  'CollateNode',
  'ColumnNode',
  'CommonTableExpressionNameNode',
  'CommonTableExpressionNode',
  'FromNode',
  'FunctionNode',
  'GroupByItemNode',
  'GroupByNode',
  'HavingNode',
  'IdentifierNode',
  'JoinNode',
  'LimitNode',
  'ListNode',
  'OffsetNode',
  'OnNode',
  'OperatorNode',
  'OrNode',
  'OrderByItemNode',
  'OrderByNode',
  'OverNode',
  'ParensNode',
  'PartitionByItemNode',
  'PartitionByNode',
  'PrimitiveValueListNode',
  'ReferenceNode',
  'SchemableIdentifierNode',
  'SelectAllNode',
  'SelectModifierNode',
  'SelectQueryNode',
  'SelectionNode',
  'SetOperationNode',
  'TableNode',
  'TupleNode',
  'UnaryOperationNode',
  'ValueListNode',
  'ValueNode',
  'WhenNode',
  'WhereNode',
  'WithNode',
]);

/** Functions that look at nothing but their arguments and cannot fail on them: a failure would tell what a row holds. */
const ALLOWED_FUNCTIONS = new Set(['abs', 'char_length', 'coalesce', 'concat', 'greatest', 'least', 'length', 'lower', 'nullif', 'trim', 'upper']);
const ALLOWED_AGGREGATES = new Set(['avg', 'bool_and', 'bool_or', 'count', 'dense_rank', 'max', 'min', 'rank', 'row_number', 'sum']);
const ALLOWED_OPERATORS = new Set([
  '=',
  '!=',
  '<>',
  '<',
  '<=',
  '>',
  '>=',
  'in',
  'not in',
  'is',
  'is not',
  'is distinct from',
  'is not distinct from',
  'like',
  'not like',
  'ilike',
  'not ilike',
  'between',
  'exists',
  'not exists',
  'not',
  'and',
  'or',
  '||',
]);
const ALLOWED_JOINS = new Set(['InnerJoin', 'LeftJoin', 'RightJoin', 'FullJoin', 'CrossJoin']);

/** Names longer than this are cut off by PostgreSQL, so that two different ones could become one. */
const MAX_NAME = 63;

/** The transformer passes an id on that nothing here looks at. */
const NO_QUERY: QueryId = { queryId: 'lintel' };

export function refuse(what: string, instead: string): never {
  throw new LintelError('scope-refused', `${what} cannot be used through scope; ${instead}`);
}

/**
 * Rewrites a query so that every table in it is replaced by what one standing may read of it, wherever it stands: from,
 * join, subquery, CTE or set operation.
 */
export class Narrower extends OperationNodeTransformer {
  readonly #boundary: Boundary;
  /** Names of the CTEs that can be seen at this place, innermost last. */
  readonly #visible: Set<string>[] = [];

  constructor(boundary: Boundary) {
    super();
    this.#boundary = boundary;
  }

  /** Narrows a whole query. */
  narrow<T extends OperationNode>(node: T): T {
    this.#visible.length = 0;
    return this.transformNode(node, NO_QUERY);
  }

  protected override transformNodeImpl<T extends OperationNode>(node: T, queryId: QueryId): T {
    if (!ALLOWED_NODES.has(node.kind)) {
      if (node.kind === 'RawNode') refuse('a raw SQL fragment', 'it could hold any query; say it with the query builder');
      refuse(`a ${node.kind.replace(/Node$/, '')}`, 'say it with select, join, subquery, with, insert, update or delete');
    }
    return super.transformNodeImpl(node, queryId);
  }

  protected override transformSelectQuery(node: SelectQueryNode, queryId: QueryId): SelectQueryNode {
    for (const part of ['explain', 'fetch', 'top'] as const) if (node[part]) refuse(part, 'leave it out');
    if (node.endModifiers?.length) refuse('a modifier after the query (for update and the like)', 'lock rows outside of scope');
    if (!node.with) return super.transformSelectQuery(node, queryId);
    const { with: ctes, ...rest } = node;
    const names = new Set<string>();
    this.#visible.push(names);
    const expressions = this.#transformCtes(ctes, names, queryId);
    const body = super.transformSelectQuery(rest, queryId);
    this.#visible.pop();
    return { ...body, with: { ...ctes, expressions } };
  }

  /** A CTE sees those before it; with `recursive` also itself and those after. Its name must not hide a table of the charter. */
  #transformCtes(ctes: WithNode, names: Set<string>, queryId: QueryId): WithNode['expressions'] {
    const nameOf = (cte: WithNode['expressions'][number]) => cte.name.table.table.identifier.name;
    for (const cte of ctes.expressions) {
      const own = nameOf(cte);
      if (cte.name.table.table.schema) refuse('a schema before the name of a CTE', 'name it without');
      if (this.#boundary.kindOf(own, undefined)) refuse(`a CTE named like the table "${own}"`, 'choose another name');
      if (cte.expression.kind !== 'SelectQueryNode') refuse('a CTE that is not a select', 'write outside of the query, or read inside it');
      if (ctes.recursive) names.add(own);
    }
    return ctes.expressions.map((cte) => {
      const expression = this.transformNode(cte.expression, queryId);
      names.add(nameOf(cte));
      const columns = cte.name.columns?.map((column) => this.transformNode(column, queryId));
      return { ...cte, name: { ...cte.name, ...(columns && { columns }) }, expression };
    });
  }

  protected override transformTable(node: TableNode, queryId: QueryId): TableNode {
    const { name, derived } = this.#replace(node);
    if (!derived) return super.transformTable(node, queryId);
    return AliasNode.create(derived, IdentifierNode.create(name)) as unknown as TableNode;
  }

  protected override transformAlias(node: AliasNode, queryId: QueryId): AliasNode {
    if (node.alias.kind !== 'IdentifierNode') refuse('an alias that is not a plain name', 'write .as("name")');
    const { derived } = TableNode.is(node.node) ? this.#replace(node.node) : {};
    if (!derived) return super.transformAlias(node, queryId);
    return AliasNode.create(derived, this.transformNode(node.alias, queryId));
  }

  /** What stands for a table: nothing for a CTE that is seen here, else the rows of it that may be read. */
  #replace(node: TableNode): { name: string; derived?: OperationNode } {
    const { schema, identifier } = node.table;
    const { name } = identifier;
    if (!schema && this.#visible.some((names) => names.has(name))) return { name };
    const kind = this.#boundary.kindOf(name, schema?.name);
    if (kind === undefined) {
      const known = Object.values(this.#boundary.standing.charter.shapes).map((shape) => shape.table);
      throw new LintelError(
        'unknown-table',
        `the table "${schema ? `${schema.name}.` : ''}${name}" is no kind of the charter, so scope cannot say who may see it${didYouMean(name, known)}; declare it as a kind, or query it outside of scope`,
        { table: name },
      );
    }
    return { name, derived: this.#boundary.readableNode(kind) };
  }

  /** A reference names the alias of what was put in the table's place, so a schema before it goes. */
  protected override transformReference(node: ReferenceNode, queryId: QueryId): ReferenceNode {
    const column = this.transformNode(node.column, queryId);
    if (!node.table) return { ...node, column };
    const identifier = this.transformNode(node.table.table.identifier, queryId);
    return { ...node, column, table: { kind: 'TableNode', table: { kind: 'SchemableIdentifierNode', identifier } } };
  }

  protected override transformIdentifier(node: IdentifierNode, queryId: QueryId): IdentifierNode {
    // At most three bytes for each of its UTF-16 units.
    if (node.name.length * 3 > MAX_NAME && new TextEncoder().encode(node.name).length > MAX_NAME) refuse(`a name of more than ${MAX_NAME} bytes`, 'shorten it');
    return super.transformIdentifier(node, queryId);
  }

  protected override transformJoin(node: JoinNode, queryId: QueryId): JoinNode {
    if (!ALLOWED_JOINS.has(node.joinType)) refuse(node.joinType.replace(/([a-z])([A-Z])/g, '$1 $2'), 'use inner, left, right, full or cross join');
    return super.transformJoin(node, queryId);
  }

  protected override transformFunction(node: FunctionNode, queryId: QueryId): FunctionNode {
    if (!ALLOWED_FUNCTIONS.has(node.func)) refuse(`the function "${node.func}"`, `allowed are ${[...ALLOWED_FUNCTIONS].join(', ')}`);
    return super.transformFunction(node, queryId);
  }

  protected override transformAggregateFunction(node: AggregateFunctionNode, queryId: QueryId): AggregateFunctionNode {
    if (!ALLOWED_AGGREGATES.has(node.func)) refuse(`the aggregate "${node.func}"`, `allowed are ${[...ALLOWED_AGGREGATES].join(', ')}`);
    return super.transformAggregateFunction(node, queryId);
  }

  protected override transformOperator(node: OperatorNode, queryId: QueryId): OperatorNode {
    if (!ALLOWED_OPERATORS.has(node.operator)) refuse(`the operator "${node.operator}"`, `allowed are ${[...ALLOWED_OPERATORS].join(' ')}`);
    return super.transformOperator(node, queryId);
  }

  /** A pattern that a column holds could fail on one row, and so tell what the row holds. */
  protected override transformBinaryOperation(node: BinaryOperationNode, queryId: QueryId): BinaryOperationNode {
    const operator = node.operator.kind === 'OperatorNode' ? (node.operator as OperatorNode).operator : '';
    if (operator.endsWith('like') && node.rightOperand.kind !== 'ValueNode')
      refuse(`${operator} with a pattern that is no constant`, 'give the pattern as a value');
    return super.transformBinaryOperation(node, queryId);
  }

  protected override transformSetOperation(node: SetOperationNode, queryId: QueryId): SetOperationNode {
    if (!['union', 'intersect', 'except'].includes(node.operator)) refuse(`the set operation "${node.operator}"`, 'use union, intersect or except');
    return super.transformSetOperation(node, queryId);
  }

  protected override transformSelectModifier(node: SelectModifierNode, queryId: QueryId): SelectModifierNode {
    if (node.modifier !== 'Distinct' || node.rawModifier || node.of) refuse(`the modifier ${node.modifier ?? ''}`, 'only distinct can be');
    return super.transformSelectModifier(node, queryId);
  }

  /** Kysely writes `asc` and `desc` as raw fragments: those two words are let through, by their text. */
  protected override transformOrderByItem(node: OrderByItemNode, queryId: QueryId): OrderByItemNode {
    const { direction, ...rest } = node;
    if (node.nulls !== undefined && node.nulls !== 'first' && node.nulls !== 'last') refuse('that order of empty values', 'write nullsFirst or nullsLast');
    if (direction && !isDirection(direction)) refuse('an order direction that is not asc or desc', 'write "asc" or "desc"');
    return { ...super.transformOrderByItem(rest, queryId), ...(direction && { direction }) };
  }
}

function isDirection(node: OperationNode): boolean {
  const { sqlFragments, parameters } = node as RawNode;
  return node.kind === 'RawNode' && parameters.length === 0 && sqlFragments.length === 1 && (sqlFragments[0] === 'asc' || sqlFragments[0] === 'desc');
}

import type {
  AggregateFunctionNode,
  AliasNode,
  BinaryOperationNode,
  ColumnNode,
  FunctionNode,
  IdentifierNode,
  JoinNode,
  OperationNode,
  OperatorNode,
  OrderByItemNode,
  RawNode,
  ReferenceNode,
  SelectModifierNode,
  SelectQueryNode,
  SetOperationNode,
  TableNode,
  WithNode,
} from 'kysely';
import { LintelError } from '../base/index.js';
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

export function refuse(what: string, instead: string): never {
  throw new LintelError('scope-refused', `${what} cannot be used through scope; ${instead}`);
}

/** An alias whose table is filled in once it is known which columns the query names. */
interface Replacement {
  readonly alias: { kind: 'AliasNode'; node: OperationNode; alias: OperationNode };
  readonly kind: string;
}

/**
 * Rewrites a query so that every table in it is replaced by what one standing may read of it, wherever it stands: from,
 * join, subquery, CTE or set operation. Parts without a table are passed on as they are.
 */
export class Narrower {
  readonly #boundary: Boundary;
  /** Names of the CTEs that can be seen at this place, innermost last. */
  #visible: Set<string>[] = [];
  #replaced: Replacement[] = [];
  /** The columns that the query names anywhere: others need not be in what stands for a table. */
  #used: Set<string> | 'all' = new Set();

  constructor(boundary: Boundary) {
    this.#boundary = boundary;
  }

  /** Narrows a whole query. @throws LintelError `scope-refused`, `unknown-table`. */
  narrow<T extends OperationNode>(node: T): T {
    this.#visible = [];
    this.#replaced = [];
    this.#used = new Set();
    const narrowed = this.#visit(node);
    for (const { alias, kind } of this.#replaced) alias.node = this.#boundary.readableNode(kind, this.#used);
    return narrowed;
  }

  #visit<T extends OperationNode>(node: T): T {
    if (!ALLOWED_NODES.has(node.kind)) {
      if (node.kind === 'RawNode') refuse('a raw SQL fragment', 'it could hold any query; say it with the query builder');
      refuse(`a ${String(node.kind).replace(/Node$/, '')}`, 'say it with select, join, subquery, with, insert, update or delete');
    }
    return this.#visitKind(node) as unknown as T;
  }

  #visitKind(node: OperationNode): OperationNode {
    switch (node.kind) {
      // What a value holds is data, not a part of the query.
      case 'ValueNode':
      case 'PrimitiveValueListNode':
        return node;
      case 'SelectQueryNode':
        return this.#select(node as SelectQueryNode);
      case 'TableNode':
        return this.#table(node as TableNode, undefined) ?? this.#children(node);
      case 'AliasNode':
        return this.#alias(node as AliasNode);
      case 'ReferenceNode':
        return this.#reference(node as ReferenceNode);
      case 'OrderByItemNode':
        return this.#orderByItem(node as OrderByItemNode);
      case 'SelectAllNode':
        this.#used = 'all';
        return node;
      case 'ColumnNode':
        this.#column(node as ColumnNode);
        return node;
      default:
        insistOnAllowed(node);
        return this.#children(node);
    }
  }

  /** Visits what a node is made of, and copies it only where something was replaced. */
  #children<T extends OperationNode>(node: T): T {
    let copy: T | undefined;
    for (const key in node) {
      const part: unknown = node[key];
      if (typeof part !== 'object' || part === null) continue;
      const visited = Array.isArray(part) ? this.#list(part) : this.#visit(part as OperationNode);
      if (visited === part) continue;
      copy = { ...(copy ?? node), [key]: visited };
    }
    return copy ?? node;
  }

  #list(items: readonly unknown[]): readonly unknown[] {
    let copy: unknown[] | undefined;
    for (let i = 0; i < items.length; i++) {
      const item = items[i];
      if (typeof item !== 'object' || item === null) continue;
      const visited = this.#visit(item as OperationNode);
      if (visited === item) continue;
      copy ??= [...items];
      copy[i] = visited;
    }
    return copy ?? items;
  }

  #select(node: SelectQueryNode): SelectQueryNode {
    for (const part of ['explain', 'fetch', 'top'] as const) if (node[part]) refuse(part, 'leave it out');
    if (node.endModifiers?.length) refuse('a modifier after the query (for update and the like)', 'lock rows outside of scope');
    if (!node.with) return this.#children(node);
    const { with: ctes, ...rest } = node;
    const names = new Set<string>();
    this.#visible.push(names);
    const expressions = this.#ctes(ctes, names);
    const body = this.#children(rest);
    this.#visible.pop();
    return { ...body, with: { ...ctes, expressions } };
  }

  /** A CTE sees those before it; with `recursive` also itself and those after. Its name must not hide a table of the charter. */
  #ctes(ctes: WithNode, names: Set<string>): WithNode['expressions'] {
    const nameOf = (cte: WithNode['expressions'][number]) => cte.name.table.table.identifier.name;
    for (const cte of ctes.expressions) {
      const own = nameOf(cte);
      insistOnLength(own);
      if (cte.name.table.table.schema) refuse('a schema before the name of a CTE', 'name it without');
      if (this.#boundary.kindOf(own, undefined)) refuse(`a CTE named like the table "${own}"`, 'choose another name');
      if (cte.expression.kind !== 'SelectQueryNode') refuse('a CTE that is not a select', 'write outside of the query, or read inside it');
      if (ctes.recursive) names.add(own);
    }
    return ctes.expressions.map((cte) => {
      const expression = this.#visit(cte.expression);
      names.add(nameOf(cte));
      const columns = cte.name.columns?.map((column) => this.#visit(column));
      return { ...cte, name: { ...cte.name, ...(columns && { columns }) }, expression };
    });
  }

  /** What stands for a table, under the alias it had: nothing for a CTE that is seen here, else the rows of it that may be read. */
  #table(node: TableNode, alias: OperationNode | undefined): OperationNode | undefined {
    const { schema, identifier } = node.table;
    const { name } = identifier;
    if (!schema && this.#visible.some((names) => names.has(name))) return undefined;
    const kind = this.#boundary.insistOnKind(node.table);
    const replacement: Replacement = { alias: { kind: 'AliasNode', node, alias: alias ?? identifier }, kind };
    this.#replaced.push(replacement);
    return replacement.alias;
  }

  #alias(node: AliasNode): OperationNode {
    if (node.alias.kind !== 'IdentifierNode') refuse('an alias that is not a plain name', 'write .as("name")');
    const table = node.node.kind === 'TableNode' ? this.#table(node.node as TableNode, this.#visit(node.alias)) : undefined;
    return table ?? this.#children(node);
  }

  #column(node: ColumnNode): void {
    const { name } = node.column;
    insistOnLength(name);
    if (this.#used !== 'all') this.#used.add(name);
  }

  /** A reference names the alias of what was put in the table's place, so a schema before it goes. */
  #reference(node: ReferenceNode): ReferenceNode {
    if (node.column.kind === 'ColumnNode') this.#column(node.column);
    else this.#visit(node.column);
    if (!node.table) return node;
    insistOnLength(node.table.table.identifier.name);
    const { identifier, schema } = node.table.table;
    return schema ? { ...node, table: { kind: 'TableNode', table: { kind: 'SchemableIdentifierNode', identifier } } } : node;
  }

  /** Kysely writes `asc` and `desc` as raw fragments: those two words are let through, by their text. */
  #orderByItem(node: OrderByItemNode): OrderByItemNode {
    const { direction, ...rest } = node;
    if (node.nulls !== undefined && node.nulls !== 'first' && node.nulls !== 'last') refuse('that order of empty values', 'write nullsFirst or nullsLast');
    if (direction && !isDirection(direction)) refuse('an order direction that is not asc or desc', 'write "asc" or "desc"');
    return { ...this.#children(rest), ...(direction && { direction }) };
  }
}

function insistOnLength(name: string): void {
  // At most three bytes for each of its UTF-16 units.
  if (name.length * 3 > MAX_NAME && new TextEncoder().encode(name).length > MAX_NAME) refuse(`a name of more than ${MAX_NAME} bytes`, 'shorten it');
}

/** Nodes whose text reaches the database as it is: only words from the lists pass. */
function insistOnAllowed(node: OperationNode): void {
  switch (node.kind) {
    case 'IdentifierNode':
      return insistOnLength((node as IdentifierNode).name);
    case 'JoinNode': {
      const { joinType } = node as JoinNode;
      if (!ALLOWED_JOINS.has(joinType)) refuse(joinType.replace(/([a-z])([A-Z])/g, '$1 $2'), 'use inner, left, right, full or cross join');
      return;
    }
    case 'FunctionNode': {
      const { func } = node as FunctionNode;
      if (!ALLOWED_FUNCTIONS.has(func)) refuse(`the function "${func}"`, `allowed are ${[...ALLOWED_FUNCTIONS].join(', ')}`);
      return;
    }
    case 'AggregateFunctionNode': {
      const { func } = node as AggregateFunctionNode;
      if (!ALLOWED_AGGREGATES.has(func)) refuse(`the aggregate "${func}"`, `allowed are ${[...ALLOWED_AGGREGATES].join(', ')}`);
      return;
    }
    case 'OperatorNode': {
      const { operator } = node as OperatorNode;
      if (!ALLOWED_OPERATORS.has(operator)) refuse(`the operator "${operator}"`, `allowed are ${[...ALLOWED_OPERATORS].join(' ')}`);
      return;
    }
    case 'BinaryOperationNode': {
      // A pattern that a column holds could fail on one row, and so tell what the row holds.
      const { operator, rightOperand } = node as BinaryOperationNode;
      const word = operator.kind === 'OperatorNode' ? (operator as OperatorNode).operator : '';
      if (word.endsWith('like') && rightOperand.kind !== 'ValueNode') refuse(`${word} with a pattern that is no constant`, 'give the pattern as a value');
      return;
    }
    case 'SetOperationNode': {
      const { operator } = node as SetOperationNode;
      if (!['union', 'intersect', 'except'].includes(operator)) refuse(`the set operation "${operator}"`, 'use union, intersect or except');
      return;
    }
    case 'SelectModifierNode': {
      const { modifier, rawModifier, of } = node as SelectModifierNode;
      if (modifier !== 'Distinct' || rawModifier || of) refuse(`the modifier ${modifier ?? ''}`, 'only distinct can be');
      return;
    }
  }
}

function isDirection(node: OperationNode): boolean {
  const { sqlFragments, parameters } = node as RawNode;
  return node.kind === 'RawNode' && parameters.length === 0 && sqlFragments.length === 1 && (sqlFragments[0] === 'asc' || sqlFragments[0] === 'desc');
}

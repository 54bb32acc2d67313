import type {
  AggregateFunctionNode,
  BinaryOperationNode,
  FunctionNode,
  IdentifierNode,
  JoinNode,
  OperationNode,
  OperatorNode,
  RawNode,
  SelectModifierNode,
  SetOperationNode,
} from 'kysely';
import { LintelError } from '../base/index.js';

/** What a narrowed query may be built of. Whatever is not listed is refused by name: the list fails closed. */
export const ALLOWED_NODES = new Set<OperationNode['kind']>([
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
/** Those that `empty` may put empty columns in place of a row that stood before them; those that `keep` leave such rows as they are. */
export const ALLOWED_JOINS = new Map<string, 'keeps' | 'empties'>([
  ['InnerJoin', 'keeps'],
  ['CrossJoin', 'keeps'],
  ['LeftJoin', 'keeps'],
  ['RightJoin', 'empties'],
  ['FullJoin', 'empties'],
]);

/** Names longer than this are cut off by PostgreSQL, so that two different ones could become one. */
const MAX_NAME = 63;

export function refuse(what: string, instead: string): never {
  throw new LintelError('scope-refused', `${what} cannot be used through scope; ${instead}`);
}

/** Our own conditions go by such names: a query that used one could step in between. */
export function insistOnFree(name: string): void {
  if (/^lintel/i.test(name)) refuse(`the name "${name}"`, 'names that begin with lintel are ours; choose another');
}

export function insistOnLength(name: string): void {
  // At most three bytes for each of its UTF-16 units.
  if (name.length * 3 > MAX_NAME && new TextEncoder().encode(name).length > MAX_NAME) refuse(`a name of more than ${MAX_NAME} bytes`, 'shorten it');
}

/** Nodes whose text reaches the database as it is: only words from the lists pass. */
export function insistOnAllowed(node: OperationNode): void {
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

export function isDirection(node: OperationNode): boolean {
  return isWord(node, 'asc') || isWord(node, 'desc');
}

/** A raw fragment that is this one word. */
export function isWord(node: OperationNode, word: string): boolean {
  const { sqlFragments, parameters } = node as RawNode;
  return node.kind === 'RawNode' && parameters.length === 0 && sqlFragments.length === 1 && sqlFragments[0] === word;
}

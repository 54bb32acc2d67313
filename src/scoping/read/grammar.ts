/** What is read of one part of a node. */
export type Part =
  /** One node of a sort. */
  | { readonly node: string; readonly needed: boolean }
  /** A list of nodes of a sort. */
  | { readonly nodes: string; readonly needed: boolean }
  /** A name in the database. */
  | { readonly name: true; readonly needed: true }
  /** One of these words. */
  | { readonly words: readonly (string | boolean)[]; readonly needed: boolean }
  /** A list of one text, which is one of these. */
  | { readonly texts: readonly string[]; readonly needed: true }
  /** A word of the language: an operator, a function. What it means is asked of its table. */
  | { readonly word: true; readonly needed: true }
  /** A value, or a list of them: copied, and a parameter of the statement. */
  | { readonly value: true; readonly needed: true }
  | { readonly values: true; readonly needed: true };

/** A node as it may stand somewhere: its kind, and what it is made of. Whatever else it holds is refused. */
export interface Rule {
  readonly kind: string;
  readonly parts: Readonly<Record<string, Part>>;
}

const one = (node: string): Part => ({ node, needed: true });
const maybe = (node: string): Part => ({ node, needed: false });
const some = (nodes: string): Part => ({ nodes, needed: true });
const any = (nodes: string): Part => ({ nodes, needed: false });
const words = (...all: (string | boolean)[]): Part => ({ words: all, needed: false });
const theWord = (...all: string[]): Part => ({ words: all, needed: true });
const NAME: Part = { name: true, needed: true };
const WORD: Part = { word: true, needed: true };

const rule = (kind: string, parts: Rule['parts'] = {}): Rule => ({ kind, parts });

/** A piece of raw SQL that is one of a few words, which the builder writes so. */
const raw = (...texts: string[]) => rule('RawNode', { sqlFragments: { texts, needed: true } });

const NAMED = rule('IdentifierNode', { name: NAME });
const COLUMN = rule('ColumnNode', { column: one('name') });
const TABLE = rule('TableNode', { table: one('path') });
const SELECT = rule('SelectQueryNode', {
  from: maybe('from'),
  selections: any('selection'),
  distinctOn: any('expression'),
  joins: any('join'),
  groupBy: maybe('groups'),
  orderBy: maybe('orders'),
  where: maybe('where'),
  frontModifiers: any('distinct'),
  limit: maybe('limit'),
  offset: maybe('offset'),
  with: maybe('with'),
  having: maybe('having'),
  setOperations: any('setOperation'),
});
const EXPRESSIONS = [
  rule('ReferenceNode', { column: one('column'), table: maybe('table') }),
  COLUMN,
  rule('ValueNode', { value: { value: true, needed: true }, immediate: words(true, false) }),
  rule('FunctionNode', { func: WORD, arguments: some('expression') }),
  rule('AggregateFunctionNode', {
    func: WORD,
    aggregated: some('aggregated'),
    distinct: words(true, false),
    orderBy: maybe('orders'),
    filter: maybe('where'),
    over: maybe('over'),
  }),
  rule('BinaryOperationNode', { leftOperand: one('operand'), operator: one('operator'), rightOperand: one('right') }),
  rule('UnaryOperationNode', { operator: one('operator'), operand: one('operand') }),
  rule('AndNode', { left: one('operand'), right: one('operand') }),
  rule('OrNode', { left: one('operand'), right: one('operand') }),
  rule('ParensNode', { node: one('expression') }),
  rule('CaseNode', { value: maybe('expression'), when: some('when'), else: maybe('expression'), isStatement: words(false) }),
  rule('TupleNode', { values: some('expression') }),
  SELECT,
  // What the builder writes for a join on nothing.
  raw('true'),
];
const LISTS = [rule('PrimitiveValueListNode', { values: { values: true, needed: true } }), rule('ValueListNode', { values: some('expression') })];
const aliased = (inner: string) => rule('AliasNode', { node: one(inner), alias: one('name') });

/**
 * Which nodes may stand where, in a query that goes through scope: for each sort of place the rules of what it takes. Nothing that
 * is not derived from this is compiled.
 */
const SORTS = {
  name: [NAMED],
  column: [COLUMN],
  columnOrAll: [COLUMN, rule('SelectAllNode')],
  table: [TABLE],
  path: [rule('SchemableIdentifierNode', { schema: maybe('name'), identifier: one('name') })],
  expression: EXPRESSIONS,
  operand: EXPRESSIONS,
  right: [...EXPRESSIONS, ...LISTS],
  aggregated: [...EXPRESSIONS, rule('SelectionNode', { selection: one('all') })],
  all: [rule('SelectAllNode'), rule('ReferenceNode', { column: one('allColumns'), table: maybe('table') })],
  allColumns: [rule('SelectAllNode')],
  operator: [rule('OperatorNode', { operator: WORD })],
  when: [rule('WhenNode', { condition: one('expression'), result: maybe('expression') })],
  select: [SELECT],
  selection: [rule('SelectionNode', { selection: one('selected') })],
  selected: [
    ...EXPRESSIONS.slice(1),
    rule('ReferenceNode', { column: one('columnOrAll'), table: maybe('table') }),
    rule('SelectAllNode'),
    aliased('expression'),
  ],
  from: [rule('FromNode', { froms: some('source') })],
  source: [TABLE, aliased('sourceInside')],
  sourceInside: [TABLE, SELECT],
  join: [rule('JoinNode', { joinType: theWord('InnerJoin', 'CrossJoin', 'LeftJoin', 'RightJoin', 'FullJoin'), table: one('source'), on: maybe('on') })],
  on: [rule('OnNode', { on: one('expression') })],
  where: [rule('WhereNode', { where: one('expression') })],
  having: [rule('HavingNode', { having: one('expression') })],
  groups: [rule('GroupByNode', { items: some('group') })],
  group: [rule('GroupByItemNode', { groupBy: one('expression') })],
  orders: [rule('OrderByNode', { items: some('order') })],
  order: [rule('OrderByItemNode', { orderBy: one('expression'), direction: maybe('direction'), nulls: words('first', 'last'), collation: maybe('collation') })],
  direction: [raw('asc', 'desc')],
  collation: [rule('CollateNode', { collation: one('name') })],
  over: [rule('OverNode', { orderBy: maybe('orders'), partitionBy: maybe('partitions') })],
  partitions: [rule('PartitionByNode', { items: some('partition') })],
  partition: [rule('PartitionByItemNode', { partitionBy: one('expression') })],
  distinct: [rule('SelectModifierNode', { modifier: theWord('Distinct') })],
  limit: [rule('LimitNode', { limit: one('count') })],
  offset: [rule('OffsetNode', { offset: one('count') })],
  count: [rule('ValueNode', { value: { value: true, needed: true }, immediate: words(true, false) })],
  setOperation: [rule('SetOperationNode', { operator: theWord('union', 'intersect', 'except'), expression: one('setOperand'), all: words(true, false) })],
  setOperand: [SELECT, rule('ParensNode', { node: one('select') })],
  with: [rule('WithNode', { expressions: some('cte'), recursive: words(true, false) })],
  cte: [rule('CommonTableExpressionNode', { name: one('cteName'), materialized: words(true, false), expression: one('select') })],
  cteName: [rule('CommonTableExpressionNameNode', { table: one('table'), columns: any('column') })],
  statement: [
    SELECT,
    rule('InsertQueryNode', {
      into: one('target'),
      columns: any('column'),
      values: one('values'),
      returning: maybe('returning'),
      onConflict: maybe('onConflict'),
      with: maybe('with'),
    }),
    rule('UpdateQueryNode', { table: one('target'), where: maybe('where'), updates: some('update'), returning: maybe('returning'), with: maybe('with') }),
    rule('DeleteQueryNode', { from: one('fromTarget'), where: maybe('where'), returning: maybe('returning'), with: maybe('with') }),
  ],
  target: [TABLE, aliased('table')],
  fromTarget: [rule('FromNode', { froms: some('target') })],
  update: [rule('ColumnUpdateNode', { column: one('written'), value: one('expression') })],
  written: [COLUMN, rule('ReferenceNode', { column: one('column'), table: maybe('table') })],
  values: [rule('ValuesNode', { values: some('row') }), SELECT],
  row: [LISTS[0] as Rule, rule('ValueListNode', { values: some('cell') })],
  cell: [...EXPRESSIONS, rule('DefaultInsertValueNode')],
  returning: [rule('ReturningNode', { selections: some('selection') })],
  onConflict: [rule('OnConflictNode', { columns: any('column'), updates: any('update'), updateWhere: maybe('where'), doNothing: words(true, false) })],
} satisfies Record<string, readonly Rule[]>;

/** The rules of each sort of place, by the kind of node. */
export const GRAMMAR: ReadonlyMap<string, ReadonlyMap<string, Rule>> = new Map(
  Object.entries<readonly Rule[]>(SORTS).map(([sort, rules]) => [sort, new Map(rules.map((one) => [one.kind, one]))]),
);

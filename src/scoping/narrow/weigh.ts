import { didYouMean, LintelError } from '../../base/index.js';
import type { Boundary } from '../boundary.js';
import { AGGREGATES, FUNCTIONS, type FunctionRule } from '../language/functions.js';
import { OPERATORS, type Operator, operate, PREFIXES } from '../language/operators.js';
import { anyOf, comparesTotally, type Static } from '../language/static.js';
import type { FreshNode } from '../read/node.js';
import { refuse } from '../read/refuse.js';
import { inReach, ofGroups, onlyIf, text } from './nodes.js';
import { guard, type Level, type Meaning, meaningOf, type Query, type Source } from './sources.js';

const VALUE: Static = { type: 'value', total: true };
const YES_OR_NO: Static = { type: 'boolean', total: true };

/** What a select has to be looked through for by whoever weighs an expression in which it stands. */
export type LookThrough = (node: FreshNode, level: Level) => Query;

/** How an id that is no text is written, in whatever spelling a database reads. */
const SPELLED: Partial<Readonly<Record<Static['type'], RegExp>>> = { integer: /^\s*[+-]?\d+\s*$/, uuid: /^\s*\{?(?:[0-9a-f]-?){32}\}?\s*$/i };

/** A text beside a column of another type is one that can be read as such: what a request brings as an id is often none. @throws LintelError `bad-value`. */
function insistOnRead({ type }: Static, value: unknown): void {
  if (typeof value !== 'string' || (SPELLED[type]?.test(value) ?? true)) return;
  throw new LintelError(
    'bad-value',
    `${JSON.stringify(value).slice(0, 40)} is compared with what is ${type === 'uuid' ? 'a uuid' : 'an integer'}, and is none`,
    {},
  );
}

const word = (node: unknown) => (node as FreshNode).operator as string;
const parts = (node: FreshNode, key: string) => (node[key] ?? []) as FreshNode[];
const nodeIn = (node: FreshNode, key: string) => node[key] as FreshNode | undefined;

/**
 * Weighs expressions: what type they have, and whether they can fail. What can is put behind a barrier, so that it is asked of rows in reach alone; what cannot
 * stands as it is, and an index serves it.
 */
export class Weigher {
  readonly #boundary: Boundary;
  readonly #select: LookThrough;
  /** The level of each select that stands in an expression. */
  readonly #levels = new Map<FreshNode, Level>();
  /** The barriers that were put up. */
  readonly #barriers = new Set<FreshNode>();
  /** Something in the statement can fail. */
  anyPartial = false;

  constructor(boundary: Boundary, select: LookThrough) {
    this.#boundary = boundary;
    this.#select = (node, level) => {
      const query = select(node, level);
      this.#levels.set(node, query.level);
      return query;
    };
  }

  /** Puts each part of a condition that can fail behind a barrier of its own. Answers the condition, and whether nothing in it could. */
  condition(node: FreshNode, level: Level, grouped = false): { readonly node: FreshNode; readonly total: boolean } {
    if (node.kind === 'AndNode') {
      const [left, right] = [this.condition(node.left as FreshNode, level, grouped), this.condition(node.right as FreshNode, level, grouped)];
      return { node: { kind: 'AndNode', left: left.node, right: right.node }, total: left.total && right.total };
    }
    const inside = nodeIn(node, 'node');
    if (node.kind === 'ParensNode' && (inside?.kind === 'AndNode' || inside?.kind === 'ParensNode')) {
      const of = this.condition(inside, level, grouped);
      return { node: { kind: 'ParensNode', node: of.node }, total: of.total };
    }
    const { total } = this.weigh(node, level);
    // guard partial-behind-barrier by queries: A condition that can fail would be asked of hidden rows.
    return { node: total ? node : /* guard partial-behind-barrier */ this.behind(node, level, grouped), total };
  }

  /** An expression, behind a barrier if it can fail. */
  value(node: FreshNode, level: Level): { readonly node: FreshNode; readonly is: Static } {
    const is = this.weigh(node, level);
    return { node: is.total ? node : this.behind(node, level), is };
  }

  /** Of groups it is asked when there are some; else of rows in reach, of every source that it names or, if it names none, of all. */
  behind(node: FreshNode, level: Level, grouped = false): FreshNode {
    this.anyPartial = true;
    // guard having-behind-groups by queries: A condition over groups would be asked before there is a group.
    if (grouped) return /* guard having-behind-groups (unwrapped) */ this.#barrier(ofGroups(), node);
    const named = this.#namedIn(node, level);
    const own = level.sources.filter((source) => named.has(source));
    const conditions = (own.length > 0 ? own : level.sources).flatMap((source) => {
      guard(source);
      return inReach(source) ?? [];
    });
    if (conditions.length === 0) return node;
    return this.#barrier(
      conditions.reduce((left, right) => ({ kind: 'AndNode', left, right })),
      node,
    );
  }

  #barrier(condition: FreshNode, node: FreshNode): FreshNode {
    const barrier = onlyIf(condition, node);
    this.#barriers.add(barrier);
    return barrier;
  }

  /** The sources of which a column is named in an expression, also in what it holds. */
  #namedIn(node: unknown, level: Level, found = new Set<Source>()): Set<Source> {
    if (typeof node !== 'object' || node === null) return found;
    const { kind } = node as FreshNode;
    // What a barrier further in asks is of what is further in.
    if (kind === 'CaseNode' && this.#barriers.has(node as FreshNode)) return this.#namedIn(resultOf(node as FreshNode), level, found);
    if (kind === 'ReferenceNode' || kind === 'ColumnNode') for (const source of meaningIn(node as FreshNode, level).sources) found.add(source);
    else for (const part of Object.values(node)) this.#namedIn(part, this.#levels.get(node as FreshNode) ?? level, found);
    return found;
  }

  /** @throws LintelError `scope-refused`, `unknown-column`. */
  weigh(node: FreshNode, level: Level): Static {
    switch (node.kind) {
      case 'ReferenceNode':
      case 'ColumnNode':
        return this.#named(node, level);
      case 'ValueNode':
        return VALUE;
      case 'RawNode':
        return (node.sqlFragments as string[])[0] === 'true' ? YES_OR_NO : refuse('a raw SQL fragment', 'say it with the query builder');
      case 'ParensNode':
        return this.weigh(node.node as FreshNode, level);
      case 'AndNode':
      case 'OrNode':
        return this.#truth([node.left, node.right] as FreshNode[], level);
      case 'FunctionNode':
        return this.#function(node, level);
      case 'AggregateFunctionNode':
        return this.#aggregate(node, level);
      case 'BinaryOperationNode':
        return this.#binary(node, level);
      case 'UnaryOperationNode':
        return this.#unary(node, level);
      case 'CaseNode':
        return this.#case(node, level);
      case 'TupleNode': {
        const of = this.#each(parts(node, 'values'), level);
        return { type: 'unknown', total: of.every(({ total }) => total), of };
      }
      case 'SelectQueryNode': {
        const query = this.#select(node, level);
        // guard scalar-select-single by queries: A subquery of several rows would fail on hidden rows.
        return { ...given(query), total: query.total && /* guard scalar-select-single */ isSingle(query) };
      }
      default:
        return /* guard table-is-no-value (replaced) */ refuse(`a ${node.kind.replace(/Node$/, '')} as a value`, 'build the query with the query builder');
    }
  }

  #each(nodes: readonly FreshNode[], level: Level): Static[] {
    return nodes.map((node) => this.weigh(node, level));
  }

  #truth(nodes: readonly FreshNode[], level: Level): Static {
    return { type: 'boolean', total: this.#each(nodes, level).every(({ total, type }) => total && (type === 'boolean' || type === 'value')) };
  }

  #named(node: FreshNode, level: Level): Static {
    const { is } = /* guard name-is-no-sql (replaced) */ meaningIn(node, level);
    // It names the alias of what stands for the table, which has no schema.
    const path = nodeIn(node, 'table')?.table as FreshNode | undefined;
    if (path) path.schema = undefined;
    return is;
  }

  #rule(rules: Readonly<Record<string, FunctionRule>>, what: string, name: string, count: number): FunctionRule {
    const here = this.#here(rules);
    const rule = here.includes(name) ? rules[name] : undefined;
    if (!rule) return refuse(`the ${what} "${name}"`, `allowed are ${here.join(', ')}${didYouMean(name, here)}`);
    const [least, most] = rule.arity;
    if (count < least || count > most) refuse(`${name} of ${count}`, `it takes ${least === most ? least : `${least} to ${most}`}`);
    return rule;
  }

  #function(node: FreshNode, level: Level): Static {
    const name = node.func as string;
    const given = parts(node, 'arguments');
    const fragments = this.#boundary.support.fragments ?? {};
    if (!Object.hasOwn(fragments, name)) return this.#rule(FUNCTIONS, 'function', name, given.length).gives(this.#each(given, level));
    this.#each(given, level);
    expand(node, name, fragments[name] as string, given);
    // What the application wrote we do not read.
    // guard application-fragment-partial by queries: A fragment of the application's own would be asked of hidden rows.
    return { ...VALUE, /* guard application-fragment-partial */ type: 'unknown', /* guard application-fragment-partial */ total: false };
  }

  /** What an aggregate is made of is worked out before anything around it: it has barriers of its own. */
  #aggregate(node: FreshNode, level: Level): Static {
    const name = node.func as string;
    const given = parts(node, 'aggregated');
    const rule = this.#rule(AGGREGATES, 'aggregate', name, given.length);
    const values = given.map((part, i) => {
      if (part.kind === 'SelectionNode') {
        if (name !== 'count') refuse(`${name} of all columns`, 'name one');
        return this.#whole(part.selection as FreshNode, level);
      }
      const { node: put, is } = this.value(part, level);
      if (this.#namesOnlyOthers(part, level)) refuse(`the aggregate "${name}" over columns of another query`, 'write it there');
      given[i] = put;
      return is;
    });
    const order = (items: FreshNode[], key: string) => {
      for (const item of items) item[key] = this.value(item[key] as FreshNode, level).node;
    };
    order(parts(nodeIn(node, 'orderBy') ?? { kind: '' }, 'items'), 'orderBy');
    const filter = nodeIn(node, 'filter');
    if (filter) filter.where = this.condition(filter.where as FreshNode, level).node;
    const over = nodeIn(node, 'over');
    order(parts((over && nodeIn(over, 'orderBy')) ?? { kind: '' }, 'items'), 'orderBy');
    order(parts((over && nodeIn(over, 'partitionBy')) ?? { kind: '' }, 'items'), 'partitionBy');
    return rule.gives(values);
  }

  #namesOnlyOthers(node: FreshNode, level: Level): boolean {
    const named = [...this.#namedIn(node, level)];
    return named.length > 0 && !named.some((source) => level.sources.includes(source));
  }

  /** Whole rows of a source are counted, and whatever is in them counts. */
  #whole(node: FreshNode, level: Level): Static {
    const alias = (nodeIn(node, 'table')?.table as { identifier: { name: string } } | undefined)?.identifier.name;
    if (alias !== undefined && !level.sources.some((source) => source.alias === alias)) refuse(`all columns of "${alias}"`, 'name a table of this query');
    return VALUE;
  }

  #operator(operators: Readonly<Record<string, Operator>>, name: string): Operator {
    const here = this.#here(operators);
    return here.includes(name) ? (operators[name] as Operator) : refuse(`the operator "${name}"`, `allowed are ${here.join(' ')}`);
  }

  /** Those that this database has. */
  #here(all: Readonly<Record<string, Pick<FunctionRule, 'notOn'>>>): string[] {
    const { vocabulary } = this.#boundary.writer;
    return Object.keys(all).filter((one) => vocabulary === 'postgres' || !all[one]?.notOn?.includes(vocabulary));
  }

  #binary(node: FreshNode, level: Level): Static {
    const operator = this.#operator(OPERATORS, word(node.operator));
    const [leftNode, right] = [node.leftOperand, node.rightOperand] as [FreshNode, FreshNode];
    const isList = right.kind === 'PrimitiveValueListNode' || right.kind === 'ValueListNode';
    if (operator.takes !== 'list' && isList) refuse(`a list beside ${word(node.operator)}`, 'write in');
    const left = this.weigh(leftNode, level);
    switch (operator.takes) {
      case 'word': {
        if (right.kind !== 'ValueNode' || (right.value !== null && typeof right.value !== 'boolean'))
          refuse(`${word(node.operator)} a value`, 'write = or is distinct from');
        right.immediate = true;
        return operate(operator, [left]);
      }
      case 'bounds': {
        const bounds = right as { kind: string; left: FreshNode; right: FreshNode };
        return operate(operator, [left, ...this.#each([bounds.left, bounds.right], level)]);
      }
      case 'pattern':
        return operate(operator, [left, this.#pattern(right, level)]);
      case 'list':
        if (right.kind === 'SelectQueryNode') {
          const query = this.#select(right, level);
          return operate(operator, [left, { ...given(query), total: query.total }]);
        }
        if (!isList) return refuse('in with what is neither a list nor a select', 'give a list, or write =');
        for (const one of parts(right, 'values')) insistOnRead(left, one?.kind === 'ValueNode' ? one.value : one);
        return operate(operator, [left, ...(right.kind === 'ValueListNode' ? this.#each(parts(right, 'values'), level) : [VALUE])]);
      default: {
        const is = this.weigh(right, level);
        if (right.kind === 'ValueNode') insistOnRead(left, right.value);
        if (leftNode.kind === 'ValueNode') insistOnRead(is, leftNode.value);
        return operate(operator, [left, is]);
      }
    }
  }

  /** A pattern that is given cannot fail, by what is done to it; one that a row holds can. */
  #pattern(node: FreshNode, level: Level): Static {
    // guard column-pattern-partial by queries: A pattern from a column would be asked of hidden rows.
    if (node.kind !== 'ValueNode') return { ...this.weigh(node, level), /* guard column-pattern-partial */ total: false };
    if (node.value !== null && typeof node.value !== 'string') return refuse('a pattern that is no text', 'give a text');
    if (node.value !== null) node.value = this.#boundary.writer.pattern(node.value);
    return VALUE;
  }

  #unary(node: FreshNode, level: Level): Static {
    const operator = this.#operator(PREFIXES, word(node.operator));
    const operand = node.operand as FreshNode;
    if (operator.takes !== 'select') return operate(operator, [this.weigh(operand, level)]);
    const inside = operand.kind === 'ParensNode' ? (operand.node as FreshNode) : operand;
    if (inside.kind !== 'SelectQueryNode') return refuse(`${word(node.operator)} of what is no select`, 'give a select');
    const { total } = this.#select(inside, level);
    // guard select-in-condition-partial by queries: What can fail in a subquery would be asked of hidden rows.
    return { ...YES_OR_NO, /* guard select-in-condition-partial */ total };
  }

  #case(node: FreshNode, level: Level): Static {
    const whens = parts(node, 'when');
    const subject = nodeIn(node, 'value');
    const asked = [...(subject ? [subject] : []), ...whens.map((when) => when.condition as FreshNode)];
    const conditions = this.#each(asked, level);
    const results = this.#each([...whens.flatMap((when) => nodeIn(when, 'result') ?? []), ...(nodeIn(node, 'else') ? [node.else as FreshNode] : [])], level);
    const is = anyOf(results);
    return { ...is, total: is.total && (subject ? comparesTotally(conditions) : conditions.every(({ total }) => total)) };
  }
}

const resultOf = (barrier: FreshNode) => parts(barrier, 'when')[0]?.result;

function meaningIn(node: FreshNode, level: Level): Meaning {
  if (node.kind === 'ColumnNode') return meaningOf(undefined, (node.column as { name: string }).name, level);
  const { column, table } = node as unknown as { column: { column?: { name: string } }; table?: { table: { identifier: { name: string } } } };
  return column.column ? meaningOf(table?.table.identifier.name, column.column.name, level) : { sources: [], is: VALUE };
}

/** What a select gives as a value: its one column, or a tuple of several. */
function given({ gives }: Query): Static {
  const [one, ...more] = gives ?? [];
  if (!one) return { type: 'unknown', total: false };
  return more.length === 0 ? one.is : { type: 'unknown', total: true, of: [one, ...more].map(({ is }) => is) };
}

/** It has one row at most: one group of all, or a limit says so. */
function isSingle({ node, grouped, branches }: Query): boolean {
  const limit = nodeIn(nodeIn(node, 'limit') ?? { kind: '' }, 'limit')?.value;
  return limit === 0 || limit === 1 || limit === 0n || limit === 1n || (grouped && !node.groupBy && branches.length === 0);
}

/** A piece of SQL that the application registered under a name stands for a function of that name. */
function expand(node: FreshNode, name: string, template: string, given: readonly FreshNode[]): void {
  const pieces = template.split(/\$(\d+)/);
  const numbers = pieces.filter((_, i) => i % 2 === 1).map(Number);
  const count = new Set(numbers).size;
  if (given.length !== count || numbers.some((number) => given[number - 1] === undefined))
    refuse(`the fragment "${name}" with ${given.length} arguments`, `it takes ${count}`);
  const raw = text(
    pieces.filter((_, i) => i % 2 === 0),
    numbers.map((number) => given[number - 1]),
  );
  delete node.func;
  delete node.arguments;
  Object.assign(node, { kind: 'ParensNode', node: raw });
}

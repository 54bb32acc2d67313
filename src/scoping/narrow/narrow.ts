import type { OperationNode, SelectQueryNode, WithNode } from 'kysely';
import type { Boundary } from '../boundary.js';
import { anyOf, type Static } from '../language/static.js';
import type { FreshNode } from '../read/node.js';
import { insistOnFree, refuse } from '../read/refuse.js';
import { allOf, column, identifier, inReach, named, ofGroups, selection, table } from './nodes.js';
import { columnsOf, type Given, type Level, type Named, OK, type Place, type Query, queryNamed, type Source } from './sources.js';
import { Weigher } from './weigh.js';

const list = (node: FreshNode | undefined, key: string) => (node?.[key] ?? []) as FreshNode[];
const nodeIn = (node: FreshNode, key: string) => node[key] as FreshNode | undefined;
const nameOf = (node: unknown) => (node as { name: string }).name;
const pathOf = (node: FreshNode) => node.table as { schema?: { name: string }; identifier: { name: string } };

/**
 * Narrows one statement: every table in it shows only what one standing may read of it, wherever it stands, and what can fail is asked of nothing else. It takes
 * nodes that were {@link readQuery | read}, and changes them: first all is looked through, then {@link finish} puts in what stands for the tables.
 */
export class Narrower {
  readonly #boundary: Boundary;
  readonly #weigher: Weigher;
  readonly #queries: Query[] = [];
  /** The queries that stand before the whole statement. */
  #named: Named | undefined;

  constructor(boundary: Boundary) {
    this.#boundary = boundary;
    this.#weigher = new Weigher(boundary, (node, level) => this.#select(node, level, level.named));
  }

  /** Narrows a select that is a whole statement. @throws LintelError `scope-refused`, `unknown-table`, `unknown-column`. */
  whole(node: SelectQueryNode): SelectQueryNode {
    this.select(node);
    this.finish();
    return node;
  }

  /** Looks through a select that sees nothing around it. Answers what it gives. */
  select(node: OperationNode): readonly Given[] | undefined {
    return this.#select(node as unknown as FreshNode, undefined, this.#named).gives;
  }

  /** Looks through the queries before a statement, and lets what comes after see them. */
  before(ctes: WithNode): void {
    this.#named = this.#ctes(ctes as unknown as FreshNode, undefined, undefined);
  }

  /** A level at which these sources can be named. */
  level(...sources: Source[]): Level {
    return { sources, outer: undefined, named: this.#named };
  }

  /** Looks through a condition on rows of a level. Answers what stands for it. */
  condition(node: OperationNode, level: Level): OperationNode {
    return this.#weigher.condition(node as unknown as FreshNode, level).node as unknown as OperationNode;
  }

  /** Looks through an expression of rows that were chosen already. */
  chosen(node: OperationNode, level: Level): Static {
    const is = this.#weigher.weigh(node as unknown as FreshNode, level);
    if (!is.total) this.#weigher.anyPartial = true;
    return is;
  }

  /** Looks through an expression of rows of a level. Answers what stands for it. */
  value(node: OperationNode, level: Level): OperationNode {
    return this.#weigher.value(node as unknown as FreshNode, level).node as unknown as OperationNode;
  }

  /** Where anything in the statement can fail, our own conditions stay where the rows are read: nothing is begun for a row that is out of reach. */
  get holdsBack(): boolean {
    return this.#weigher.anyPartial;
  }

  /** Puts in what stands for each table. */
  finish(): void {
    for (const query of this.#queries) this.#fill(query);
  }

  #select(node: FreshNode, outer: Level | undefined, around: Named | undefined): Query {
    return this.#through(this.#open(node, outer, around));
  }

  #open(node: FreshNode, outer: Level | undefined, around: Named | undefined): Query {
    const ctes = nodeIn(node, 'with');
    const level: Level = { sources: [], outer, named: ctes ? this.#ctes(ctes, outer, around) : around };
    const query: Query = { node, level, grouped: isGrouped(node), branches: [], total: true };
    this.#queries.push(query);
    return query;
  }

  #through(query: Query): Query {
    const { node, level, grouped } = query;
    const note = ({ total }: { readonly total: boolean }) => {
      query.total &&= total;
    };
    for (const place of list(nodeIn(node, 'from'), 'froms')) level.sources.push(this.#source(place, level, note));
    const joins = list(node, 'joins');
    for (const join of joins) level.sources.push(this.#source(join.table as FreshNode, level, note));
    const ask = (holder: FreshNode | undefined, key: string, ofGroup = false) => {
      if (!holder) return;
      const asked = this.#weigher.condition(holder[key] as FreshNode, level, ofGroup);
      holder[key] = asked.node;
      note(asked);
    };
    for (const join of joins) ask(nodeIn(join, 'on'), 'on');
    ask(nodeIn(node, 'where'), 'where');
    ask(nodeIn(node, 'having'), 'having', grouped);
    // What is worked out of groups is worked out of rows in reach.
    const put = (holder: FreshNode, key: string): Static => {
      const item = holder[key] as FreshNode;
      if (grouped) {
        const is = this.#weigher.weigh(item, level);
        if (!is.total && query !== this.#queries[0]) this.#weigher.anyPartial = true;
        note(is);
        return is;
      }
      const { node: stands, is } = this.#weigher.value(item, level);
      holder[key] = stands;
      note(is);
      return is;
    };
    for (const item of list(nodeIn(node, 'groupBy'), 'items')) put(item, 'groupBy');
    for (const [i] of list(node, 'distinctOn').entries()) put(node.distinctOn as FreshNode, String(i));
    query.gives = this.#selections(node, level, put);
    if (query.listed) query.gives = query.gives?.map(({ is }, i) => ({ name: nameOf(query.listed?.[i]?.column), is }));
    for (const key of ['limit', 'offset'] as const) insistOnCount(nodeIn(node, key)?.[key], key);
    this.#unite(query, note);
    const outputs = columnsOf(query.gives);
    for (const item of list(nodeIn(node, 'orderBy'), 'items')) {
      if (!outputs?.has(bareName(item.orderBy as FreshNode) ?? '')) put(item, 'orderBy');
    }
    return query;
  }

  #unite(query: Query, note: (one: { readonly total: boolean }) => void): void {
    for (const operation of list(query.node, 'setOperations')) {
      const expression = operation.expression as FreshNode;
      const branch = this.#select(expression.kind === 'ParensNode' ? (expression.node as FreshNode) : expression, query.level.outer, query.level.named);
      query.branches.push(branch);
      note(branch);
      const other = branch.gives;
      query.gives = query.gives?.map(({ name, is }, i) => ({ name, is: other?.[i] ? anyOf([is, other[i].is]) : { type: 'unknown', total: false } }));
    }
  }

  /** What a select gives. All columns are written out: those that the charter declares. */
  #selections(node: FreshNode, level: Level, put: (holder: FreshNode, key: string) => Static): readonly Given[] | undefined {
    const given: Given[] = [];
    const written: FreshNode[] = [];
    let isKnown = true;
    for (const item of list(node, 'selections')) {
      const selected = item.selection as FreshNode;
      if (!isAll(selected)) {
        const as = selected.kind === 'AliasNode' ? nameOf(selected.alias) : undefined;
        if (as !== undefined) insistOnFree(as);
        given.push({ name: as ?? bareName(selected, true), is: as === undefined ? put(item, 'selection') : put(selected, 'node') });
        written.push(item);
        continue;
      }
      for (const source of this.#starred(selected, level)) {
        for (const name of source.columns?.keys() ?? []) {
          const one = selection(column(source.alias, name));
          given.push({ name, is: put(one, 'selection') });
          written.push(one);
        }
        if (source.columns) continue;
        source.starred = true;
        isKnown = false;
        written.push(selection({ kind: 'ReferenceNode', table: table(source.alias), column: { kind: 'SelectAllNode' } }));
      }
    }
    if (node.selections) node.selections = written;
    return isKnown ? given : undefined;
  }

  /** The sources of which all columns are asked. */
  #starred(selected: FreshNode, level: Level): readonly Source[] {
    const path = nodeIn(selected, 'table');
    if (!path) return level.sources;
    const alias = pathOf(path).identifier.name;
    const found = level.sources.filter((source) => source.alias === alias);
    return found.length > 0 ? found : refuse(`all columns of "${alias}"`, 'name a table of this query');
  }

  /** A CTE sees those before it; with `recursive` also itself and those after. Its name must not hide a table of the charter. */
  #ctes(ctes: FreshNode, outer: Level | undefined, around: Named | undefined): Named {
    const within: Named = { queries: new Map(), outer: around };
    const all = list(ctes, 'expressions').map((cte) => ({ cte, name: pathOf((cte.name as FreshNode).table as FreshNode) }));
    for (const { name } of all) {
      const own = name.identifier.name;
      if (name.schema) refuse('a schema before the name of a CTE', 'name it without');
      if (this.#boundary.ownNames.has(own.toLowerCase())) refuse(`a CTE named like the table "${own}"`, 'choose another name');
      insistOnFree(own);
      if (ctes.recursive) within.queries.set(own, undefined);
    }
    for (const { cte, name } of all) {
      const own = name.identifier.name;
      const expression = cte.expression as FreshNode;
      const columns = list(cte.name as FreshNode, 'columns').map((one) => nameOf(one.column));
      columns.forEach(insistOnFree);
      const query = this.#open(expression, outer, within);
      if (columns.length > 0) query.listed = list(cte.name as FreshNode, 'columns');
      // Of what refers to itself is known what it begins with.
      if (ctes.recursive) within.queries.set(own, query);
      this.#through(query);
      within.queries.set(own, query);
    }
    return within;
  }

  #source(place: FreshNode, level: Level, note: (one: { readonly total: boolean }) => void): Source {
    const isAliased = place.kind === 'AliasNode';
    const inside = isAliased ? (place.node as FreshNode) : place;
    const alias = isAliased ? nameOf(place.alias) : undefined;
    if (alias !== undefined) insistOnFree(alias);
    if (inside.kind === 'SelectQueryNode') {
      const query = this.#select(inside, level.outer, level.named);
      note(query);
      return { alias: alias as string, columns: columnsOf(query.gives), query };
    }
    const { schema, identifier: own } = pathOf(inside);
    const cte = schema ? undefined : queryNamed(own.name, level.named);
    if (cte) {
      if (cte.query) note(cte.query);
      return { alias: alias ?? own.name, columns: columnsOf(cte.query?.gives), ...(cte.query && { query: cte.query }) };
    }
    if (!schema && this.#boundary.support.openTables?.includes(own.name)) return { alias: alias ?? own.name, columns: undefined };
    const kind = this.#boundary.insistOnKind(inside.table as never);
    return { alias: alias ?? own.name, columns: this.#boundary.statics(kind), place: { kind, node: place, used: new Set() } };
  }

  /**
   * Decides what stands for each table. Where the query names only columns of it that are shown on every row, the table stays and
   * its conditions join those of the query, which then reads as one would write it by hand. Else a subquery stands for it.
   */
  #fill(query: Query): void {
    const { node, level } = query;
    const joins = list(node, 'joins');
    const keepsRows = joins.every(({ joinType }) => joinType !== 'RightJoin' && joinType !== 'FullJoin');
    const wheres: FreshNode[] = [];
    for (const { place, alias, guarded } of level.sources) {
      if (!place) continue;
      // guard masked-column-narrowed by queries: A masked column would stand as it is.
      if (guarded || !keepsRows || /* guard masked-column-narrowed */ !this.#boundary.showsPlainly(place.kind, place.used)) {
        this.#put(place, alias, guarded === true);
        continue;
      }
      const condition = this.#boundary.reachedNode(place.kind, alias, this.holdsBack) as unknown as FreshNode;
      const join = joins.find((one) => one.table === place.node);
      if (join?.joinType === 'LeftJoin') {
        const on = nodeIn(join, 'on');
        join.on = { kind: 'OnNode', on: allOf([condition, ...(on ? [on.on as FreshNode] : [])]) };
      } else wheres.push(condition);
    }
    if (wheres.length > 0) {
      const where = nodeIn(node, 'where');
      node.where = { kind: 'WhereNode', where: allOf([...wheres, ...(where ? [where.where as FreshNode] : [])]) };
    }
    if (query.guarded) this.#sayInReach(query);
  }

  /** A subquery in the place of a table, with those columns of it that may be seen. */
  #put({ kind, node, used }: Place, alias: string, guarded: boolean): void {
    for (const part of Object.keys(node)) delete node[part];
    Object.assign(node, named(this.#boundary.readableNode(kind, used, guarded, this.holdsBack) as unknown as FreshNode, alias));
  }

  /** One column more, by which each row says that all that it was made of is in reach. */
  #sayInReach({ node, level, grouped, listed }: Query): void {
    const each = level.sources.flatMap((source) => inReach(source) ?? []);
    const says = grouped
      ? ofGroups()
      : each.length > 0
        ? each.reduce((left, right) => ({ kind: 'AndNode', left, right }))
        : { kind: 'ValueNode', value: true, immediate: true };
    node.selections = [...list(node, 'selections'), selection(named(says, OK))];
    if (listed && listed.length > 0) listed.push({ kind: 'ColumnNode', column: identifier(OK) });
  }
}

const isAll = (node: FreshNode) => node.kind === 'SelectAllNode' || (node.kind === 'ReferenceNode' && (node.column as FreshNode).kind === 'SelectAllNode');

/** The name of a column that stands by itself, or also behind that of its table. */
function bareName(node: FreshNode, qualified = false): string | undefined {
  if (node.kind === 'ColumnNode') return nameOf(node.column);
  if (node.kind !== 'ReferenceNode' || (node.table && !qualified) || isAll(node)) return undefined;
  return nameOf((node.column as FreshNode).column);
}

function insistOnCount(node: unknown, what: string): void {
  if (node === undefined) return;
  const { value } = node as { value: unknown };
  if ((typeof value === 'number' && Number.isSafeInteger(value) && value >= 0) || (typeof value === 'bigint' && value >= 0n)) return;
  refuse(`${what} of ${String(value)}`, 'give a whole number of 0 or more');
}

/** Its rows are groups: it says so, or it asks something of all rows at once. */
function isGrouped(node: FreshNode): boolean {
  return node.groupBy !== undefined || node.having !== undefined || [node.selections, node.orderBy].some(asksOfAll);
}

const PLAIN = new Set(['ReferenceNode', 'ColumnNode', 'ValueNode', 'SelectAllNode', 'SelectQueryNode', 'RawNode', 'OperatorNode', 'IdentifierNode']);

function asksOfAll(node: unknown): boolean {
  if (typeof node !== 'object' || node === null) return false;
  if (Array.isArray(node)) return node.some(asksOfAll);
  const { kind, over } = node as FreshNode;
  if (PLAIN.has(kind)) return false;
  if (kind === 'AggregateFunctionNode' && over === undefined) return true;
  for (const part in node) if (asksOfAll((node as FreshNode)[part])) return true;
  return false;
}

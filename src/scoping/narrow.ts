import type {
  AggregateFunctionNode,
  AliasNode,
  ColumnNode,
  FunctionNode,
  IdentifierNode,
  OperationNode,
  OrderByItemNode,
  RawNode,
  ReferenceNode,
  SelectQueryNode,
  TableNode,
  WithNode,
} from 'kysely';
import { ALLOWED_JOINS, ALLOWED_NODES, insistOnAllowed, insistOnFree, insistOnLength, isDirection, isWord, refuse } from './allowed.js';
import type { Boundary } from './boundary.js';

/** A table of the charter in a query, and the node that stands for it: what that is, is filled in once it is known which columns are named. */
interface Place {
  readonly kind: string;
  readonly alias: string;
  readonly node: { kind: OperationNode['kind']; [part: string]: unknown };
  /** The table as it was written. */
  readonly written: OperationNode;
}

/** What was met in one select, in those inside it too: tables of its own, and the columns named under each alias ('' for none). */
interface Level {
  readonly places: Place[];
  readonly named: Map<string, Set<string>>;
}

/** Stands among column names for all of them. */
const EVERY = '*';

/**
 * Rewrites a query so that every table in it shows only what one standing may read of it, wherever it stands: from, join,
 * subquery, CTE or set operation. Parts without a table are passed on as they are.
 */
export class Narrower {
  readonly #boundary: Boundary;
  /** Names of the CTEs that can be seen at this place, innermost last. */
  #visible: Set<string>[] = [];
  /** CTEs that stand before the whole statement. */
  readonly #around: Set<string>[] = [];
  /** The selects around this place, innermost last. */
  #levels: Level[] = [];

  constructor(boundary: Boundary) {
    this.#boundary = boundary;
  }

  /** Narrows a whole query. @throws LintelError `scope-refused`, `unknown-table`. */
  narrow<T extends OperationNode>(node: T): T {
    this.#visible = [...this.#around];
    this.#levels = [];
    return this.#visit(node);
  }

  #visit<T extends OperationNode>(node: T): T {
    if (!ALLOWED_NODES.has(node.kind)) {
      // What Kysely writes for `onTrue()`.
      if (isWord(node, 'true')) return node;
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
        return this.#table(node as TableNode, undefined, node) ?? this.#children(node);
      case 'AliasNode':
        return this.#alias(node as AliasNode);
      case 'ReferenceNode':
        return this.#reference(node as ReferenceNode);
      case 'OrderByItemNode':
        return this.#orderByItem(node as OrderByItemNode);
      case 'SelectAllNode':
        this.#name('', EVERY);
        return node;
      case 'FunctionNode':
        return this.#function(node as FunctionNode);
      case 'AggregateFunctionNode':
        return this.#aggregate(node as AggregateFunctionNode);
      case 'ColumnNode':
        this.#column(node as ColumnNode, '');
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
    if (!node.with) return this.#level(node);
    const { with: ctes, ...rest } = node;
    const [narrowed, body] = this.#within(ctes, () => this.#level(rest));
    return { ...body, with: narrowed };
  }

  /** Narrows the CTEs before a write, and stays among them: what is narrowed later sees them. */
  enter(ctes: WithNode): WithNode {
    const names = new Set<string>();
    this.#around.push(names);
    this.#visible = [names];
    return { ...ctes, expressions: this.#ctes(ctes, names) };
  }

  #within<R>(ctes: WithNode, work: () => R): [WithNode, R] {
    const names = new Set<string>();
    this.#visible.push(names);
    const expressions = this.#ctes(ctes, names);
    const result = work();
    this.#visible.pop();
    return [{ ...ctes, expressions }, result];
  }

  /** A select without its CTEs: what stands for its tables is known when all of it was seen. */
  #level(node: SelectQueryNode): SelectQueryNode {
    const level: Level = { places: [], named: new Map() };
    this.#levels.push(level);
    const visited = this.#children(node);
    this.#levels.pop();
    // What is named inside may belong to a table outside.
    const outer = this.#levels.at(-1);
    if (outer) for (const [alias, columns] of level.named) for (const column of columns) addTo(outer.named, alias, column);
    return level.places.length === 0 ? visited : this.#fill(visited, level);
  }

  /**
   * Decides what stands for each table. Where the query names only columns of it that are shown on every row, the table stays and
   * its conditions join those of the query, which then reads as one would write it by hand. Else a subquery stands for it.
   */
  #fill(node: SelectQueryNode, level: Level): SelectQueryNode {
    const joins = node.joins ?? [];
    const keepsRows = joins.every(({ joinType }) => ALLOWED_JOINS.get(joinType) === 'keeps');
    const wheres: RawNode[] = [];
    const ons = new Map<OperationNode, RawNode>();
    for (const place of level.places) {
      const { kind, alias, written } = place;
      const used = new Set([...(level.named.get('') ?? []), ...(level.named.get(alias) ?? [])]);
      if (!keepsRows || !this.#boundary.showsPlainly(kind, used)) {
        Object.assign(place.node, { kind: 'AliasNode', node: this.#boundary.readableNode(kind, used.has(EVERY) ? 'all' : used), alias: identifier(alias) });
        continue;
      }
      Object.assign(place.node, written);
      const condition = this.#boundary.reachedNode(kind, alias);
      const join = joins.find(({ table }) => table === (place.node as unknown));
      if (join?.joinType === 'LeftJoin') ons.set(join, condition);
      else wheres.push(condition);
    }
    const where = wheres.length === 0 ? node.where : { kind: 'WhereNode' as const, where: allOf(wheres, node.where?.where) };
    const narrowed = joins.map((join) => {
      const condition = ons.get(join);
      return condition ? { ...join, on: { kind: 'OnNode' as const, on: allOf([condition], join.on?.on) } } : join;
    });
    return { ...node, ...(where && { where }), ...(ons.size > 0 && { joins: narrowed }) };
  }

  /** A CTE sees those before it; with `recursive` also itself and those after. Its name must not hide a table of the charter. */
  #ctes(ctes: WithNode, names: Set<string>): WithNode['expressions'] {
    const nameOf = (cte: WithNode['expressions'][number]) => cte.name.table.table.identifier.name;
    for (const cte of ctes.expressions) {
      const own = nameOf(cte);
      insistOnLength(own);
      if (cte.name.table.table.schema) refuse('a schema before the name of a CTE', 'name it without');
      if (this.#boundary.ownNames.has(own.toLowerCase())) refuse(`a CTE named like the table "${own}"`, 'choose another name');
      insistOnFree(own);
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

  /** The place of a table, under the alias it had: nothing for a CTE that is seen here. */
  #table(node: TableNode, alias: string | undefined, written: OperationNode): OperationNode | undefined {
    const { schema, identifier } = node.table;
    const { name } = identifier;
    if (!schema && this.#visible.some((names) => names.has(name))) return undefined;
    if (!schema && this.#boundary.support.openTables?.includes(name)) return undefined;
    const place: Place = { kind: this.#boundary.insistOnKind(node.table), alias: alias ?? name, node: { kind: node.kind }, written };
    const level = this.#levels.at(-1);
    if (!level) return refuse(`the table "${name}" outside of a select`, 'select from it');
    level.places.push(place);
    return place.node as unknown as OperationNode;
  }

  #alias(node: AliasNode): OperationNode {
    if (node.alias.kind !== 'IdentifierNode') refuse('an alias that is not a plain name', 'write .as("name")');
    this.#visit(node.alias);
    insistOnFree((node.alias as IdentifierNode).name);
    const table = node.node.kind === 'TableNode' ? this.#table(node.node as TableNode, (node.alias as IdentifierNode).name, node) : undefined;
    return table ?? this.#children(node);
  }

  #name(alias: string, column: string): void {
    const level = this.#levels.at(-1);
    if (level) addTo(level.named, alias, column);
  }

  #column(node: ColumnNode, alias: string): void {
    const { name } = node.column;
    insistOnLength(name);
    this.#name(alias, name);
  }

  /** A piece of SQL that the application registered under a name stands for a function of that name, with its arguments narrowed. */
  #function(node: FunctionNode): OperationNode {
    const registered = this.#boundary.support.fragments ?? {};
    const template = Object.hasOwn(registered, node.func) ? registered[node.func] : undefined;
    if (template === undefined) {
      insistOnAllowed(node);
      return this.#children(node);
    }
    const pieces = template.split(/\$(\d+)/);
    const parameters = pieces.filter((_, i) => i % 2 === 1).map((number) => node.arguments[Number(number) - 1]);
    const count = new Set(pieces.filter((_, i) => i % 2 === 1)).size;
    if (node.arguments.length !== count || parameters.includes(undefined))
      refuse(`the fragment "${node.func}" with ${node.arguments.length} arguments`, `it takes ${count}`);
    const raw: RawNode = {
      kind: 'RawNode',
      sqlFragments: pieces.filter((_, i) => i % 2 === 0),
      parameters: parameters.map((p) => this.#visit(p as OperationNode)),
    };
    return { kind: 'ParensNode', node: raw } as OperationNode;
  }

  /** `count(*)` names no column. */
  #aggregate(node: AggregateFunctionNode): AggregateFunctionNode {
    insistOnAllowed(node);
    const [only] = node.aggregated;
    if (node.aggregated.length !== 1 || only?.kind !== 'SelectAllNode') return this.#children(node);
    const { aggregated, ...rest } = node;
    return { ...this.#children(rest as AggregateFunctionNode), aggregated };
  }

  /** A reference names the alias of what was put in the table's place, so a schema before it goes. */
  #reference(node: ReferenceNode): ReferenceNode {
    const alias = node.table?.table.identifier.name ?? '';
    if (node.column.kind === 'ColumnNode') this.#column(node.column, alias);
    else this.#name(alias, EVERY);
    if (!node.table) return node;
    insistOnLength(alias);
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

function addTo(named: Map<string, Set<string>>, alias: string, column: string): void {
  const columns = named.get(alias);
  if (columns) columns.add(column);
  else named.set(alias, new Set([column]));
}

function identifier(name: string): IdentifierNode {
  return { kind: 'IdentifierNode', name };
}

function allOf(conditions: readonly RawNode[], written: OperationNode | undefined): RawNode {
  const parts = written ? [...conditions, written] : conditions;
  return { kind: 'RawNode', sqlFragments: ['(', ...parts.slice(1).map(() => ') and ('), ')'], parameters: parts };
}

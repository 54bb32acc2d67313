import type { Kysely, RawNode, TableNode } from 'kysely';
import { didYouMean, LintelError } from '../base/index.js';
import { CHOOSE, type CharterTypes } from '../charter/index.js';
import { and, type FieldShape, type KindShape, not, ofTenant, or, type Predicate } from '../predicate/index.js';
import type { Standing } from '../standing/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';
import { IDS, type Static } from './language/static.js';
import { OK } from './narrow/sources.js';
import type { ReachWriter } from './policies/index.js';
import type { ScopeSupport } from './support.js';
import type { SqlWriter } from './writer.js';

/** A field that holds one value in a column of its own. */
export type ColumnField = readonly [field: string, shape: FieldShape];

/** True for a rule that looks at other tables than the record's own. */
function looksAside(p: Predicate): boolean {
  if (p.op === 'and' || p.op === 'or') return p.of.some(looksAside);
  if (p.op === 'not') return looksAside(p.of);
  return p.op === 'parent' || p.op === 'followed' || p.op === 'includes';
}

/** A tenant that comes through a parent, of which more is asked beside: both are asked in one step there. */
function inOneStep(tenant: Predicate, where: Predicate): Predicate | undefined {
  const parts = where.op === 'and' ? where.of : [where];
  const same = parts.find((part) => tenant.op === 'parent' && part.op === 'parent' && part.via === tenant.via);
  if (tenant.op !== 'parent' || same?.op !== 'parent') return undefined;
  return and({ ...same, where: and(tenant.where, same.where) }, ...parts.filter((part) => part !== same));
}

/** What one standing may touch of each table: the conditions that every statement is narrowed to. */
export class Boundary {
  readonly standing: Standing;
  readonly support: ScopeSupport;
  readonly writer: SqlWriter;
  readonly #wall: ReachWriter | undefined;
  readonly #readable = new Map<string, RawNode>();
  readonly #reached = { held: new Map<string, Map<string, RawNode>>(), open: new Map<string, Map<string, RawNode>>() };
  readonly #plain = new Map<string, ReadonlySet<string>>();
  readonly #statics = new Map<string, ReadonlyMap<string, Static>>();
  #kinds: Map<string, string> | undefined;
  #ownNames: ReadonlySet<string> | undefined;

  /** @param wall given for a connection that the row policies hold. */
  constructor(standing: Standing<CharterTypes>, support: ScopeSupport, writer: SqlWriter, wall?: ReachWriter) {
    this.#wall = wall;
    this.standing = standing;
    this.support = support;
    this.writer = writer;
  }

  /** True for a connection that the row policies hold. */
  get isWalled(): boolean {
    return this.#wall !== undefined;
  }

  /** False where a write could not know whose it is. */
  get writable(): boolean {
    return true;
  }

  shape(kind: string): KindShape {
    return this.standing.charter.shapes[kind] as KindShape;
  }

  /** The kind that is kept in a table, if one is. */
  kindOf(table: string, schema: string | undefined): string | undefined {
    this.#kinds ??= new Map(Object.entries(this.standing.charter.shapes).map(([kind, shape]) => [`${shape.schema ?? ''}.${shape.table}`, kind]));
    return this.#kinds.get(`${schema ?? ''}.${table}`);
  }

  /** Tables that our conditions look at, in lower case: nothing else in a query may be called like one. */
  get ownNames(): ReadonlySet<string> {
    this.#ownNames ??= new Set(
      Object.values(this.standing.charter.shapes)
        .flatMap(({ table, fields }) => [table, ...Object.values(fields).flatMap(({ link }) => link?.table ?? [])])
        .map((table) => table.toLowerCase()),
    );
    return this.#ownNames;
  }

  /** The kind that is kept in a table. @throws LintelError `unknown-table` with the near match. */
  insistOnKind({ schema, identifier }: TableNode['table']): string {
    const kind = this.kindOf(identifier.name, schema?.name);
    if (kind !== undefined) return kind;
    const table = `${schema ? `${schema.name}.` : ''}${identifier.name}`;
    const known = Object.values(this.standing.charter.shapes).map((shape) => shape.table);
    throw new LintelError(
      'unknown-table',
      `the table "${table}" is no kind of the charter, so scope cannot say who may see it${didYouMean(identifier.name, known)}; declare it as a kind, or query it outside of scope`,
      { table: identifier.name },
    );
  }

  columnFields(kind: string): ColumnField[] {
    return Object.entries(this.shape(kind).fields).filter(([, shape]) => !shape.link);
  }

  #ofTenant(kind: string): Predicate {
    return ofTenant(kind, this.standing.charter.shapes, this.standing.facts.tenant.id);
  }

  /** The row is of this tenant. */
  tenant(kind: string, alias: string): Fragment {
    // guard tenant-condition by agree: Rows of other tenants would be reached.
    return /* guard tenant-condition (replaced) */ this.#condition(this.#ofTenant(kind), kind, alias, (wall) => wall.tenant(kind, alias));
  }

  /** The row is of this tenant and reached by the action; as it is, or as a change left it. */
  reached(kind: string, action: string, alias: string, image?: 'after'): Fragment {
    if (!this.declares(kind, action)) {
      throw new LintelError(
        'action-undeclared',
        `${kind} has no action "${action}" in the charter, so nobody may do that; declare the action and give it to a role`,
        { kind, action },
      );
    }
    const where = this.standing.reachOf(`${kind}.${action}`, image);
    if (where.op === 'always') return this.tenant(kind, alias);
    if (where.op === 'never') return verbatim('false');
    const one = this.#wall ? undefined : inOneStep(this.#ofTenant(kind), where);
    if (one) return this.writer.condition(one, kind, alias);
    return sqlText`${this.tenant(kind, alias)} and ${this.#condition(where, kind, alias, (wall) => wall.reached(kind, action, alias, image))}`;
  }

  /** The row is reached by grants of the standing itself; or by those that it has in the place of another. */
  reachedBy(kind: string, action: string, alias: string, of: string | undefined): Fragment {
    const { grants } = this.standing.reaches.action(this.standing.charter.permission(`${kind}.${action}`));
    const those = grants.filter(({ grant: { path } }) => (path.by === 'deputy' ? path.of : undefined) === of);
    return this.writer.condition(or(...those.map(({ where }) => where)), kind, alias);
  }

  /** The row is of this tenant, and somebody else of it may read it. Under the policies what their rule asks of other tables is asked of the wall: here these show what whoever writes may see. */
  async readBy(them: Standing, kind: string, alias: string, db: Kysely<any>): Promise<Fragment> {
    if (!this.#wall) return new Boundary(them, this.support, this.writer).reached(kind, 'read', alias);
    const where = them.reachOf(`${kind}.read`);
    const tenant = this.tenant(kind, alias);
    // guard new-owner-asked-of-policies (negated) by policies: A new owner's right would be asked of what the giver sees.
    if (!looksAside(where)) return sqlText`${tenant} and ${this.writer.condition(where, kind, alias)}`;
    const question = this.#wall.question(kind, where);
    const signature = await this.support.signed?.(question, db);
    return sqlText`${tenant} and lintel_wall.asked(${question}, ${signature}, to_jsonb(${name(alias)}))`;
  }

  /** Under the policies what looks at other tables is asked of the wall, which sees them as they are. */
  #condition(where: Predicate, kind: string, alias: string, atWall: (wall: ReachWriter) => Fragment): Fragment {
    return this.#wall && looksAside(where) ? atWall(this.#wall) : this.writer.condition(where, kind, alias);
  }

  /** Records that may be named as somebody's parent: those that may be read, or chosen without being read. */
  choosable(kind: string): Predicate {
    const read = this.standing.reachOf(`${kind}.read`);
    return this.declares(kind, CHOOSE) ? or(read, this.standing.reachOf(`${kind}.${CHOOSE}`)) : read;
  }

  /** The parent that a field names is one which this standing may read or choose. */
  parentReadable(kind: string, via: string, to: string, alias: string): Fragment {
    if (this.#wall) return this.#wall.choosable(kind, via, alias);
    return this.writer.condition({ op: 'parent', via, where: this.choosable(to) }, kind, alias);
  }

  declares(kind: string, action: string): boolean {
    return Object.hasOwn(this.standing.charter.kind(kind).actions, action);
  }

  /** No limit refuses that the row became so by the action. */
  unlimited(kind: string, action: string, alias: string): Fragment {
    const { limits } = this.standing.reaches.action(this.standing.charter.permission(`${kind}.${action}`), 'after');
    return this.#condition(not(or(...limits.map(({ where }) => where))), kind, alias, (wall) => wall.unlimited(kind, action, alias));
  }

  /** Where a field may be read, if that takes more than reading its record; undefined: on every record. */
  shows(kind: string, field: string, alias: string): Fragment | undefined {
    const action = this.standing.charter.kind(kind).fields[field]?.read;
    const where = action === undefined ? undefined : this.standing.reachOf(`${kind}.${action}`);
    if (where === undefined || where.op === 'always') return undefined;
    return this.#condition(where, kind, alias, (wall) => wall.reached(kind, action as string, alias));
  }

  /** A field's value as this standing may see it: empty where it may not. */
  visible([field]: ColumnField, kind: string, alias: string): Fragment {
    const column = this.writer.column(this.shape(kind), field, alias);
    const shows = this.shows(kind, field, alias);
    // guard mask by agree: A masked field would be shown.
    return shows === undefined ? column : /* guard mask */ sqlText`case when ${shows} then ${column} end`;
  }

  /** A field among the columns of {@link readable}: under its own name, which a plain column has already. */
  #shown(field: ColumnField, kind: string): Fragment {
    const value = this.visible(field, kind, 't');
    return this.shows(kind, field[0], 't') === undefined ? value : sqlText`${value} as ${name(field[1].column)}`;
  }

  /** {@link readable} as a node with only these columns of it, written once for each kind and choice; guarded: each row says that it is in reach. */
  readableNode(kind: string, used: ReadonlySet<string>, guarded: boolean, holdsBack: boolean): RawNode {
    const fields = this.columnFields(kind).filter(([, shape]) => used.has(shape.column));
    const key = `${kind} ${fields.map(([field]) => field).join(' ')} ${guarded} ${holdsBack}`;
    const known = this.#readable.get(key);
    if (known) return known;
    const extra = guarded ? [sqlText`(${this.reached(kind, 'read', 't')}) is true as ${name(OK)}`] : [];
    const node = this.readable(kind, fields, undefined, extra, holdsBack).toNode();
    this.#readable.set(key, node);
    return node;
  }

  /** True if each of these columns is a field that this standing sees on every record which it may read. */
  showsPlainly(kind: string, columns: ReadonlySet<string>): boolean {
    let plain = this.#plain.get(kind);
    if (!plain) {
      plain = new Set(this.columnFields(kind).flatMap(([field, shape]) => (this.shows(kind, field, 't') === undefined ? [shape.column] : [])));
      this.#plain.set(kind, plain);
    }
    for (const column of columns) if (!plain.has(column)) return false;
    return true;
  }

  /** The condition of reading a kind under this alias, as a node. */
  reachedNode(kind: string, alias: string, holdsBack: boolean): RawNode {
    const nodes = this.#reached[holdsBack ? 'held' : 'open'];
    const byAlias = nodes.get(kind) ?? new Map<string, RawNode>();
    nodes.set(kind, byAlias);
    const node = byAlias.get(alias) ?? this.#held(kind, alias, holdsBack).toNode();
    byAlias.set(alias, node);
    return node;
  }

  /** Held back, a condition that looks at other tables is asked where the rows are read, and makes no join, before which others could be. */
  #held(kind: string, alias: string, holdsBack: boolean): Fragment {
    const reached = this.reached(kind, 'read', alias);
    if (!holdsBack || !reached.texts.some((text) => text.includes('(select '))) return reached;
    const held = sqlText`(${reached}) is true`;
    return this.shape(kind).tenantField === undefined ? held : sqlText`${this.tenant(kind, alias)} and ${held}`;
  }

  /** What is known of the columns of a kind, by their names. */
  statics(kind: string): ReadonlyMap<string, Static> {
    const known = this.#statics.get(kind) ?? new Map(this.columnFields(kind).map(([field, shape]) => [shape.column, this.#static(kind, field, shape)]));
    this.#statics.set(kind, known);
    return known;
  }

  #static(kind: string, field: string, { type }: FieldShape): Static {
    if (type !== 'text') return { type, total: true };
    const isId = this.standing.charter.kind(kind).fields[field]?.role !== 'plain';
    return { type, total: true, collation: isId ? IDS : `${kind}.${field}` };
  }

  /** The table as this standing may read it, to stand in a query instead of the table: these fields of it. */
  readable(
    kind: string,
    fields = this.columnFields(kind),
    from: Fragment = this.writer.table(this.shape(kind)),
    extra: readonly Fragment[] = [],
    holdsBack = false,
  ): Fragment {
    const columns = [...extra, ...fields.map((f) => this.#shown(f, kind))];
    const list = columns.length === 0 ? verbatim('1 as "one"') : joinFragments(columns, ', ');
    // guard read-narrowed by agree: Rows out of reach would be read after a write.
    return sqlText`(select ${list} from ${from} as "t"${/* guard read-narrowed */ sqlText` where ${this.#held(kind, 't', holdsBack)}`})`;
  }
}

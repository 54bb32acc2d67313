import { LintelError } from '../base/index.js';
import { type Comparison, type FieldShape, type KindShape, type LinkTable, type Predicate, readValue, type Scalar, type Shapes } from '../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';

/** The opposite of a condition, which is false where the condition is not known. */
// guard negation-of-empty by agree: A negated comparison with an empty field would not hold.
const isNotTrue = /* guard negation-of-empty (replaced) */ (yes: Fragment): Fragment => sqlText`(${yes}) is not true`;

/**
 * What one database understands, PostgreSQL and PGlite unless a subclass says otherwise: specialised predicates written as SQL,
 * and what it can do. Negation is pushed down to the comparisons, and each is written so that an empty
 * column makes it false, or its negation true: SQL's third value shows nowhere, neither here nor in another dialect.
 *
 * A dialect overrides what is marked so, from `writesInside` on.
 */
export class SqlWriter {
  readonly #shapes: Shapes;
  #aliases = 0;

  /** A write can stand inside a query, with the check of its rows and the answer around it. */
  readonly writesInside: boolean = true;

  /** Where a write is a statement of its own: it answers the ids of what it wrote, whatever it is. */
  readonly answersWrites: boolean = true;

  /** What begins a transaction in which a write is steps. */
  readonly begins: readonly string[] = ['begin'];

  /** Whose words the tables of operators and functions mean. */
  readonly vocabulary: 'postgres' | 'sqlite' | 'mariadb' = 'postgres';

  constructor(shapes: Shapes) {
    this.#shapes = shapes;
  }

  /**
   * A pattern that cannot fail: one that ends in the middle of an escape fails only where a text comes so far, and too many `%` only where a text is long. A mark
   * that escapes nothing is taken for itself.
   *
   * @throws LintelError `bad-pattern` for more than 100 of `%`.
   */
  pattern(given: string): string {
    const open = /\\*$/.exec(given)?.[0].length ?? 0;
    // guard pattern-escape-closed by queries: A pattern that ends in an escape would fail on hidden rows.
    return insistOnFewGaps(open % 2 === 1 ? /* guard pattern-escape-closed */ `${given}\\` : given);
  }

  /** The condition under which a row of `kind`, called `alias` in the query, satisfies the predicate. */
  condition(p: Predicate, kindName: string, alias: string, wanted = true): Fragment {
    const kind = this.#shapes[kindName] as KindShape;
    switch (p.op) {
      case 'always':
      case 'never':
        return verbatim((p.op === 'always') === wanted ? 'true' : 'false');
      case 'not':
        return this.condition(p.of, kindName, alias, !wanted);
      case 'and':
      case 'or': {
        const parts = p.of.map((inner) => this.condition(inner, kindName, alias, wanted));
        // guard and-stays-and by agree: Conditions joined by *and* would hold when one of them does.
        return sqlText`(${joinFragments(parts, (p.op === 'and') === wanted ? /* guard and-stays-and */ ' and ' : ' or ')})`;
      }
      case 'isEmpty':
        return sqlText`${this.column(kind, p.field, alias)} is ${verbatim(wanted ? 'null' : 'not null')}`;
      case 'parent':
        return this.#parent(p, kind, alias, wanted);
      case 'followed':
        throw new LintelError('not-specialised', `${p.via} is still to be followed; specialise it first`);
      default:
        return this.#comparison(p, kind, alias, wanted);
    }
  }

  column(kind: KindShape, field: string, alias: string): Fragment {
    return name(alias, (kind.fields[field] as FieldShape).column);
  }

  table(kind: KindShape): Fragment {
    return kind.schema === undefined ? name(kind.table) : name(kind.schema, kind.table);
  }

  #fresh(): string {
    this.#aliases += 1;
    return `lintel_${this.#aliases}`;
  }

  #parent(p: Extract<Predicate, { op: 'parent' }>, kind: KindShape, alias: string, wanted: boolean): Fragment {
    const to = kind.fields[p.via]?.to as string;
    const parent = this.#shapes[to] as KindShape;
    const inner = this.#fresh();
    return sqlText`${verbatim(wanted ? 'exists' : 'not exists')} (select 1 from ${this.table(parent)} as ${name(inner)} where ${this.parentIs(kind, p.via, alias, inner)} and ${this.condition(p.where, to, inner)})`;
  }

  /** A row of the parent's kind, called `inner`, is the parent that a row names, in the same tenant. */
  parentIs(kind: KindShape, via: string, alias: string, inner: string): Fragment {
    const parent = this.#shapes[kind.fields[via]?.to as string] as KindShape;
    const isNamed = sqlText`${this.column(parent, parent.idField, inner)} = ${this.column(kind, via, alias)}`;
    // The tenant that comes through this parent is its tenant.
    const [own, theirs] = via === kind.throughField ? [] : [this.tenantOf(kind, alias), this.tenantOf(parent, inner)];
    // guard parent-in-same-tenant by agree: A parent would be found in any tenant.
    return own && theirs ? /* guard parent-in-same-tenant */ sqlText`${this.sameTenant(theirs, own)} and ${isNamed}` : isNamed;
  }

  protected sameTenant(theirs: Fragment, own: Fragment): Fragment {
    return sqlText`${theirs} = ${own}`;
  }

  /** The tenant of a row, in a column or through a parent; undefined for a kind that belongs to none. */
  tenantOf(kind: KindShape, alias: string): Fragment | undefined {
    // guard tenant-column-qualified by agree: A parent's row could lend its tenant to another row.
    if (kind.tenantField !== undefined) return /* guard tenant-column-qualified (replaced) */ this.column(kind, kind.tenantField, alias);
    if (kind.throughField === undefined) return undefined;
    const parent = this.#shapes[kind.fields[kind.throughField]?.to as string] as KindShape;
    const inner = this.#fresh();
    return sqlText`(select ${this.tenantOf(parent, inner)} from ${this.table(parent)} as ${name(inner)} where ${this.parentIs(kind, kind.throughField, alias, inner)})`;
  }

  linkTable({ table }: LinkTable): Fragment {
    return name(table);
  }

  /** A row of a link table, called `inner`, is a link of a row. */
  linkIs(kind: KindShape, { tenant, record }: LinkTable, alias: string, inner: string): Fragment {
    const isOf = sqlText`${name(inner, record)} = ${this.column(kind, kind.idField, alias)}`;
    const own = tenant === undefined ? undefined : this.tenantOf(kind, alias);
    return tenant !== undefined && own ? sqlText`${this.sameTenant(name(inner, tenant), own)} and ${isOf}` : isOf;
  }

  #comparison(p: Comparison, kind: KindShape, alias: string, wanted: boolean): Fragment {
    const field = kind.fields[p.field] as FieldShape;
    if (p.op === 'includes') return this.#link(p, field, kind, alias, wanted);
    if (p.op === 'within' || p.op === 'among') throw new LintelError('not-loaded', `${p.field}: units and groups are not known here; enter on the server`);
    const column = this.column(kind, p.field, alias);
    const yes = 'field' in p.to ? this.writeFields(p.op, column, this.column(kind, p.to.field, alias), field) : this.#constant(p, column, field);
    // guard empty-compares-false by agree: A comparison with an empty field would hold.
    return wanted ? /* guard empty-compares-false (replaced) */ yes : isNotTrue(yes);
  }

  /** The column holds this value, which is in the normal form of the field's type; no column holds null. */
  equals(column: Fragment, value: Scalar | null, field: FieldShape): Fragment {
    return value === null ? verbatim('false') : this.#valueCompared('is', column, value, field);
  }

  #constant(p: Comparison, column: Fragment, field: FieldShape): Fragment {
    if (!('value' in p.to)) throw new LintelError('not-specialised', `${p.op} ${p.field} still names a fact; specialise it first`);
    const { value } = p.to;
    if (Array.isArray(value)) {
      if (value.length === 0) return verbatim('false');
      if (field.type !== 'instant') return this.writeList(column, value, field);
      return sqlText`(${joinFragments(
        value.map((one) => this.#valueCompared('is', column, one, field)),
        ' or ',
      )})`;
    }
    return this.#valueCompared(p.op, column, value as Scalar, field);
  }

  #valueCompared(op: Comparison['op'], column: Fragment, value: Scalar, field: FieldShape): Fragment {
    if (field.type !== 'instant') return this.writeValue(op, column, value, field);
    const next = new Date(Date.parse(String(value)) + 1).toISOString();
    return this.writeInstant(op, column, this.bound(String(value)), this.bound(next));
  }

  #link(p: Comparison, field: FieldShape, kind: KindShape, alias: string, wanted: boolean): Fragment {
    if (!field.link || !('value' in p.to)) throw new LintelError('not-specialised', `includes ${p.field} still names a fact; specialise it first`);
    const inner = this.#fresh();
    const { user } = field.link;
    const { value } = p.to;
    const named = Array.isArray(value) ? this.writeList(name(inner, user), value, field) : this.writeValue('is', name(inner, user), value, field);
    return sqlText`${verbatim(wanted ? 'exists' : 'not exists')} (select 1 from ${this.linkTable(field.link)} as ${name(inner)} where ${this.linkIs(kind, field.link, alias, inner)} and ${named})`;
  }

  /** A value that a column holds is one that its field takes; undefined where the column's type says so already. */
  fits(column: Fragment, { type, scale = 0 }: FieldShape, options?: readonly string[]): Fragment | undefined {
    if (options)
      return sqlText`${column} in (${joinFragments(
        options.map((option) => sqlText`${option}`),
        ', ',
      )})`;
    if (type === 'integer') return sqlText`${column} between ${verbatim(String(Number.MIN_SAFE_INTEGER))} and ${verbatim(String(Number.MAX_SAFE_INTEGER))}`;
    if (type === 'decimal') return sqlText`abs(${column}) < 1e18 and ${column} = trunc(${column}, ${verbatim(String(scale))})`;
    if (type === 'instant') return sqlText`${column} >= '1970-01-01Z' and ${column} < '2038-01-01Z'`;
    return undefined;
  }

  /** What an insert, and a delete, begin with. */
  insertInto(table: Fragment, alias: string): Fragment {
    return sqlText`insert into ${table} as ${name(alias)}`;
  }

  deleteFrom(table: Fragment, alias: string): Fragment {
    return sqlText`delete from ${table} as ${name(alias)}`;
  }

  /** A column in what an update sets. */
  columnToSet(_alias: string, column: string): Fragment {
    return name(column);
  }

  /** Texts as one. */
  joined(parts: readonly Fragment[]): Fragment {
    return joinFragments(parts, ' || ');
  }

  /** What to order by, for what is empty to stand behind all else. */
  ordered(value: Fragment, isDescending: boolean): Fragment {
    return sqlText`${value} ${verbatim(isDescending ? 'desc nulls first' : 'asc nulls last')}`;
  }

  /** What stands in an insert for a cell that is not given. */
  get unset(): Fragment {
    return verbatim('default');
  }

  /** Text of a statement of ours, for whoever sends it by other means. */
  spelled(sql: string): string {
    return sql;
  }

  /** How a value is marked in the text of a statement, by its number. */
  placeholder(number: number): string {
    return `$${number}`;
  }

  /** A value as JSON, of text that is JSON. */
  json(text: string | null): Fragment {
    return text === null ? verbatim('null::jsonb') : sqlText`${text}::jsonb`;
  }

  /** A row as JSON, by column: a decimal as its digits. */
  image(kind: KindShape, fields: readonly string[], alias: string): Fragment {
    const pairs = fields.map((field) => {
      const { column, type } = kind.fields[field] as FieldShape;
      return sqlText`${verbatim(`'${column.replaceAll("'", "''")}', `)}${name(alias, column)}${verbatim(type === 'decimal' ? '::text' : '')}`;
    });
    // A function takes a hundred arguments.
    const parts = pairs.flatMap((_, i) => (i % 50 === 0 ? [sqlText`jsonb_build_object(${joinFragments(pairs.slice(i, i + 50), ', ')})`] : []));
    return joinFragments(parts, ' || ');
  }

  /** The row that an image shows, to stand in the place of a table. */
  fromImage(kind: KindShape, image: Fragment): Fragment {
    return sqlText`jsonb_populate_record(null::${this.table(kind)}, ${image})`;
  }

  /** An id as text, and the text of one as the column has it. */
  idAsText(column: Fragment): Fragment {
    return sqlText`${column}::text`;
  }

  idFromText(text: Fragment, { type }: FieldShape): Fragment {
    return type === 'text' ? text : sqlText`${text}::${verbatim(type === 'integer' ? 'bigint' : 'uuid')}`;
  }

  /** Two values of a column are not the same. */
  differs(one: Fragment, other: Fragment): Fragment {
    return sqlText`${one} is distinct from ${other}`;
  }

  /** The moment so many days before now. */
  daysAgo(days: number): Fragment {
    return sqlText`statement_timestamp() - make_interval(days => ${days}::int)`;
  }

  /** No trigger of ours puts down what is written to a table. */
  noTrigger(kind: KindShape): Fragment {
    const table = this.table(kind).texts.join('').replaceAll("'", "''");
    return verbatim(
      `not exists (select 1 from pg_catalog.pg_trigger where tgrelid = pg_catalog.to_regclass('${table}') and tgname = 'lintel_journal_changed' and tgenabled <> 'D')`,
    );
  }

  /** A mark of a whole table, which is another as soon as a row is; undefined where a database has none. */
  digest(table: Fragment): Fragment | undefined {
    return sqlText`(select count(*) || coalesce(md5(string_agg(md5("t"::text), '' order by md5("t"::text))), '') from ${table} as "t")`;
  }

  /** Lets whoever reads these tables go on, and holds up whoever writes to them or locks, until the transaction ends; and how many wait for it. Undefined where a database has no such thing. */
  holdUp(tables: readonly Fragment[]): { readonly hold: Fragment; readonly waiting: Fragment } | undefined {
    const waiting = sqlText`select count(distinct pid)::int as "n" from pg_catalog.pg_locks where not granted and pg_catalog.pg_backend_pid() = any(pg_catalog.pg_blocking_pids(pid))`;
    return { hold: sqlText`lock table ${joinFragments(tables, ', ')} in exclusive mode`, waiting };
  }

  /** Keeps the links of a tenant until the transaction ends, beside others who keep them; and claims them, answering whether nobody keeps them. Undefined where rows show who has linked. */
  linksOf(tenant: string): { readonly keep: Fragment; readonly claim: Fragment } | undefined {
    const key = sqlText`pg_catalog.hashtextextended('lintel links of ' || ${tenant}::text, 0)`;
    return {
      keep: sqlText`select pg_catalog.pg_advisory_xact_lock_shared(${key})`,
      claim: sqlText`select pg_catalog.pg_try_advisory_xact_lock(${key}) as "isFree"`,
    };
  }

  /** A value as the driver takes it. */
  bind(value: unknown): unknown {
    return value;
  }

  /** A value that a field takes, as it is written into its column. */
  cell(value: unknown, _field: FieldShape): unknown {
    return value;
  }

  /** A cell of a result, as records in memory hold it: a driver gives a large whole number as text, and so each in a list. */
  readCell(raw: unknown, field: FieldShape): unknown {
    if (field.type !== 'integer') return raw;
    return Array.isArray(raw) ? raw.map((one) => readValue('integer', one) ?? one) : (readValue('integer', raw) ?? raw);
  }

  /** Locks what a select found, until the transaction ends. */
  lock(alias: string): Fragment {
    return sqlText` for update of ${name(alias)}`;
  }

  /** Locks what a select found, or fails at once, also where somebody has written it and not committed; undefined where a select passes over that. */
  get lockAtOnce(): Fragment | undefined {
    return undefined;
  }

  /** The people of a list field, sorted, as one cell. */
  people(kind: KindShape, link: LinkTable, alias: string): Fragment {
    return sqlText`array(select "l".${name(link.user)} from ${this.linkTable(link)} as "l" where ${this.linkIs(kind, link, alias, 'l')} order by 1)`;
  }

  /** A list as one parameter, so that the text of a query does not depend on its length. */
  writeList(column: Fragment, values: readonly unknown[] | Fragment, field: FieldShape): Fragment {
    return sqlText`${column} = any(${values}${verbatim(field.type === 'integer' ? '::bigint[]' : '')})`;
  }

  /** Text is ordered by code point, whatever collation the column has; a number that a small column cannot hold is in none of its rows, and no error. */
  protected writeValue(op: Comparison['op'], column: Fragment, value: unknown, field: FieldShape): Fragment {
    // guard integer-compared-wide by agree: A number would be compared as a narrow column holds it.
    return sqlText`${op === 'is' ? column : this.comparable(column, field)} ${this.operator(op)} ${value}${/* guard integer-compared-wide */ verbatim(field.type === 'integer' ? '::bigint' : '')}`;
  }

  protected writeFields(op: Comparison['op'], a: Fragment, b: Fragment, field: FieldShape): Fragment {
    return sqlText`${this.comparable(a, field)} ${this.operator(op)} ${this.comparable(b, field)}`;
  }

  /** The column as it has to stand between two others for their order to be ours: to the millisecond, by code point. */
  comparable(column: Fragment, field: FieldShape): Fragment {
    if (field.type === 'instant') return sqlText`date_trunc('milliseconds', ${column})`;
    return field.type === 'text' ? sqlText`${column} collate "C"` : column;
  }

  protected operator(op: Comparison['op']): Fragment {
    return OPERATORS[op];
  }

  /** An instant as a bound in a comparison with a column. */
  protected bound(iso: string): string {
    return iso;
  }

  /** The database keeps microseconds and we compare milliseconds: the bounds are rewritten, so that an index still serves. */
  protected writeInstant(op: Comparison['op'], column: Fragment, from: unknown, next: unknown): Fragment {
    switch (op) {
      case 'before':
        return sqlText`${column} < ${from}`;
      case 'after':
        return sqlText`${column} >= ${next}`;
      case 'atLeast':
        return sqlText`${column} >= ${from}`;
      case 'atMost':
        return sqlText`${column} < ${next}`;
      default:
        return sqlText`(${column} >= ${from} and ${column} < ${next})`;
    }
  }
}

const MAX_GAPS = 100;

/** Several `%` in a row mean one. */
export function insistOnFewGaps(pattern: string): string {
  const short = pattern.replace(/(?<!\\)((?:\\\\)*)%{2,}/g, '$1%');
  if (short.split('%').length - 1 <= MAX_GAPS) return short;
  throw new LintelError('bad-pattern', `a pattern has at most ${MAX_GAPS} of %; ask for less`, {});
}

const OPERATORS: Record<Comparison['op'], Fragment> = {
  is: verbatim('='),
  in: verbatim('='),
  within: verbatim('='),
  among: verbatim('='),
  includes: verbatim('='),
  before: verbatim('<'),
  after: verbatim('>'),
  atLeast: verbatim('>='),
  atMost: verbatim('<='),
};

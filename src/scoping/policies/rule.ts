import { hashOf } from '../../base/index.js';
import { type Charter, idType as idTypeOf } from '../../charter/index.js';
import { type Comparison, type FieldShape, type KindShape, type LinkTable, type Predicate, takesList, type ValueType } from '../../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { SqlWriter } from '../writer.js';
import { factKey } from './facts.js';

/** The locked schema in which everything stands that the policies need. */
export const WALL = 'lintel_wall';

/** One query of a function that answers ids. */
export interface WallQuery {
  /** What the standing has to hold: without it the query adds none, and is not run. */
  readonly onlyWith?: string;
  readonly query: string;
  /** Where it is run, those that come after it are not: it answers all that they would. */
  readonly isAll?: true;
}

/** A function of the wall that answers ids. */
export interface WallFunction {
  readonly name: string;
  readonly type: string;
  readonly takesKey: boolean;
  readonly queries: readonly WallQuery[];
  /** The name of another that answers them as an array, by which an index is asked: or null where they are many. */
  few?: string;
}

/** What has to be held for a fact to be told; and what has to be claimed for it to be asked at all. */
export interface OnlyWith {
  readonly key: string;
  readonly claim?: string;
}

/** `shrink`: a fact that is missing makes the rule hold for fewer rows; `grow`: for more. */
type Bias = 'shrink' | 'grow';

const SQL_TYPES: Record<ValueType, string> = { uuid: 'uuid', text: 'text', integer: 'bigint', boolean: 'boolean', decimal: 'numeric', instant: 'timestamptz' };

export const sqlTypeOf = (field: FieldShape): string => SQL_TYPES[field.type];

/**
 * What something in the wall is called: for people what it is for, then a mark of what it does. So no two are called alike, whatever kinds are called and however long, and whoever asks for one asks
 * for what it does, or for nothing that is there.
 */
export const calledBy = (wish: string, does: string): string => {
  const plain = wish.toLowerCase().replace(/[^a-z0-9_]/g, '_');
  // guard policy-function-by-content by policies: Two functions that do different things would be called the same.
  return `${plain.slice(0, 44)}${/* guard policy-function-by-content */ `_${hashOf([does]).slice(0, 12)}`}`;
};

/** Text as an SQL literal. */
export function literal(value: unknown): string {
  if (Array.isArray(value)) return literal(`{${value.map((v) => `"${String(v).replace(/[\\"]/g, '\\$&')}"`).join(',')}}`);
  if (typeof value === 'number' || typeof value === 'boolean') return String(value);
  const text = String(value).replaceAll("'", "''");
  return text.includes('\\') ? ` E'${text.replaceAll('\\', '\\\\')}'` : `'${text}'`;
}

/** A fragment as text, its parameters written as literals. */
export function inline(fragment: Fragment): string {
  return fragment.toText(literal);
}

/** A sub-select of its own is worked out once a statement, not once a row. @param claim where it does not hold, nothing is called. */
export const once = (call: string, type?: string, claim?: string) =>
  verbatim(`(select ${claim ? `case when ${claim} then ${WALL}.${call} end` : `${WALL}.${call}`})${type ? `::${type}` : ''}`);
/** True where the carried standing says so, and never empty. */
export const told = (what: string, key: string) => verbatim(`(select ${WALL}.told('${what}', ${key})) is not null`);
export const all = (parts: readonly Fragment[], word: ' and ' | ' or ', none: string) =>
  parts.length === 0 ? verbatim(none) : parts.length === 1 ? (parts[0] as Fragment) : sqlText`(${joinFragments(parts, word)})`;

/**
 * Writes the rules of a charter for whoever carries a standing: facts are read from the standing that the transaction carries, and
 * what rests on another table is asked of a function, since a policy that looks at a table with a policy would go round.
 */
export abstract class RuleWriter extends SqlWriter {
  protected readonly charter: Charter;
  /** Functions that answer ids, by their names. */
  readonly #functions = new Map<string, WallFunction>();

  constructor(charter: Charter) {
    super(charter.shapes);
    this.charter = charter;
  }

  /** The functions that the rules written so far rest on: those that others need come first. */
  functions(): WallFunction[] {
    return [...this.#functions.values()];
  }

  protected shape(kind: string): KindShape {
    return this.charter.shapes[kind] as KindShape;
  }

  /** What functions that answer ids of a kind return: a column may be of a narrower type. */
  protected idType(kind: string): string {
    const { fields, idField } = this.shape(kind);
    return sqlTypeOf(fields[idField] as FieldShape);
  }

  protected get tenantType(): string {
    return SQL_TYPES[idTypeOf(this.charter, 'tenant')];
  }

  /** @param id what has to be the tenant of the row; it is the carried one, or none. */
  protected isTenant(kind: string, alias: string, id: Fragment): Fragment {
    const shape = this.shape(kind);
    if (shape.throughField !== undefined)
      return sqlText`(${id} is not null and ${this.#isHere(shape.fields[shape.throughField]?.to as string, this.column(shape, shape.throughField, alias))})`;
    return shape.tenantField === undefined ? sqlText`${id} is not null` : sqlText`${this.column(shape, shape.tenantField, alias)} = ${id}`;
  }

  tenant(kind: string, alias: string): Fragment {
    return this.isTenant(kind, alias, once(`told('tenant')`, this.tenantType));
  }

  /**
   * The ids of a kind in the carried tenant, for rows that have their tenant through one: looked up by the row's own column, by an index, as the owner of the tables; nothing else is to be
   * seen in it, and a barrier keeps what fails from being asked of others.
   */
  here(kind: string): string {
    const shape = this.shape(kind);
    // guard parent-ids-of-tenant by agree: The row policies would find parents of every tenant.
    return `create view ${WALL}.${inline(name(hereView(kind)))} with (security_barrier = true) as select ${inline(this.column(shape, shape.idField, 'p'))} as "id" from ${inline(this.qualified(kind))} as "p"${/* guard parent-ids-of-tenant */ ` where ${inline(this.tenant(kind, 'p'))}`};`;
  }

  protected idsWhere(kind: string, condition: Fragment): string {
    const shape = this.shape(kind);
    // guard narrow-ids-widened by agree: Ids from a narrower column would not compare with those of a wider one.
    return `select ${inline(this.column(shape, shape.idField, 'p'))}${/* guard narrow-ids-widened */ `::${this.idType(kind)}`} from ${inline(this.qualified(kind))} as "p" where ${inline(this.tenant(kind, 'p'))} and ${inline(condition)}`;
  }

  /** With its schema: functions of the wall look nowhere else. */
  override table({ schema, table }: KindShape): Fragment {
    return name(schema ?? 'public', table);
  }

  override linkTable({ table }: LinkTable): Fragment {
    return name('public', table);
  }

  qualified(kind: string): Fragment {
    return this.table(this.shape(kind));
  }

  /** The name of the function that answers the ids of these queries. */
  protected listing(wish: string, kind: string, queries: readonly WallQuery[], takesKey = false): string {
    const called = calledBy(wish, JSON.stringify(queries));
    if (!this.#functions.has(called)) this.#functions.set(called, { name: called, type: this.idType(kind), takesKey, queries });
    return called;
  }

  /** The function that answers the same ids as another if they are few, and their type. */
  protected few(ids: string): Required<WallFunction> {
    const one = this.#functions.get(ids) as WallFunction;
    one.few = `few_${ids}`;
    return one as Required<WallFunction>;
  }

  protected among(column: Fragment, ids: string): Fragment {
    return sqlText`${column} in (select ${verbatim(WALL)}.${verbatim(ids)}())`;
  }

  /** The name of the function that answers the ids of a kind that the carried standing may read. */
  abstract readable(kind: string): string;

  /** A rule that still names facts. `wanted` false: its opposite. */
  rule(p: Predicate, kind: string, alias: string, wanted = true, bias: Bias = 'shrink'): Fragment {
    const shape = this.shape(kind);
    switch (p.op) {
      case 'not':
        return this.rule(p.of, kind, alias, !wanted, bias === 'shrink' ? 'grow' : 'shrink');
      case 'and':
      case 'or':
        return all(
          p.of.map((inner) => this.rule(inner, kind, alias, wanted, bias)),
          (p.op === 'and') === wanted ? ' and ' : ' or ',
          'true',
        );
      case 'always':
      case 'never':
      case 'isEmpty':
        return this.condition(p, kind, alias, wanted);
      case 'parent':
      case 'followed':
        return truth(this.among(this.column(shape, p.via, alias), this.parents(p, kind, bias)), wanted);
      default:
        return this.factual(p, kind, alias, wanted, bias);
    }
  }

  /** The function that answers the ids of the parents of which a rule holds. */
  protected parents(p: Extract<Predicate, { via: string }>, kind: string, bias: Bias = 'shrink'): string {
    const to = this.shape(kind).fields[p.via]?.to as string;
    if (p.op === 'followed') return this.readable(to);
    return this.listing(`some_${to}`, to, [{ query: this.idsWhere(to, this.rule(p.where, to, 'p', true, bias)) }]);
  }

  protected factual(p: Comparison, kind: string, alias: string, wanted: boolean, bias: Bias, onlyWith?: OnlyWith): Fragment {
    const shape = this.shape(kind);
    const field = shape.fields[p.field] as FieldShape;
    if (!isFact(p) && p.op !== 'includes') return this.condition(p, kind, alias, wanted);
    const value = this.#valueOf(p, field, onlyWith);
    const yes =
      p.op === 'includes'
        ? this.among(this.column(shape, shape.idField, alias), this.#linked(p, kind, onlyWith))
        : takesList(p.op)
          ? this.#inList(this.column(shape, p.field, alias), value, field)
          : this.#compared(p.op, this.column(shape, p.field, alias), value, field);
    if (!isFact(p)) return truth(yes, wanted);
    // What is missing of the person counts against them, on whichever side of a "not" it stands.
    if (wanted === (bias === 'grow')) return sqlText`(${truth(yes, wanted)} or ${value} is null)`;
    // What is empty is not true: only its opposite has to be told so.
    return wanted ? yes : sqlText`(${truth(yes, wanted)} and ${value} is not null)`;
  }

  #valueOf(p: Comparison, field: FieldShape, onlyWith?: OnlyWith): Fragment {
    if (!isFact(p)) return verbatim(literal((p.to as { value: unknown }).value));
    const list = takesList(p.op);
    const asked = literal(factKey(p, field)) + (onlyWith ? `, ${literal(onlyWith.key)}` : '');
    return once(list ? `facts(${asked})` : `told('fact', ${asked})`, `${sqlTypeOf(field)}${list ? '[]' : ''}`, onlyWith?.claim);
  }

  #inList(column: Fragment, values: Fragment, field: FieldShape): Fragment {
    return this.writeList(field.type === 'instant' ? this.comparable(column, field) : column, values, field);
  }

  /** The function that answers the records to which somebody is linked. */
  #linked(p: Comparison, kind: string, onlyWith?: OnlyWith): string {
    const { table } = (this.shape(kind).fields[p.field] as FieldShape).link as NonNullable<FieldShape['link']>;
    return this.listing(`linked_${table}`, kind, [{ query: this.linkedIds(p, kind, onlyWith) }]);
  }

  protected linkedIds(p: Comparison, kind: string, onlyWith?: OnlyWith): string {
    const field = this.shape(kind).fields[p.field] as FieldShape;
    const link = field.link as NonNullable<FieldShape['link']>;
    const { record, user } = link;
    const where = sqlText`${this.linkHere(kind, link, 'l')} and ${name('l', user)} = ${this.#valueOf(p, field, onlyWith)}`;
    return `select ${inline(name('l', record))}::${this.idType(kind)} from ${inline(this.linkTable(link))} as "l" where ${inline(where)}`;
  }

  /** A record of a kind is of the carried tenant. */
  #isHere(kind: string, id: Fragment): Fragment {
    return sqlText`exists (select 1 from ${verbatim(WALL)}.${name(hereView(kind))} as "h" where "h"."id" = ${id})`;
  }

  /** A link is of the carried tenant. */
  linkHere(kind: string, { tenant, record }: LinkTable, alias: string): Fragment {
    if (tenant !== undefined) return sqlText`${name(alias, tenant)} = ${once(`told('tenant')`, this.tenantType)}`;
    return this.#isHere(kind, name(alias, record));
  }

  /** A comparison with one value that is worked out in the database. */
  #compared(op: Comparison['op'], column: Fragment, value: Fragment, field: FieldShape): Fragment {
    if (field.type !== 'instant') return this.writeValue(op, column, value, field);
    return this.writeInstant(op, column, value, sqlText`(${value} + interval '1 millisecond')`);
  }
}

/** The view of the ids of a kind in the carried tenant. */
const hereView = (kind: string) => calledBy(`here_${kind}`, kind);

export const isFact = (p: Comparison) => 'me' in p.to || 'context' in p.to;

/** `wanted` false: the opposite, in which what is empty counts as true. */
function truth(yes: Fragment, wanted: boolean): Fragment {
  return wanted ? yes : sqlText`((${yes}) is not true)`;
}

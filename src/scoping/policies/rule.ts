import { CHOOSE, type Charter, followedFields, idType, reachesOfKind, restsOnRead } from '../../charter/index.js';
import { type Comparison, type FieldShape, type KindShape, type LinkTable, type Predicate, takesList, type ValueType } from '../../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { SqlWriter } from '../writer.js';
import { factKey } from './facts.js';

/** The locked schema in which everything stands that the policies need. */
export const WALL = 'lintel_wall';

/** One query of a function that answers ids, and what is asked before it is run: where that does not hold, it adds none. */
export interface WallQuery {
  readonly onlyIf?: string;
  readonly query: string;
}

/** A function of the wall that answers ids. */
export interface WallFunction {
  readonly name: string;
  readonly type: string;
  readonly takesKey: boolean;
  readonly queries: readonly WallQuery[];
}

/** `shrink`: a fact that is missing makes the rule hold for fewer rows; `grow`: for more. */
type Bias = 'shrink' | 'grow';

const SQL_TYPES: Record<ValueType, string> = { uuid: 'uuid', text: 'text', integer: 'bigint', boolean: 'boolean', decimal: 'numeric', instant: 'timestamptz' };

export const sqlTypeOf = (field: FieldShape): string => SQL_TYPES[field.type];

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

/** What a standing carries among what it holds when something of a permission is held at units or records. */
export const anchoredMark = (permission: string) => `@${permission}`;

/** A sub-select of its own is worked out once a statement, not once a row. */
const once = (call: string, type?: string) => verbatim(`(select ${WALL}.${call})${type ? `::${type}` : ''}`);
/** True where the carried standing says so, and never empty. */
const told = (what: string, key: string) => verbatim(`(select ${WALL}.told('${what}', ${key})) is not null`);
const all = (parts: readonly Fragment[], word: ' and ' | ' or ', none: string) =>
  parts.length === 0 ? verbatim(none) : parts.length === 1 ? (parts[0] as Fragment) : sqlText`(${joinFragments(parts, word)})`;

/**
 * Writes the rules of a charter for whoever carries a standing: facts are read from the standing that the transaction carries, and
 * what rests on another table is asked of a function, since a policy that looks at a table with a policy would go round.
 */
export class RuleWriter extends SqlWriter {
  readonly #charter: Charter;
  /** Bodies of the functions that answer ids, with their names. */
  readonly #functions = new Map<string, WallFunction>();

  constructor(charter: Charter) {
    super(charter.shapes);
    this.#charter = charter;
  }

  /** The functions that the rules written so far rest on: those that others need come first. */
  functions(): WallFunction[] {
    return [...this.#functions.values()];
  }

  #shape(kind: string): KindShape {
    return this.#charter.shapes[kind] as KindShape;
  }

  /** What functions that answer ids of a kind return: a column may be of a narrower type. */
  #idType(kind: string): string {
    const { fields, idField } = this.#shape(kind);
    return sqlTypeOf(fields[idField] as FieldShape);
  }

  get #tenantType(): string {
    return SQL_TYPES[idType(this.#charter, 'tenant')];
  }

  /** @param id what has to be the tenant of the row; it is the carried one, or none. */
  #isTenant(kind: string, alias: string, id: Fragment): Fragment {
    const shape = this.#shape(kind);
    if (shape.throughField !== undefined)
      return sqlText`(${id} is not null and ${this.#isHere(shape.fields[shape.throughField]?.to as string, this.column(shape, shape.throughField, alias))})`;
    return shape.tenantField === undefined ? sqlText`${id} is not null` : sqlText`${this.column(shape, shape.tenantField, alias)} = ${id}`;
  }

  tenant(kind: string, alias: string): Fragment {
    return this.#isTenant(kind, alias, once(`told('tenant')`, this.#tenantType));
  }

  /** The tenant that the connection names, so that an index serves. Anybody can name any: what reaches a row says whether it is so. */
  tenantNamed(kind: string, alias: string): Fragment {
    if (this.#shape(kind).tenantField === undefined) return verbatim('true');
    return this.#isTenant(kind, alias, verbatim(`nullif(current_setting('lintel.tenant', true), '')::${this.#tenantType}`));
  }

  /**
   * The ids of a kind in the carried tenant, for rows that have their tenant through one: looked up by the row's own column, by an index, as the owner of the tables; nothing else is to be
   * seen in it, and a barrier keeps what fails from being asked of others.
   */
  here(kind: string): string {
    const shape = this.#shape(kind);
    return `create view ${WALL}.${inline(name(hereView(kind)))} with (security_barrier = true) as select ${inline(this.column(shape, shape.idField, 'p'))} as "id" from ${inline(this.qualified(kind))} as "p" where ${inline(this.tenant(kind, 'p'))};`;
  }

  /**
   * The row is of the standing's tenant and reached by an action: grants, limits, and `read` where that is asked too. Of a row that is read, what fewer people hold is looked up in a
   * list, which is of the statement's own snapshot as the row is. What writes or locks a row sees it as it is then, and a list would be older: it is held to the row's own columns.
   */
  reached(kind: string, action: string, alias: string, image: 'before' | 'after' = 'before'): Fragment {
    const isRead = alias === this.#shape(kind).table && action === 'read' && image === 'before';
    return this.#reachedBy(kind, action, alias, image, isRead ? 'listed' : 'written out');
  }

  /** The same by what is written out of it: what a policy finds in a list is left out, for in that a row is as it was before the statement. */
  reachedAtOnce(kind: string, action: string, alias: string): Fragment {
    return this.#reachedBy(kind, action, alias, 'before', 'left out');
  }

  #reachedBy(kind: string, action: string, alias: string, image: 'before' | 'after', anchored: 'listed' | 'written out' | 'left out'): Fragment {
    const limits = this.#limits(kind, action, image).map((where) => this.rule(where, kind, alias, false, 'grow'));
    const read = restsOnRead(action) ? [this.#reachedBy(kind, 'read', alias, 'before', anchored)] : [];
    const permission = `${kind}.${action}`;
    const [widest, ...others] = reachesOfKind(this.#charter.kind(kind)) as [string, ...string[]];
    const wide = this.#isTenant(kind, alias, once(`told('holds', ${literal(`${permission} ${widest}`)})`, this.#tenantType));
    const ways = [
      ...others
        .filter((reach) => anchored === 'written out' || this.#isWrittenOut(kind, permission, reach))
        .map((reach) => this.#held(kind, permission, reach, alias)),
      ...(anchored === 'listed' ? [this.#listed(kind, action, alias)] : []),
      ...(anchored === 'written out' ? this.#atAnchors(kind, permission, alias) : []),
    ];
    // Whoever reaches all is asked once, and the rest of the rule is not looked at.
    const narrow = ways.length === 0 ? [] : [sqlText`(${this.tenant(kind, alias)} and ${all(ways, ' or ', 'false')})`];
    return all([...limits, all([wide, ...narrow], ' or ', 'false'), ...read], ' and ', 'true');
  }

  /** A reach that is held for the whole tenant. Where it is one comparison with a fact, the fact is told only to who holds it. */
  #held(kind: string, permission: string, reach: string, alias: string): Fragment {
    const rule = this.#charter.reach(kind, reach);
    const key = literal(`${permission} ${reach}`);
    if ('to' in rule && isFact(rule)) return this.#factual(rule, kind, alias, true, 'shrink', key);
    return sqlText`(${told('holds', key)} and ${this.rule(rule, kind, alias)})`;
  }

  /**
   * A reach is a condition on the row where a role of the charter gives it. One that only roles of a tenant's own can give is looked up in
   * the list instead, as is one that asks of the record only that it is linked to the person: every condition more is planned in every statement.
   */
  #isWrittenOut(kind: string, permission: string, reach: string): boolean {
    const { roles, visitor, signedIn, everyMember } = this.#charter.data;
    const { base = [] } = this.#charter.kind(kind);
    const names = base.includes(reach) ? [reach, 'base'] : [reach];
    const given = [...Object.values(roles).map(({ may }) => may), visitor, signedIn, everyMember].some((may) =>
      may[permission]?.some((one) => names.includes(one)),
    );
    const rule = this.#charter.reach(kind, reach);
    return given && !(rule.op === 'includes' && 'me' in rule.to);
  }

  /** Each reach of a permission by what is held of it at units or at records, by fewer people, and what is opened to them. */
  #atAnchors(kind: string, permission: string, alias: string): Fragment[] {
    const owner = this.#charter.fieldWith(kind, 'owner');
    const type = owner && sqlTypeOf(this.#shape(kind).fields[owner] as FieldShape);
    const opened = owner ? [sqlText`${this.column(this.#shape(kind), owner, alias)} = any(${once(`opened(${literal(permission)})`, `${type}[]`)})`] : [];
    const anchored = reachesOfKind(this.#charter.kind(kind)).map((reach) => {
      const key = literal(`${permission} ${reach}`);
      const held = sqlText`${told('anchored', key)} and ${this.#covered(kind, verbatim(key), alias)}`;
      const rule = this.#charter.reach(kind, reach);
      return rule.op === 'always' ? sqlText`(${held})` : sqlText`(${held} and ${this.rule(rule, kind, alias)})`;
    });
    return [...opened, ...anchored];
  }

  /**
   * Of a row that stands there: it is in the list of those that are reached by what is not written out, or by what is held at units or
   * records. A row that is being made, or looked at as it becomes, is in no list that the statement sees.
   */
  #listed(kind: string, action: string, alias: string): Fragment {
    const permission = `${kind}.${action}`;
    const others = reachesOfKind(this.#charter.kind(kind))
      .slice(1)
      .filter((reach) => !this.#isWrittenOut(kind, permission, reach))
      .map((reach) => {
        const rule = this.#charter.reach(kind, reach);
        const query = rule.op === 'includes' ? this.#linkedIds(rule, kind) : this.#idsWhere(kind, this.rule(rule, kind, 'p'));
        return { onlyIf: inline(told('holds', literal(`${permission} ${reach}`))), query };
      });
    const anchored = this.#idsWhere(kind, all(this.#atAnchors(kind, permission, 'p'), ' or ', 'false'));
    const queries = [...others, { onlyIf: inline(told('holds', literal(anchoredMark(permission)))), query: anchored }];
    return this.#among(this.column(this.#shape(kind), this.#shape(kind).idField, alias), this.#function(`listed_${kind}_${action}`, kind, queries));
  }

  #limits(kind: string, action: string, image: 'before' | 'after'): Predicate[] {
    const named = this.#charter.limitsOf(kind).filter((limit) => limit.actions.includes(action));
    return (image === 'after' || action === 'create' ? named.filter((limit) => limit.before !== true) : named).map((limit) => limit.where);
  }

  /** No limit refuses that the row becomes so. */
  unlimited(kind: string, action: string, alias: string): Fragment {
    return all(
      this.#limits(kind, action, 'after').map((where) => this.rule(where, kind, alias, false, 'grow')),
      ' and ',
      'true',
    );
  }

  /** The row lies where an assignment that is anchored at units or records holds. */
  #covered(kind: string, key: Fragment, alias: string): Fragment {
    const shape = this.#shape(kind);
    const ways: Fragment[] = [];
    const field = this.#charter.fieldWith(kind, 'unit');
    const array = (f: string) => verbatim(`${sqlTypeOf(shape.fields[f] as FieldShape)}[]`);
    if (field) ways.push(sqlText`${this.column(shape, field, alias)} = any((select ${verbatim(WALL)}.units(${key}))::${array(field)})`);
    ways.push(
      sqlText`${this.column(shape, shape.idField, alias)} = any((select ${verbatim(WALL)}.records(${key}, ${verbatim(literal(kind))}))::${array(shape.idField)})`,
    );
    for (const via of followedFields(this.#charter.kind(kind))) {
      const to = this.#charter.kind(kind).fields[via]?.to as string;
      const query = this.#idsWhere(to, this.#covered(to, verbatim('key'), 'p'));
      const covers = this.#function(`covers_${to}`, to, [{ query }], true);
      ways.push(sqlText`${this.column(shape, via, alias)} in (select ${verbatim(WALL)}.${verbatim(covers)}(${key}))`);
    }
    return all(ways, ' or ', 'false');
  }

  #idsWhere(kind: string, condition: Fragment): string {
    const shape = this.#shape(kind);
    return `select ${inline(this.column(shape, shape.idField, 'p'))}::${this.#idType(kind)} from ${inline(this.qualified(kind))} as "p" where ${inline(this.tenant(kind, 'p'))} and ${inline(condition)}`;
  }

  /** With its schema: functions of the wall look nowhere else. */
  override table({ schema, table }: KindShape): Fragment {
    return name(schema ?? 'public', table);
  }

  qualified(kind: string): Fragment {
    return this.table(this.#shape(kind));
  }

  /** The name of the function that answers the ids of these queries. */
  #function(wish: string, kind: string, queries: readonly WallQuery[], takesKey = false): string {
    const body = JSON.stringify(queries);
    const known = this.#functions.get(body);
    if (known) return known.name;
    const taken = [...this.#functions.values()].filter((f) => f.name.replace(/_\d+$/, '') === wish).length;
    const type = this.#idType(kind);
    const made = { name: taken === 0 ? wish : `${wish}_${taken + 1}`, type, takesKey, queries };
    this.#functions.set(body, made);
    return made.name;
  }

  #among(column: Fragment, ids: string): Fragment {
    return sqlText`${column} in (select ${verbatim(WALL)}.${verbatim(ids)}())`;
  }

  /** Ids of a kind that the carried standing may read. */
  readable(kind: string): string {
    return this.#function(`readable_${kind}`, kind, [{ query: this.#idsWhere(kind, this.reached(kind, 'read', 'p')) }]);
  }

  /** The parent that a field names may be read, or chosen without being read. */
  choosable(kind: string, via: string, alias: string): Fragment {
    const to = this.#charter.kind(kind).fields[via]?.to as string;
    const chosen = Object.hasOwn(this.#charter.kind(to).actions, CHOOSE) ? [this.reachable(to, CHOOSE)] : [];
    const column = this.column(this.#shape(kind), via, alias);
    return all(
      [this.readable(to), ...chosen].map((ids) => this.#among(column, ids)),
      ' or ',
      'false',
    );
  }

  /** Ids of a kind that an action reaches. */
  reachable(kind: string, action: string): string {
    return this.#function(`reached_${kind}_${action}`, kind, [{ query: this.#idsWhere(kind, this.reached(kind, action, 'p')) }]);
  }

  /** A rule that still names facts. `wanted` false: its opposite. */
  rule(p: Predicate, kind: string, alias: string, wanted = true, bias: Bias = 'shrink'): Fragment {
    const shape = this.#shape(kind);
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
      case 'followed': {
        const to = shape.fields[p.via]?.to as string;
        const ids =
          p.op === 'followed' ? this.readable(to) : this.#function(`some_${to}`, to, [{ query: this.#idsWhere(to, this.rule(p.where, to, 'p', true, bias)) }]);
        return truth(this.#among(this.column(shape, p.via, alias), ids), wanted);
      }
      default:
        return this.#factual(p, kind, alias, wanted, bias);
    }
  }

  #factual(p: Comparison, kind: string, alias: string, wanted: boolean, bias: Bias, onlyWith?: string): Fragment {
    const shape = this.#shape(kind);
    const field = shape.fields[p.field] as FieldShape;
    if (!isFact(p) && p.op !== 'includes') return this.condition(p, kind, alias, wanted);
    const value = this.#valueOf(p, field, onlyWith);
    const yes =
      p.op === 'includes'
        ? this.#among(this.column(shape, shape.idField, alias), this.#linked(p, kind, onlyWith))
        : takesList(p.op)
          ? this.#inList(this.column(shape, p.field, alias), value, field)
          : this.#compared(p.op, this.column(shape, p.field, alias), value, field);
    if (!isFact(p)) return truth(yes, wanted);
    // What is missing of the person counts against them, on whichever side of a "not" it stands.
    if (wanted === (bias === 'grow')) return sqlText`(${truth(yes, wanted)} or ${value} is null)`;
    // What is empty is not true: only its opposite has to be told so.
    return wanted ? yes : sqlText`(${truth(yes, wanted)} and ${value} is not null)`;
  }

  #valueOf(p: Comparison, field: FieldShape, onlyWith?: string): Fragment {
    if (!isFact(p)) return verbatim(literal((p.to as { value: unknown }).value));
    const list = takesList(p.op);
    const asked = literal(factKey(p, field)) + (onlyWith ? `, ${onlyWith}` : '');
    return once(list ? `facts(${asked})` : `told('fact', ${asked})`, `${sqlTypeOf(field)}${list ? '[]' : ''}`);
  }

  #inList(column: Fragment, values: Fragment, field: FieldShape): Fragment {
    return this.writeList(field.type === 'instant' ? this.comparable(column, field) : column, values, field);
  }

  /** The function that answers the records to which somebody is linked. */
  #linked(p: Comparison, kind: string, onlyWith?: string): string {
    const { table } = (this.#shape(kind).fields[p.field] as FieldShape).link as NonNullable<FieldShape['link']>;
    return this.#function(`linked_${table}`, kind, [{ query: this.#linkedIds(p, kind, onlyWith) }]);
  }

  #linkedIds(p: Comparison, kind: string, onlyWith?: string): string {
    const field = this.#shape(kind).fields[p.field] as FieldShape;
    const link = field.link as NonNullable<FieldShape['link']>;
    const { table, record, user } = link;
    const where = sqlText`${this.linkHere(kind, link, 'l')} and ${name('l', user)} = ${this.#valueOf(p, field, onlyWith)}`;
    return `select ${inline(name('l', record))}::${this.#idType(kind)} from ${inline(name('public', table))} as "l" where ${inline(where)}`;
  }

  /** A record of a kind is of the carried tenant. */
  #isHere(kind: string, id: Fragment): Fragment {
    return sqlText`exists (select 1 from ${verbatim(WALL)}.${name(hereView(kind))} as "h" where "h"."id" = ${id})`;
  }

  /** A link is of the carried tenant. */
  linkHere(kind: string, { tenant, record }: LinkTable, alias: string): Fragment {
    if (tenant !== undefined) return sqlText`${name(alias, tenant)} = ${once(`told('tenant')`, this.#tenantType)}`;
    return this.#isHere(kind, name(alias, record));
  }

  /** A comparison with one value that is worked out in the database. */
  #compared(op: Comparison['op'], column: Fragment, value: Fragment, field: FieldShape): Fragment {
    if (field.type !== 'instant') return this.writeValue(op, column, value, field);
    return this.writeInstant(op, column, value, sqlText`(${value} + interval '1 millisecond')`);
  }
}

/** The view of the ids of a kind in the carried tenant. */
const hereView = (kind: string) => `here_${kind}`;

const isFact = (p: Comparison) => 'me' in p.to || 'context' in p.to;

/** `wanted` false: the opposite, in which what is empty counts as true. */
function truth(yes: Fragment, wanted: boolean): Fragment {
  return wanted ? yes : sqlText`((${yes}) is not true)`;
}

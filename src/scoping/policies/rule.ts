import { CHOOSE, type Charter, followedFields, restsOnRead } from '../../charter/index.js';
import { type Comparison, type FieldShape, type KindShape, type Predicate, takesList, type ValueType } from '../../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { SqlWriter } from '../writer.js';
import { factKey } from './facts.js';

/** The locked schema in which everything stands that the policies need. */
export const WALL = 'lintel_wall';

/** One transaction of one connection: what a standing is bound to. */
export const BOUND = `encode(int4send(pg_backend_pid()) || timestamptz_send(transaction_timestamp()), 'hex')`;

/** A function of the wall that answers ids. */
export interface WallFunction {
  readonly name: string;
  readonly type: string;
  readonly takesKey: boolean;
  /** Asked before the query is run: where it does not hold, the list is empty. */
  readonly onlyIf?: string;
  readonly body: string;
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

  tenant(kind: string, alias: string): Fragment {
    const shape = this.#shape(kind);
    if (shape.tenantField === undefined) return verbatim('true');
    return sqlText`${this.column(shape, shape.tenantField, alias)} = ${once(`told('tenant')`, sqlTypeOf(shape.fields[shape.tenantField] as FieldShape))}`;
  }

  /** The row is reached by an action, whatever its tenant: grants, limits, and `read` where that is asked too. */
  reached(kind: string, action: string, alias: string, image: 'before' | 'after' = 'before'): Fragment {
    const standsThere = alias === this.#shape(kind).table && action !== 'create' && image === 'before';
    return this.#reachedBy(kind, action, alias, image, (asked) => [this.#atAnchors(kind, asked, alias, standsThere)]);
  }

  /** The same by what is held for the whole tenant alone. */
  reachedWidely(kind: string, action: string, alias: string): Fragment {
    return this.#reachedBy(kind, action, alias, 'before', () => []);
  }

  #reachedBy(kind: string, action: string, alias: string, image: 'before' | 'after', atAnchors: (action: string) => Fragment[]): Fragment {
    const ways = this.#reaches(kind).map((reach) => this.#heldWidely(kind, action, reach, alias));
    const limits = this.#limits(kind, action, image).map((where) => this.rule(where, kind, alias, false, 'grow'));
    const read = restsOnRead(action) ? [this.#reachedBy(kind, 'read', alias, 'before', atAnchors)] : [];
    return all([...limits, all([...ways, ...atAnchors(action)], ' or ', 'false'), ...read], ' and ', 'true');
  }

  #reaches(kind: string): string[] {
    const data = this.#charter.kind(kind);
    return [this.#charter.widestReach(kind), ...(followedFields(data).length > 0 ? ['followed'] : []), ...Object.keys(data.reaches)];
  }

  /** A reach that is held for the whole tenant. Where it is one comparison with a fact, the fact is told only to who holds it. */
  #heldWidely(kind: string, action: string, reach: string, alias: string): Fragment {
    const rule = this.#charter.reach(kind, reach);
    const key = literal(`${kind}.${action} ${reach}`);
    if ('to' in rule && isFact(rule)) return this.#factual(rule, kind, alias, true, 'shrink', key);
    return this.#way(kind, reach, alias, told('holds', key));
  }

  #way(kind: string, reach: string, alias: string, held: Fragment): Fragment {
    const rule = this.#charter.reach(kind, reach);
    return rule.op === 'always' ? held : sqlText`(${held} and ${this.rule(rule, kind, alias)})`;
  }

  /**
   * What is held at units or at records only, by fewer people: on a row that stands there, one list for all reaches of the action.
   * A row that is being made, or looked at as it becomes, is in no list that the statement sees.
   */
  #atAnchors(kind: string, action: string, alias: string, standsThere: boolean): Fragment {
    const ways = (at: string) =>
      this.#reaches(kind).map((reach) => {
        const key = literal(`${kind}.${action} ${reach}`);
        return this.#way(kind, reach, at, sqlText`(${told('anchored', key)} and ${this.#covered(kind, verbatim(key), at)})`);
      });
    if (!standsThere) return all(ways(alias), ' or ', 'false');
    const onlyIf = inline(told('holds', literal(anchoredMark(`${kind}.${action}`))));
    const ids = this.#function(`anchored_${kind}_${action}`, kind, this.#idsWhere(kind, all(ways('p'), ' or ', 'false')), { onlyIf });
    return sqlText`${this.column(this.#shape(kind), this.#shape(kind).idField, alias)} in (select ${verbatim(WALL)}.${verbatim(ids)}())`;
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
      const body = this.#idsWhere(to, this.#covered(to, verbatim('key'), 'p'));
      ways.push(
        sqlText`${this.column(shape, via, alias)} in (select ${verbatim(WALL)}.${verbatim(this.#function(`covers_${to}`, to, body, { takesKey: true }))}(${key}))`,
      );
    }
    return all(ways, ' or ', 'false');
  }

  #idsWhere(kind: string, condition: Fragment): string {
    const shape = this.#shape(kind);
    return `select ${inline(this.column(shape, shape.idField, 'p'))} from ${inline(this.qualified(kind))} as "p" where ${inline(this.tenant(kind, 'p'))} and ${inline(condition)}`;
  }

  /** The table with its schema: functions of the wall look nowhere else. */
  qualified(kind: string): Fragment {
    const { schema, table } = this.#shape(kind);
    return name(schema ?? 'public', table);
  }

  #function(wish: string, kind: string, body: string, how: { takesKey?: boolean; onlyIf?: string } = {}): string {
    const known = this.#functions.get(body);
    if (known) return known.name;
    const taken = [...this.#functions.values()].filter((f) => f.name.replace(/_\d+$/, '') === wish).length;
    const made = {
      name: taken === 0 ? wish : `${wish}_${taken + 1}`,
      type: sqlTypeOf(this.#shape(kind).fields[this.#shape(kind).idField] as FieldShape),
      takesKey: false,
      ...how,
      body,
    };
    this.#functions.set(body, made);
    return made.name;
  }

  /** Ids of a kind that the carried standing may read. */
  readable(kind: string): string {
    return this.#function(`readable_${kind}`, kind, this.#idsWhere(kind, this.reached(kind, 'read', 'p')));
  }

  /** The parent that a field names may be read, or chosen without being read. */
  choosable(kind: string, via: string, alias: string): Fragment {
    const to = this.#charter.kind(kind).fields[via]?.to as string;
    const chosen = Object.hasOwn(this.#charter.kind(to).actions, CHOOSE) ? [this.reachable(to, CHOOSE)] : [];
    const column = this.column(this.#shape(kind), via, alias);
    return all(
      [this.readable(to), ...chosen].map((ids) => sqlText`${column} in (select ${verbatim(WALL)}.${verbatim(ids)}())`),
      ' or ',
      'false',
    );
  }

  /** Ids of a kind that an action reaches. */
  reachable(kind: string, action: string): string {
    return this.#function(`reached_${kind}_${action}`, kind, this.#idsWhere(kind, this.reached(kind, action, 'p')));
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
        const ids = p.op === 'followed' ? this.readable(to) : this.#function(`some_${to}`, to, this.#idsWhere(to, this.rule(p.where, to, 'p', true, bias)));
        return truth(sqlText`${this.column(shape, p.via, alias)} in (select ${verbatim(WALL)}.${verbatim(ids)}())`, wanted);
      }
      default:
        return this.#factual(p, kind, alias, wanted, bias);
    }
  }

  #factual(p: Comparison, kind: string, alias: string, wanted: boolean, bias: Bias, onlyWith?: string): Fragment {
    const shape = this.#shape(kind);
    const field = shape.fields[p.field] as FieldShape;
    if (!isFact(p) && p.op !== 'includes') return this.condition(p, kind, alias, wanted);
    const key = isFact(p) ? literal(factKey(p, field)) + (onlyWith ? `, ${onlyWith}` : '') : '';
    const list = takesList(p.op);
    const value = isFact(p)
      ? once(list ? `facts(${key})` : `told('fact', ${key})`, `${sqlTypeOf(field)}${list ? '[]' : ''}`)
      : verbatim(literal((p.to as { value: unknown }).value));
    const yes =
      p.op === 'includes'
        ? this.#linked(field, kind, value, alias)
        : list
          ? this.#listed(this.column(shape, p.field, alias), value, field)
          : this.#compared(p.op, this.column(shape, p.field, alias), value, field);
    if (!isFact(p)) return truth(yes, wanted);
    const missing = once(list ? `facts(${key})` : `told('fact', ${key})`);
    // What is missing of the person counts against them, on whichever side of a "not" it stands.
    if (wanted === (bias === 'grow')) return sqlText`(${truth(yes, wanted)} or ${missing} is null)`;
    // What is empty is not true: only its opposite has to be told so.
    return wanted ? yes : sqlText`(${truth(yes, wanted)} and ${missing} is not null)`;
  }

  #listed(column: Fragment, values: Fragment, field: FieldShape): Fragment {
    return this.writeList(field.type === 'instant' ? this.comparable(column, field) : column, values, field);
  }

  #linked(field: FieldShape, kind: string, person: Fragment, alias: string): Fragment {
    const { table, tenant, record, user } = field.link as NonNullable<FieldShape['link']>;
    const shape = this.#shape(kind);
    const ofTenant = once(`told('tenant')`, sqlTypeOf(shape.fields[shape.tenantField as string] as FieldShape));
    const body = `select ${inline(name('l', record))} from ${inline(name('public', table))} as "l" where ${inline(sqlText`${name('l', tenant)} = ${ofTenant} and ${name('l', user)} = ${person}`)}`;
    return sqlText`${this.column(shape, shape.idField, alias)} in (select ${verbatim(WALL)}.${verbatim(this.#function(`linked_${table}`, kind, body))}())`;
  }

  /** A comparison with one value that is worked out in the database. */
  #compared(op: Comparison['op'], column: Fragment, value: Fragment, field: FieldShape): Fragment {
    if (field.type !== 'instant') return this.writeValue(op, column, value, field);
    return this.writeInstant(op, column, value, sqlText`(${value} + interval '1 millisecond')`);
  }
}

const isFact = (p: Comparison) => 'me' in p.to || 'context' in p.to;

/** `wanted` false: the opposite, in which what is empty counts as true. */
function truth(yes: Fragment, wanted: boolean): Fragment {
  return wanted ? yes : sqlText`((${yes}) is not true)`;
}

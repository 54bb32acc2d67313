import { CHOOSE, followedFields, idType as idTypeOf, reachesOfKind, restsOnRead } from '../../charter/index.js';
import type { FieldShape, Predicate } from '../../predicate/index.js';
import { type Fragment, sqlText, verbatim } from '../fragment.js';
import { anchoredMark, claimsOf } from './facts.js';
import { all, inline, isFact, literal, once, RuleWriter, sqlTypeOf, told, WALL, type WallQuery } from './rule.js';

/** The tenant that the connection names: anybody can name any. */
const NAMED = `nullif(current_setting('lintel.tenant', true), '')`;
/** Something was made or handed over in this transaction. */
const GIVEN = `coalesce(current_setting('lintel.given', true), '') <> ''`;
/** Before any tenant's id. */
const LEAST: Readonly<Record<string, string>> = { text: "''", uuid: "'00000000-0000-0000-0000-000000000000'", integer: "'-9223372036854775808'" };

/** Writes what an action reaches, for whoever carries a standing. */
export class ReachWriter extends RuleWriter {
  /** The tenant that the connection names, so that an index serves. Anybody can name any: what reaches a row says whether it is so. */
  tenantNamed(kind: string, alias: string): Fragment {
    if (this.shape(kind).tenantField === undefined) return verbatim('true');
    return this.isTenant(kind, alias, verbatim(`${NAMED}::${this.tenantType}`));
  }

  /**
   * The row may be read, or was just made or handed over by whoever carries the standing. Each way to it is a condition by which an index can be asked, and says before any row is looked
   * at that it leads nowhere where the standing does not claim to have it: so the plan is that of a query written for this person. A claim lets nothing through; what does is asked
   * of the standing itself.
   *
   * @param given what has to hold of a row that was made or handed over.
   */
  seen(kind: string, alias: string, given: Fragment): Fragment {
    const shape = this.shape(kind);
    if (shape.tenantField === undefined) {
      const mark = sqlText`(${verbatim(GIVEN)} and ${this.tenant(kind, alias)} and ${given})`;
      return all([this.reached(kind, 'read', alias), mark], ' or ', 'false');
    }
    const column = this.column(shape, shape.tenantField, alias);
    const permission = `${kind}.read`;
    const [widest, ...others] = reachesOfKind(this.charter.kind(kind)) as [string, ...string[]];
    const limits = this.#limits(kind, 'read', 'before').map((where) => this.rule(where, kind, alias, false, 'grow'));
    const places = claimsOf(this.charter);
    const claimed = (key: string) => `substr(current_setting('lintel.claims', true), ${places.indexOf(key) + 1}, 1) = '1'`;
    const least = LEAST[idTypeOf(this.charter, 'tenant')] as string;
    // In every index that begins with the tenant; and known to the planner as it plans.
    const only = (claim: string) => sqlText`${column} >= (case when ${verbatim(`${claim} then ${least}::${this.tenantType}`)} end)`;
    const isTold = (key: string, claim: Fragment) => sqlText`${once(`told('holds', ${literal(key)})`, undefined, inline(claim))} is not null`;
    // guard claim-is-asked by wall: A connection would hold what it claims to hold.
    const holds = (key: string) => /* guard claim-is-asked (unwrapped) */ isTold(key, verbatim(claimed(key)));
    const listed = (ids: string, of: Fragment, keys: readonly string[], also: readonly Fragment[]) => {
      const { few, type } = this.few(ids);
      const claim = `(${keys.map(claimed).join(' or ')})`;
      const many = verbatim(`(select case when ${claim} then case when ${WALL}.${few}() is null then ${NAMED}::${this.tenantType} end end)`);
      return [
        [sqlText`${of} = any(${once(`${few}()`, `${type}[]`, claim)})`, only(claim), ...also],
        [sqlText`${column} = ${many}`, this.among(of, ids), ...also],
      ];
    };
    const written = others
      .filter((reach) => this.#isWrittenOut(kind, permission, reach))
      .flatMap((reach) => {
        const [rule, key] = [this.charter.reach(kind, reach), `${permission} ${reach}`];
        if (rule.op === 'parent' || rule.op === 'followed') return listed(this.parents(rule, kind), this.column(shape, rule.via, alias), [key], [holds(key)]);
        if ('to' in rule && isFact(rule)) return [[this.factual(rule, kind, alias, true, 'shrink', { key, claim: claimed(key) }), only(claimed(key))]];
        return [[holds(key), this.rule(rule, kind, alias), only(claimed(key))]];
      });
    const { ids, keys } = this.#list(kind, 'read');
    const ways = [
      ...written,
      ...listed(ids, this.column(shape, shape.idField, alias), keys, []),
      [holds(`${permission} ${widest}`), only(claimed(`${permission} ${widest}`))],
    ].map((way) => [...way, ...limits]);
    const each = [...ways, [verbatim(GIVEN), given, only(GIVEN)]].map((way) => all(way, ' and ', 'true'));
    // Where no tenant is named nothing is carried, and it need not be asked.
    const tenant = once(`told('tenant')`, this.tenantType, `${NAMED} is not null`);
    return sqlText`${column} = ${tenant} and ${all(each, ' or ', 'false')}`;
  }

  /**
   * The row is of the standing's tenant and reached by an action: grants, limits, and `read` where that is asked too. Of a row that is read, what fewer people hold is looked up in a
   * list, which is of the statement's own snapshot as the row is. What writes or locks a row sees it as it is then, and a list would be older: it is held to the row's own columns.
   */
  reached(kind: string, action: string, alias: string, image: 'before' | 'after' = 'before'): Fragment {
    // guard locked-row-by-own-columns by wall: A locked row would be looked up in a list of an older snapshot.
    const isRead = alias === this.shape(kind).table && /* guard locked-row-by-own-columns */ action === 'read' && image === 'before';
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
    const [widest, ...others] = reachesOfKind(this.charter.kind(kind)) as [string, ...string[]];
    const wide = this.isTenant(kind, alias, once(`told('holds', ${literal(`${permission} ${widest}`)})`, this.tenantType));
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
    const rule = this.charter.reach(kind, reach);
    const key = `${permission} ${reach}`;
    if ('to' in rule && isFact(rule)) return this.factual(rule, kind, alias, true, 'shrink', { key });
    return sqlText`(${told('holds', literal(key))} and ${this.rule(rule, kind, alias)})`;
  }

  /**
   * A reach is a condition on the row where a role of the charter gives it. One that only roles of a tenant's own can give is looked up in
   * the list instead, as is one that asks of the record only that it is linked to the person: every condition more is planned in every statement.
   */
  #isWrittenOut(kind: string, permission: string, reach: string): boolean {
    const { roles, visitor, signedIn, everyMember } = this.charter.data;
    const { base = [] } = this.charter.kind(kind);
    const names = base.includes(reach) ? [reach, 'base'] : [reach];
    const given = [...Object.values(roles).map(({ may }) => may), visitor, signedIn, everyMember].some((may) =>
      may[permission]?.some((one) => names.includes(one)),
    );
    const rule = this.charter.reach(kind, reach);
    return given && !(rule.op === 'includes' && 'me' in rule.to);
  }

  /** Each reach of a permission by what is held of it at units or at records, by fewer people, and what is opened to them. */
  #atAnchors(kind: string, permission: string, alias: string): Fragment[] {
    const owner = this.charter.fieldWith(kind, 'owner');
    const type = owner && sqlTypeOf(this.shape(kind).fields[owner] as FieldShape);
    const opened = owner ? [sqlText`${this.column(this.shape(kind), owner, alias)} = any(${once(`opened(${literal(permission)})`, `${type}[]`)})`] : [];
    const anchored = reachesOfKind(this.charter.kind(kind)).map((reach) => {
      const key = literal(`${permission} ${reach}`);
      const held = sqlText`${told('anchored', key)} and ${this.#covered(kind, verbatim(key), alias)}`;
      const rule = this.charter.reach(kind, reach);
      return rule.op === 'always' ? sqlText`(${held})` : sqlText`(${held} and ${this.rule(rule, kind, alias)})`;
    });
    return [...opened, ...anchored];
  }

  /**
   * Of a row that stands there: it is in the list of those that are reached by what is not written out, or by what is held at units or
   * records. A row that is being made, or looked at as it becomes, is in no list that the statement sees.
   */
  #listed(kind: string, action: string, alias: string): Fragment {
    return this.among(this.column(this.shape(kind), this.shape(kind).idField, alias), this.#list(kind, action).ids);
  }

  #list(kind: string, action: string): { readonly ids: string; readonly keys: readonly string[] } {
    const permission = `${kind}.${action}`;
    const others = reachesOfKind(this.charter.kind(kind))
      .slice(1)
      .filter((reach) => !this.#isWrittenOut(kind, permission, reach))
      .map((reach) => {
        const rule = this.charter.reach(kind, reach);
        const query = rule.op === 'includes' ? this.linkedIds(rule, kind) : this.idsWhere(kind, this.rule(rule, kind, 'p'));
        return { key: `${permission} ${reach}`, query };
      });
    const anchored = { key: anchoredMark(permission), query: this.idsWhere(kind, all(this.#atAnchors(kind, permission, 'p'), ' or ', 'false')) };
    const queries = [...others, anchored].map(({ key, query }) => ({ onlyWith: key, query }));
    return { ids: this.listing(`listed_${kind}_${action}`, kind, queries), keys: [...others, anchored].map(({ key }) => key) };
  }

  #limits(kind: string, action: string, image: 'before' | 'after'): Predicate[] {
    const named = this.charter.limitsOf(kind).filter((limit) => limit.actions.includes(action));
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
    const shape = this.shape(kind);
    const ways: Fragment[] = [];
    const field = this.charter.fieldWith(kind, 'unit');
    const array = (f: string) => verbatim(`${sqlTypeOf(shape.fields[f] as FieldShape)}[]`);
    if (field) ways.push(sqlText`${this.column(shape, field, alias)} = any((select ${verbatim(WALL)}.units(${key}))::${array(field)})`);
    ways.push(
      sqlText`${this.column(shape, shape.idField, alias)} = any((select ${verbatim(WALL)}.records(${key}, ${verbatim(literal(kind))}))::${array(shape.idField)})`,
    );
    for (const via of followedFields(this.charter.kind(kind))) {
      const to = this.charter.kind(kind).fields[via]?.to as string;
      const query = this.idsWhere(to, this.#covered(to, verbatim('key'), 'p'));
      const covers = this.listing(`covers_${to}`, to, [{ query }], true);
      ways.push(sqlText`${this.column(shape, via, alias)} in (select ${verbatim(WALL)}.${verbatim(covers)}(${key}))`);
    }
    return all(ways, ' or ', 'false');
  }

  /** Ids of a kind that the carried standing may read. */
  readable(kind: string): string {
    return this.reachable(kind, 'read');
  }

  /** Whether a rule that names no facts holds of a record as it is handed over in JSON, as a query that looks at tables as they are. */
  question(kind: string, where: Predicate): string {
    return `select ${inline(this.condition(where, kind, 'w'))} from jsonb_populate_record(null::${inline(this.qualified(kind))}, $1) as "w"`;
  }

  /** The parent that a field names may be read, or chosen without being read. */
  choosable(kind: string, via: string, alias: string): Fragment {
    const to = this.charter.kind(kind).fields[via]?.to as string;
    const chosen = Object.hasOwn(this.charter.kind(to).actions, CHOOSE) ? [this.reachable(to, CHOOSE)] : [];
    const column = this.column(this.shape(kind), via, alias);
    return all(
      [this.readable(to), ...chosen].map((ids) => this.among(column, ids)),
      ' or ',
      'false',
    );
  }

  /** Ids of a kind that an action reaches: each way is asked by itself, as an index serves it, and only by those who have it. */
  reachable(kind: string, action: string): string {
    const permission = `${kind}.${action}`;
    const also = [
      ...this.#limits(kind, action, 'before').map((where) => this.rule(where, kind, 'p', false, 'grow')),
      ...(restsOnRead(action) ? [this.reached(kind, 'read', 'p')] : []),
    ];
    const [widest, ...others] = reachesOfKind(this.charter.kind(kind)) as [string, ...string[]];
    const way = (key: string, where: readonly Fragment[]): WallQuery => ({
      onlyWith: key,
      query: this.idsWhere(kind, all([...where, ...also], ' and ', 'true')),
    });
    return this.listing(`reached_${kind}_${action}`, kind, [
      { ...way(`${permission} ${widest}`, []), isAll: true },
      ...others.map((reach) => way(`${permission} ${reach}`, [this.rule(this.charter.reach(kind, reach), kind, 'p')])),
      way(anchoredMark(permission), [all(this.#atAnchors(kind, permission, 'p'), ' or ', 'false')]),
    ]);
  }
}

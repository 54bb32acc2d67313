/* Queries of all shapes: what a builder can write, over values on which something fails, with names that are none now and then. */
import { sql } from 'kysely';
import type { Choices } from '../harness/tape.js';
import { Sharp } from './sharp.js';
import { COLUMNS, isNumber, TABLES } from './world.js';

interface Source {
  readonly alias: string;
  readonly columns: readonly string[];
}

/** Writes one query; what it may name at a place are the sources that are open there. */
export class Drawer {
  readonly #c: Choices;
  #aliases = 0;
  constructor(choices: Choices) {
    this.#c = choices;
  }

  #fresh(): string {
    this.#aliases += 1;
    return this.#c.oneIn(40) ? this.#c.of(['hives', 'visits', 't', 'w', 'lintel_1', 'lintel_written']) : `q${this.#aliases}`;
  }

  /** A column of what is open; now and then one that nobody declared, or something that is no column. */
  column(open: readonly Source[], number = this.#c.oneIn(3)): string {
    const { alias, columns } = this.#c.of(open);
    const name = this.#c.oneIn(60)
      ? this.#c.of(['secret', 'ctid', alias, 'nothing'])
      : (this.#c.of(columns.filter((column) => isNumber(column) === number)) ?? 'code');
    return this.#c.oneIn(open.length === 1 ? 3 : 20) ? name : `${alias}.${name}`;
  }

  #value(column: string): unknown {
    return isNumber(column) ? this.#c.of([0, 1, 2]) : this.#c.of(['1', '2', '3', 'ab', 'h1', 'h3', 'me', 'other', 't', 'u']);
  }

  /** A number or a text; on some rows it may not be to be had. */
  expression(eb: any, open: readonly Source[], depth: number, number: boolean): any {
    const c = this.#c;
    const column = this.column(open, number);
    switch (c.next(depth > 0 ? 14 : 7)) {
      case 0:
        return eb.fn.coalesce(column, eb.val(this.#value(column)));
      case 1:
        if (c.oneIn(15)) return eb.fn(c.of(['pg_sleep', 'query_to_xml', 'upper(note), secret', 'version', 'to_jsonb']), [column]);
        return eb.fn('nullif', [column, eb.val(this.#value(column))]);
      case 2:
        return number ? this.#reckoned(eb, column, open) : this.#textOf(eb, column, open);
      case 3:
        return number && c.oneIn(2) ? eb.fn('asNumber', [this.column(open, false)]) : eb.ref(column);
      case 7:
        return eb
          .case()
          .when(this.condition(eb, open, depth - 1))
          .then(eb.ref(column))
          .else(eb.val(null))
          .end();
      case 8:
      case 9: {
        // Of several rows it is an error, which tells something by itself.
        const one = this.select(eb, open, depth - 1, [number]);
        return c.oneIn(2) ? one : one.orderBy('c0').limit(1);
      }
      case 10:
        return c.oneIn(20) ? sql.raw(`(select count(*) from hives)`) : eb.ref(column);
      case 11:
        return number
          ? this.#reckoned(eb, this.expression(eb, open, depth - 1, true), open)
          : this.#textOf(eb, this.expression(eb, open, depth - 1, false), open);
      default:
        return eb.ref(column);
    }
  }

  #reckoned(eb: any, of: any, open: readonly Source[]): any {
    const c = this.#c;
    if (c.oneIn(5)) return eb.fn(c.of(['abs', 'round']), [of]);
    const other = c.oneIn(3) ? eb.ref(this.column(open, true)) : eb.val(c.of([0, 1, 2, 2147483640]));
    return eb(of, c.of(['+', '-', '*', '/', '%']), other);
  }

  #textOf(eb: any, of: any, open: readonly Source[]): any {
    const c = this.#c;
    switch (c.next(4)) {
      case 0:
        return eb(of, '||', eb.ref(this.column(open, false)));
      case 1:
        return eb.fn('concat', [of, eb.val('x'), eb.ref(this.column(open, false))]);
      case 2:
        return eb.fn.coalesce(of, eb.ref(this.column(open, false)));
      default:
        return eb.fn(c.of(['lower', 'upper', 'trim']), [of]);
    }
  }

  condition(eb: any, open: readonly Source[], depth: number): any {
    const c = this.#c;
    const column = this.column(open);
    switch (c.next(depth > 0 ? 15 : 6)) {
      case 0:
        return eb(column, c.of(['is', 'is not']), null);
      case 1:
        return eb(column, 'in', [this.#value(column), this.#value(column)]);
      case 2:
        return eb(column, c.of(['=', '<>', '<', '>=', 'is distinct from']), eb.ref(this.column(open, isNumber(column))));
      case 3:
        if (isNumber(column)) return eb(this.#reckoned(eb, column, open), c.of(['>', '=']), 0);
        if (c.oneIn(4)) return eb(column, 'like', eb.ref(this.column(open, false)));
        return eb(column, c.of(['like', 'not like', 'ilike']), c.of(['1%', '%', 'h_', 'a\\', 'ab\\', '%\\', 'a\\\\', '_b%%\\']));
      case 5:
      case 6:
        return eb[c.of(['and', 'or'])]([this.condition(eb, open, depth - 1), this.condition(eb, open, depth - 1)]);
      case 7:
        return eb.not(this.condition(eb, open, depth - 1));
      case 8:
        return c.oneIn(2) ? eb.exists(this.select(eb, open, depth - 1, [false])) : eb.not(eb.exists(this.select(eb, open, depth - 1, [true])));
      case 9:
        return eb(column, c.of(['in', 'not in']), this.select(eb, open, depth - 1, [isNumber(column)]));
      case 10:
        return c.oneIn(20) ? sql<boolean>`true` : eb(this.expression(eb, open, depth - 1, false), '=', this.expression(eb, open, depth - 1, false));
      case 11:
        return eb(this.expression(eb, open, depth - 1, true), c.of(['>', '<', '=']), this.expression(eb, open, depth - 1, true));
      case 12:
        return eb.between(this.column(open, true), 0, c.oneIn(2) ? 5 : eb.ref(this.column(open, true)));
      default:
        return eb(column, c.of(['=', '<>', '<', '>']), this.#value(column));
    }
  }

  #source(db: any, outer: readonly Source[], depth: number): [any, Source] {
    const c = this.#c;
    const alias = this.#fresh();
    if (c.oneIn(14)) return [`codes as ${alias}`, { alias, columns: ['code', 'meaning'] }];
    if (depth > 0 && c.oneIn(3)) return [this.select(db, outer, depth - 1, [false, true]).as(alias), { alias, columns: ['c0', 'c1'] }];
    const table = c.oneIn(40) ? c.of(['lintel_member', 'pg_class', 'hives_all', 'public.hives']) : c.of(TABLES);
    return c.oneIn(3) ? [table, { alias: table, columns: COLUMNS[table] ?? ['id'] }] : [`${table} as ${alias}`, { alias, columns: COLUMNS[table] ?? ['id'] }];
  }

  /** A select with a column for each of these, a number or a text, called c0, c1, ...; counted, grouped, joined, ordered as it comes. */
  select(db: any, outer: readonly Source[], depth: number, columns: readonly boolean[]): any {
    const c = this.#c;
    const [from, first] = this.#source(db, outer, depth);
    let query = db.selectFrom(from);
    const own: Source[] = [first];
    for (let joins = c.next(depth > 0 ? 3 : 1); joins > 0; joins--) {
      const [joined, source] = this.#source(db, outer, depth - 1);
      own.push(source);
      const open = [...own, ...outer];
      const verb = c.of(['innerJoin', 'leftJoin', 'rightJoin', 'fullJoin', 'crossJoin', ...(c.oneIn(15) ? ['innerJoinLateral'] : [])]);
      if (verb === 'crossJoin') query = query.crossJoin(joined);
      else if (verb === 'fullJoin') query = query.fullJoin(joined, `${first.alias}.${first.columns[0]}`, `${source.alias}.${source.columns[0]}`);
      else query = query[verb](joined, (j: any) => j.on((eb: any) => this.condition(eb, open, depth - 1)));
    }
    const open = [...own, ...outer];
    if (!c.oneIn(3)) query = query.where((eb: any) => this.condition(eb, open, depth));
    if (c.oneIn(4)) {
      const by = `${first.alias}.${c.of(first.columns)}`;
      query = query.groupBy(by);
      const asked = c.next(4);
      if (asked > 1) query = query.having((eb: any) => eb(eb.fn.countAll(), '>', c.next(3)));
      else if (asked > 0) query = query.having((eb: any) => (isNumber(by) ? eb(this.#reckoned(eb, by, [first]), '>', 0) : eb(by, 'like', eb.ref(by))));
      const counted = (eb: any, number: boolean) =>
        number
          ? c.oneIn(2)
            ? eb.fn.countAll(c.oneIn(2) ? undefined : first.alias)
            : eb.fn.sum(c.oneIn(2) ? eb.ref(this.column(own, true)) : this.#reckoned(eb, this.column(own, true), own))
          : eb.fn[c.of(['max', 'min'])](this.column(own, false));
      return query.select((eb: any) => columns.map((number, i) => counted(eb, number).as(`c${i}`)));
    }
    const over = (o: any) => o.partitionBy(this.column(own));
    if (c.oneIn(8))
      return query.select((eb: any) => columns.map((number, i) => (number ? eb.fn.countAll() : eb.fn.max(this.column(own, false))).over(over).as(`c${i}`)));
    query = query.select((eb: any) => columns.map((number, i) => this.expression(eb, open, depth, number).as(`c${i}`)));
    if (c.oneIn(5)) query = query.distinct();
    else if (c.oneIn(8)) query = query.orderBy((eb: any) => this.expression(eb, own, 0, c.oneIn(2)));
    if (depth > 0 && c.oneIn(6)) query = query[c.of(['union', 'unionAll', 'intersect', 'except'])](this.select(db, outer, depth - 1, columns));
    return query;
  }

  #assignment(eb: any, open: readonly Source[], column: string): object {
    return { [column]: column === 'owner_id' ? this.#c.of(['me', 'other', null]) : this.expression(eb, open, 1, isNumber(column)) };
  }

  /** A whole statement on a scope, ready to be run. */
  statement(scope: any): any {
    const c = this.#c;
    const table = c.of(TABLES);
    const open = [{ alias: table, columns: COLUMNS[table] as string[] }];
    const assigned = () => c.of((COLUMNS[table] as string[]).filter((column) => column !== 'tenant_id' || c.oneIn(10)));
    switch (c.next(18)) {
      case 0:
        return scope
          .updateTable(table)
          .set((eb: any) => this.#assignment(eb, open, assigned()))
          .where((eb: any) => this.condition(eb, open, 2))
          .returning(c.oneIn(20) ? ['secret'] : c.of([['id'], ['id', 'size']]));
      case 1:
        return scope
          .deleteFrom(table)
          .where((eb: any) => this.condition(eb, open, 2))
          .returningAll();
      case 2: {
        const column = assigned();
        return scope
          .insertInto(table)
          .values((eb: any) => ({ id: 'new', [column]: c.oneIn(2) ? this.#value(column) : this.select(eb, [], 1, [isNumber(column)]).limit(1) }))
          .returningAll();
      }
      case 3:
        return scope
          .with(c.oneIn(10) ? c.of(['hives', 'visits']) : 'x', (q: any) => this.select(q, [], 2, [false, true]))
          .selectFrom('x')
          .selectAll();
      case 4:
        return this.select(scope, [], 2, [false, true])
          .orderBy('c0')
          .orderBy('c1')
          .limit(1 + c.next(3));
      case 5:
        return scope
          .selectFrom(table)
          .selectAll()
          .where((eb: any) => this.condition(eb, open, 3));
      case 6:
      case 7:
        return this.select(scope, [], 3, [false, true]);
      default:
        return new Sharp(c).statement(scope);
    }
  }
}

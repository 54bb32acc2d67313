/*
 * Queries of all shapes, written by a generator, through the scope of one person over two databases that differ in everything this
 * person may not see, and in nothing else. If a query answers differently, it has told something: a row, a count, a masked value, an error.
 */
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { isLintelError, readCharter } from 'warm-lintel';
import { createLintel } from 'warm-lintel/server';
import { emptyPostgres } from './worlds.js';

const plain = (type: string, more: object = {}) => ({ role: 'plain', type, ...more });
const common = { id: { role: 'id', type: 'text' }, tenantId: { role: 'tenant', type: 'text' } };
const actions = Object.fromEntries(['read', 'create', 'update', 'delete', 'look'].map((label) => [label, { label }]));
const mine = { op: 'is', field: 'ownerId', to: { me: 'userId' } };
const charter = readCharter({
  kinds: {
    hive: {
      table: 'hives',
      label: 'name',
      one: 'hive',
      many: 'hives',
      actions,
      fields: { ...common, ownerId: { role: 'owner', type: 'text' }, name: plain('text'), size: plain('integer') },
      reaches: { own: mine },
    },
    visit: {
      table: 'visits',
      label: 'note',
      one: 'visit',
      many: 'visits',
      actions,
      fields: {
        ...common,
        hiveId: { role: 'parent', type: 'text', to: 'hive', change: 'look' },
        note: plain('text'),
        size: plain('integer', { read: 'look' }),
      },
      reaches: { short: { op: 'is', field: 'note', to: { value: 'a' } } },
    },
    entry: {
      table: 'entries',
      label: 'note',
      one: 'entry',
      many: 'entries',
      actions,
      fields: { ...common, ownerId: { role: 'owner', type: 'text' }, note: plain('text'), size: plain('integer', { read: 'look' }) },
      reaches: { own: mine, open: { op: 'or', of: [mine, { op: 'isEmpty', field: 'ownerId' }] } },
    },
  },
  roles: {
    member: {
      label: 'Member',
      may: {
        'hive.read': ['own'],
        'hive.update': ['own'],
        'hive.delete': ['own'],
        'hive.create': ['own'],
        'visit.read': ['followed'],
        'visit.look': ['short'],
        'visit.update': ['short'],
        'visit.delete': ['followed'],
        'visit.create': ['tenant'],
        'entry.read': ['open'],
        'entry.look': ['own'],
        'entry.update': ['own'],
        'entry.delete': ['open'],
        'entry.create': ['own'],
      },
    },
  },
});

const TABLES = ['hives', 'visits', 'entries'] as const;
const COLUMNS: Record<string, readonly string[]> = {
  hives: ['id', 'tenant_id', 'owner_id', 'name', 'size'],
  visits: ['id', 'tenant_id', 'hive_id', 'note', 'size'],
  entries: ['id', 'tenant_id', 'owner_id', 'note', 'size'],
};
/** The second column of every select that stands in a query is a number, too. */
const NUMBERS = new Set(['size', 'c1']);
const isNumber = (column: string) => NUMBERS.has(column.split('.').at(-1) as string);

/** Rows that the person sees, the same in both databases; and rows that they do not, of which the second database has others. */
async function fill(db: Kysely<any>, second: boolean): Promise<void> {
  const lintel = createLintel({ charter, db });
  for (const [table, columns] of Object.entries(COLUMNS))
    await sql.raw(`create table ${table} (${columns.map((c) => `${c} ${NUMBERS.has(c) ? 'integer' : 'text'}`).join(', ')}, secret text)`).execute(db);
  await lintel.prepare();
  for (const id of ['me', 'other']) await lintel.addPerson({ id, name: id, address: `${id}@queries.example` });
  await lintel.openTenant({ id: 't', name: 'T', keyholder: 'other' });
  await db
    .insertInto('lintel_member')
    .values({ tenant_id: 't', user_id: 'me', status: 'active', since: new Date(0), attributes: '{}' })
    .execute();
  await db.insertInto('lintel_assignment').values({ tenant_id: 't', user_id: 'me', role: 'member', anchor: 'tenant', anchor_id: 't' }).execute();
  const add = (table: string, rows: Record<string, unknown>[]) =>
    db
      .insertInto(table)
      .values(rows.map((row) => ({ secret: hidden(row) ? 'hidden' : second ? 'B' : 'A', ...row })))
      .execute();
  const hidden = (row: any) =>
    row.tenant_id !== 't' || row.owner_id === 'other' || (row.id.startsWith('h') && row.owner_id === null) || ['v4', 'v5'].includes(row.id);
  const [x, y] = second ? [7, 'b'] : [1, 'a'];
  await add('hives', [
    { id: 'h1', tenant_id: 't', owner_id: 'me', name: 'a', size: 1 },
    { id: 'h2', tenant_id: 't', owner_id: 'me', name: 'b', size: null },
    { id: 'h3', tenant_id: 't', owner_id: 'other', name: y, size: x },
    { id: 'h1', tenant_id: 'u', owner_id: 'me', name: y, size: x },
    { id: 'h4', tenant_id: second ? 't' : null, owner_id: second ? null : 'me', name: 'a', size: 1 },
    ...(second ? [{ id: 'h5', tenant_id: 't', owner_id: 'other', name: 'a', size: 1 }] : []),
  ]);
  await add('visits', [
    { id: 'v1', tenant_id: 't', hive_id: 'h1', note: 'a', size: 1 },
    // Seen, but not its size.
    { id: 'v2', tenant_id: 't', hive_id: 'h1', note: 'b', size: x },
    { id: 'v3', tenant_id: 't', hive_id: 'h2', note: null, size: second ? null : 2 },
    { id: 'v4', tenant_id: 't', hive_id: 'h3', note: y, size: x },
    { id: 'v5', tenant_id: 't', hive_id: null, note: y, size: 1 },
    { id: 'v1', tenant_id: 'u', hive_id: 'h1', note: y, size: x },
  ]);
  await add('entries', [
    { id: 'e1', tenant_id: 't', owner_id: 'me', note: 'a', size: 1 },
    { id: 'e2', tenant_id: 't', owner_id: null, note: 'b', size: x },
    { id: 'e3', tenant_id: 't', owner_id: 'other', note: y, size: x },
    ...(second ? [] : [{ id: 'e4', tenant_id: 't', owner_id: 'other', note: 'a', size: 1 }]),
  ]);
}

/** A sequence of choices that a number fixes. */
class Choices {
  #state: number;
  constructor(seed: number) {
    this.#state = seed >>> 0;
  }
  /** mulberry32 */
  next(below: number): number {
    this.#state = (this.#state + 0x6d2b79f5) >>> 0;
    let t = this.#state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) % below;
  }
  of<T>(all: readonly T[]): T {
    return all[this.next(all.length)] as T;
  }
  oneIn(n: number): boolean {
    return this.next(n) === 0;
  }
}

interface Source {
  readonly alias: string;
  readonly columns: readonly string[];
}

/** Writes one query; what it may name at a place are the sources that are open there. */
class Writer {
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
      ? this.#c.of(['secret', 'ctid', 'xmin', 'tableoid', alias, 'nothing'])
      : this.#c.of(columns.filter((column) => isNumber(column) === number));
    return this.#c.oneIn(open.length === 1 ? 3 : 20) ? name : `${alias}.${name}`;
  }

  #value(column: string): unknown {
    return isNumber(column) ? this.#c.of([1, 2, 7]) : this.#c.of(['a', 'b', 'h1', 'h3', 'me', 'other', 't', 'u']);
  }

  expression(eb: any, open: readonly Source[], depth: number, number: boolean): any {
    const c = this.#c;
    const column = this.column(open, number);
    switch (c.next(depth > 0 ? 11 : 6)) {
      case 0:
        return eb.cast ? eb.fn.coalesce(eb.val(this.#value(column)), column) : eb.ref(column);
      case 1:
        return eb.fn.coalesce(column, eb.val(this.#value(column)));
      case 2:
        return c.oneIn(15)
          ? eb.fn(c.of(['pg_sleep', 'query_to_xml', 'upper(note), secret', 'version', 'to_jsonb']), [column])
          : eb.fn('nullif', [column, eb.val(this.#value(column))]);
      case 6:
        return eb
          .case()
          .when(this.condition(eb, open, depth - 1))
          .then(eb.ref(column))
          .else(eb.val(null))
          .end();
      case 7:
        return this.select(eb, open, depth - 1, [number]).limit(1);
      case 8:
        return c.oneIn(20) ? sql.raw(`(select count(*) from hives)`) : eb.ref(column);
      default:
        return eb.ref(column);
    }
  }

  condition(eb: any, open: readonly Source[], depth: number): any {
    const c = this.#c;
    const column = this.column(open);
    switch (c.next(depth > 0 ? 13 : 5)) {
      case 0:
        return eb(column, c.of(['is', 'is not']), null);
      case 1:
        return eb(column, 'in', [this.#value(column), this.#value(column)]);
      case 2:
        return eb(column, c.of(['=', '<>', '<', '>=', 'is distinct from']), eb.ref(this.column(open, isNumber(column))));
      case 3:
        return isNumber(column) ? eb(column, '>', 0) : eb(column, 'like', c.of(['a%', '%', 'h_']));
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
      default:
        return eb(column, c.of(['=', '<>', '<', '>']), this.#value(column));
    }
  }

  #source(db: any, outer: readonly Source[], depth: number): [any, Source] {
    const c = this.#c;
    const alias = this.#fresh();
    if (depth > 0 && c.oneIn(4)) return [this.select(db, outer, depth - 1, [false, true]).as(alias), { alias, columns: ['c0', 'c1'] }];
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
      if (c.oneIn(2)) query = query.having((eb: any) => eb(eb.fn.countAll(), '>', c.next(3)));
      const counted = (eb: any, number: boolean) =>
        number
          ? c.oneIn(2)
            ? eb.fn.countAll(c.oneIn(2) ? undefined : first.alias)
            : eb.fn.sum(this.column(own, true))
          : eb.fn[c.of(['max', 'min'])](this.column(own, false));
      return query.select((eb: any) => columns.map((number, i) => counted(eb, number).as(`c${i}`)));
    }
    const over = (o: any) => o.partitionBy(this.column(own));
    if (c.oneIn(8))
      return query.select((eb: any) => columns.map((number, i) => (number ? eb.fn.countAll() : eb.fn.max(this.column(own, false))).over(over).as(`c${i}`)));
    query = query.select((eb: any) => columns.map((number, i) => this.expression(eb, open, depth, number).as(`c${i}`)));
    if (c.oneIn(5)) query = query.distinct();
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
    switch (c.next(12)) {
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
      default:
        return this.select(scope, [], 3, [false, true]);
    }
  }
}

const worlds: { db: Kysely<any>; scope: (tx: Kysely<any>) => any }[] = [];
beforeAll(async () => {
  for (const second of [false, true]) {
    const { db } = await emptyPostgres(2);
    await fill(db, second);
    const standing = await createLintel({ charter, db }).enter({ tenant: 't', user: 'me' });
    worlds.push({ db, scope: (tx) => standing.scope<any>(tx) });
  }
});
afterAll(async () => {
  for (const { db } of worlds) await db.destroy();
});

class Undo extends Error {}
const HIDDEN = TABLES.map((table) => `select '${table}' as t, r::text as r from ${table} r where secret = 'hidden'`).join(' union all ');

/** What the statement of this number comes to in one world: its rows, or its error; and that it touched nothing hidden. */
async function outcome(number: number, { db, scope }: (typeof worlds)[number]): Promise<{ said: string; text: string }> {
  let said = '';
  let text = '';
  await db
    .transaction()
    .execute(async (tx) => {
      const before = (await sql.raw<any>(HIDDEN).execute(tx)).rows;
      await sql`savepoint q`.execute(tx);
      try {
        const query = new Writer(new Choices(number)).statement(scope(tx));
        text = query.compile().sql;
        const rows = (await query.execute()) as object[];
        said = JSON.stringify(rows.map((row) => JSON.stringify(row)).sort());
      } catch (error) {
        said = `${isLintelError(error) ? 'refused' : 'error'}: ${(error as Error).message}`;
        await sql`rollback to savepoint q`.execute(tx);
      }
      expect({ text, hidden: (await sql.raw<any>(HIDDEN).execute(tx)).rows }).toEqual({ text, hidden: before });
      throw new Undo();
    })
    .catch((error: unknown) => {
      if (!(error instanceof Undo)) throw error;
    });
  return { said, text };
}

test('no query of any shape tells what is out of reach', { timeout: 900_000 }, async () => {
  const count = process.env.LINTEL_LONG ? 5000 : 600;
  const first = process.env.LINTEL_LONG ? Date.now() % 1_000_000_000 : 1;
  const tally = { answered: 0, empty: 0, refused: 0, error: 0 };
  for (let number = first; number < first + count; number++) {
    const [a, b] = await Promise.all(worlds.map((world) => outcome(number, world)));
    expect({ number, text: a?.text, said: a?.said }).toEqual({ number, text: b?.text, said: b?.said });
    const said = a?.said ?? '';
    tally[said.startsWith('refused') ? 'refused' : said.startsWith('error') ? 'error' : said === '[]' ? 'empty' : 'answered'] += 1;
  }
  if (process.env.LINTEL_LONG) console.log(`${count} queries from number ${first}: ${JSON.stringify(tally)}`);
  // A generator whose queries are all refused would prove nothing.
  expect(tally.answered).toBeGreaterThan(count / 4);
});

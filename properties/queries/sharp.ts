/*
 * Small queries in which one thing fails on what is hidden in the second world, and on nothing that is seen: wherever it stands, none of them may fail, or find
 * something else.
 */
import { type Kysely, sql } from 'kysely';
import type { Choices } from '../harness/tape.js';

const TEXT: Readonly<Record<string, string>> = { hives: 'name', visits: 'note', entries: 'note', notes: 'note' };
type TableName = 'hives' | 'visits' | 'entries' | 'notes';

/** How an expression names a column of the table that it is about. */
type Column = (name: string) => string;

export class Sharp {
  readonly #c: Choices;
  #aliases = 0;
  #isOfEntries = false;
  constructor(choices: Choices) {
    this.#c = choices;
  }

  #fresh(): string {
    this.#aliases += 1;
    return `s${this.#aliases}`;
  }

  /** A condition that fails on some hidden rows of the second world. */
  #fails(eb: any, column: Column): any {
    const c = this.#c;
    const [text, size, code] = [column('text'), column('size'), column('code')];
    switch (c.next(11)) {
      case 0:
        return eb(text, c.of(['like', 'not like', 'ilike']), c.of(['ab\\', 'a_\\', '%\\\\\\']));
      case 1:
        return eb(text, 'like', eb.ref(text));
      case 2:
        return eb(eb(eb.lit(10), c.of(['/', '%']), eb.ref(size)), '>', -1);
      case 3:
        return eb(eb(size, c.of(['+', '-']), c.of([2147483640, -2147483640])), '<>', 0);
      case 4:
        return eb(eb.fn('abs', [size]), '>', 0);
      case 5:
        return eb(eb.fn('asNumber', [text]), '>', 0);
      case 6:
        return eb(text, c.of(['=', '<', 'is distinct from']), eb.ref(code));
      case 7:
        return eb(eb.fn('nullif', [text, code]), 'is not', null);
      case 8: {
        // Of three letters there are two, which is seen by itself in that table; of one letter there are several, and nobody asks for those.
        const s = this.#fresh();
        if (this.#isOfEntries) return eb(text, 'like', 'ab\\');
        const one = eb.selectFrom(`entries as ${s}`).select(`${s}.size`);
        const asLong = one.where((e: any) => e.and([e(e.fn('length', [`${s}.note`]), '=', e.fn('length', [text])), e(e.fn('length', [text]), '>', 1)]));
        return eb(asLong, '>', 0);
      }
      case 9: {
        const s = this.#fresh();
        const inside = eb.selectFrom(`codes as ${s}`).select(`${s}.code`);
        return eb.exists(inside.where((e: any) => e(e(e.lit(10), '/', e.ref(size)), '>', -1)));
      }
      default: {
        // What fails always, but is asked only where something hidden is so.
        const s = this.#fresh();
        const never = eb
          .selectFrom(`entries as ${s}`)
          .select((e: any) => e(`${s}.worth`, '/', 0).as('x'))
          .limit(1);
        return eb.or([eb(text, 'not in', c.oneIn(2) ? ['ab\\', 'ab', '3'] : ['3', 'ab']), eb(never, '>', 0)]);
      }
    }
  }

  #columns(table: TableName, alias?: string): Column {
    return (name) => `${alias === undefined ? '' : `${alias}.`}${name === 'text' ? TEXT[table] : name}`;
  }

  /** Something that can fail among what cannot, so that it does not matter for what is seen. */
  #condition(eb: any, column: Column): any {
    const failing = this.#fails(eb, column);
    switch (this.#c.next(4)) {
      case 0:
        return eb.or([failing, eb(column('size'), '>', 0)]);
      case 1:
        return eb.and([eb(column('size'), '<>', 77), failing]);
      case 2:
        return eb.not(failing);
      default:
        return failing;
    }
  }

  /** A query in the place of a table, in whose rows text and size are those of a table. */
  #derived(db: any, table: TableName): any {
    const t = this.#fresh();
    const text = `${t}.${TEXT[table]} as text`;
    const from = db.selectFrom(`${table} as ${t}`);
    switch (this.#c.next(6)) {
      case 0:
        return from.select([text, `${t}.size`, `${t}.code`]).distinct();
      case 1:
        return from.select([text, `${t}.size`, `${t}.code`]).groupBy([`${t}.${TEXT[table]}`, `${t}.size`, `${t}.code`]);
      case 2:
        return from.select([text, `${t}.size`, `${t}.code`]).unionAll(db.selectFrom('hives as u').select(['u.name as text', 'u.size', 'u.code']));
      case 3:
        return from.leftJoin('codes as k', `k.code`, `${t}.${TEXT[table]}`).select([text, `${t}.size`, `${t}.code`]);
      case 4: {
        const inner = this.#fresh();
        return db.selectFrom(from.select([text, `${t}.size`, `${t}.code`]).as(inner)).select([`${inner}.text`, `${inner}.size`, `${inner}.code`]);
      }
      default:
        return from.select([text, `${t}.size`, `${t}.code`]);
    }
  }

  statement(scope: Kysely<any>): any {
    const c = this.#c;
    const s = scope as any;
    // What is found by way of another table is asked last of all.
    const table = c.of(['visits', 'visits', 'hives', 'entries', 'notes'] as const);
    this.#isOfEntries = table === 'entries';
    const alias = c.oneIn(2) ? this.#fresh() : undefined;
    const from = alias === undefined ? s.selectFrom(table) : s.selectFrom(`${table} as ${alias}`);
    const column = this.#columns(table, alias ?? table);
    const of = (name: string) => (eb: any) => eb.ref(`${alias ?? table}.${name}`).as(name);
    switch (c.next(20)) {
      case 0:
        return from.select(of('id')).innerJoin('entries as e', (j: any) => j.on((eb: any) => this.#condition(eb, this.#columns(table, alias ?? table))));
      case 1:
        return s
          .selectFrom('entries as e')
          .select('e.id')
          .leftJoin(`${table} as l`, (j: any) => j.on((eb: any) => this.#condition(eb, this.#columns(table, 'l'))));
      case 2:
        return s
          .selectFrom(`${table} as r`)
          .rightJoin('entries as e', (j: any) => j.onRef('e.size', '<', 'r.size').on((eb: any) => this.#condition(eb, this.#columns(table, 'r'))))
          .select(['e.id', 'r.id as other']);
      case 3:
        // Who finds nobody in reach stands alone, whoever else there is.
        return s.selectFrom(`${table} as r`).rightJoin('entries as e', `r.${TEXT[table]}`, 'e.note').select(['e.id', 'r.id as other']);
      case 4:
      case 5:
      case 6:
        return s
          .selectFrom(this.#derived(s, table).as('d'))
          .select(['d.text', 'd.size'])
          .where((eb: any) => this.#condition(eb, (name) => `d.${name}`));
      case 7:
        return s
          .with('w', (q: any) => this.#derived(q, table))
          .selectFrom('w')
          .select(c.oneIn(2) ? 'w.text' : (eb: any) => eb.fn.countAll().as('n'))
          .where((eb: any) => this.#condition(eb, (name) => `w.${name}`));
      case 8: {
        const grouped = (q: any) =>
          q
            .selectFrom(`${table} as g`)
            .select([`g.${TEXT[table]} as text`])
            .groupBy([`g.${TEXT[table]}`, 'g.size', 'g.code'])
            .having((eb: any) => this.#condition(eb, this.#columns(table, 'g')));
        return c.oneIn(2) ? grouped(s) : s.selectFrom(grouped(s).as('d')).selectAll();
      }
      case 9:
        return s
          .updateTable('hives')
          .set({ worth: '2.00' })
          .where((eb: any) => this.#condition(eb, this.#columns('hives', 'hives')))
          .returning('id');
      case 10:
        return s
          .deleteFrom('hives')
          .where((eb: any) => this.#condition(eb, this.#columns('hives', 'hives')))
          .returning('id');
      case 11:
        return s
          .insertInto('entries')
          .values({ id: c.of(['e1', 'e3', 'e4']), note: '1' })
          .onConflict((o: any) =>
            o
              .column('id')
              .doUpdateSet({ worth: '2.00' })
              .where((eb: any) => this.#condition(eb, this.#columns('entries', 'entries'))),
          );
      case 12: {
        const value = (eb: any) => (c.oneIn(2) ? eb(eb.lit(10), '/', eb.ref(column('size'))) : eb.fn('asNumber', [column('text')]));
        return from.select((eb: any) => [
          eb.fn.sum(value(eb)).as('n'),
          eb.fn
            .countAll()
            .filterWhere((f: any) => this.#condition(f, column))
            .as('m'),
        ]);
      }
      case 13: {
        const d = this.#fresh();
        return s
          .selectFrom(
            from
              .select(of('id'))
              .select((eb: any) => this.#condition(eb, column).as('yes'))
              .as(d),
          )
          .selectAll()
          .where(`${d}.id`, '<>', 'v2');
      }
      case 14:
        return from
          .select(of('id'))
          .orderBy((eb: any) => this.#condition(eb, column))
          .orderBy(`${alias ?? table}.id`);
      case 15: {
        const e = this.#fresh();
        return s
          .selectFrom(`entries as ${e}`)
          .select(`${e}.id`)
          .where((eb: any) =>
            eb.exists(
              eb
                .selectFrom(`${table} as x`)
                .select('x.id')
                .where((f: any) => this.#condition(f, this.#columns(table, 'x'))),
            ),
          );
      }
      case 16:
        // A name that only a table of which nothing is known could have, or one around it could have undeclared.
        return from.select(of('id')).select((eb: any) =>
          eb
            .selectFrom('codes')
            .select(c.of(['secret', 'secret', 'meaning']))
            .limit(1)
            .as('x'),
        );
      case 18:
        // A whole row where a value belongs: what is not declared, or is masked, would stand in it.
        return from.select(of('id')).select((eb: any) => eb.fn(c.of(['concat', 'lower', 'coalesce']), [eb.table(alias ?? table)]).as('x'));
      case 17:
        return from.select(of('id')).where((eb: any) =>
          eb(
            column('id'),
            'in',
            eb
              .selectFrom(`${table} as y`)
              .select('y.id')
              .where((f: any) => this.#condition(f, this.#columns(table, 'y'))),
          ),
        );
      default:
        return from.select(of('id')).where((eb: any) => (c.oneIn(30) ? sql<boolean>`true` : this.#condition(eb, column)));
    }
  }
}

import type { Comparison, FieldShape, KindShape, LinkTable } from '../predicate/index.js';
import { Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';
import { spelledForMariaDb } from './tongue.js';
import { SqlWriter } from './writer.js';

/** The one collation in which texts are the same only where they are, to the last blank. */
export const BINARY = 'utf8mb4_nopad_bin';

/** Digits of a decimal, at most. */
const MOST_DIGITS = 65;

/**
 * MariaDB (10.11 or later), by `mysql2`. Booleans are kept as 0 and 1; instants in `datetime(3)` or finer, in UTC; texts in a binary collation without padding.
 * A write is steps in one transaction: nothing comes back of an update.
 */
export class MariaDbWriter extends SqlWriter {
  override readonly writesInside = false;

  override readonly answersWrites = false;

  override readonly vocabulary = 'mariadb';

  override readonly begins = ['set transaction isolation level read committed', 'start transaction'];

  override insertInto(table: Fragment): Fragment {
    return sqlText`insert into ${table}`;
  }

  override deleteFrom(table: Fragment): Fragment {
    return sqlText`delete from ${table}`;
  }

  override columnToSet(alias: string, column: string): Fragment {
    return name(alias, column);
  }

  /** Of an equation with a select in it an "exists" cannot be made an "in", which the planner would try. */
  protected override sameTenant(theirs: Fragment, own: Fragment): Fragment {
    const is = super.sameTenant(theirs, own);
    return is.texts.some((text) => text.includes('(select ')) ? sqlText`(${is}) is true` : is;
  }

  override json(text: string | null): Fragment {
    return sqlText`${text}`;
  }

  override image(kind: KindShape, fields: readonly string[], alias: string): Fragment {
    const pairs = fields.map((field) => {
      const { column, type } = kind.fields[field] as FieldShape;
      const value = name(alias, column);
      const written =
        type === 'decimal' ? sqlText`cast(${value} as char)` : type === 'instant' ? sqlText`date_format(${value}, '%Y-%m-%dT%H:%i:%s.%fZ')` : value;
      return sqlText`${verbatim(`'${column.replaceAll("'", "''")}', `)}${written}`;
    });
    return sqlText`json_object(${joinFragments(pairs, ', ')})`;
  }

  override fromImage(kind: KindShape, image: Fragment): Fragment {
    const columns = Object.values(kind.fields).flatMap((field) => (field.link ? [] : [this.#imageColumn(field)]));
    return sqlText`json_table(${image}, '$' columns (${joinFragments(columns, ', ')}))`;
  }

  #imageColumn({ column, type, scale = 0 }: FieldShape): Fragment {
    const types = {
      text: `longtext character set utf8mb4 collate ${BINARY}`,
      uuid: 'uuid',
      integer: 'bigint',
      boolean: 'tinyint(1)',
      decimal: `decimal(${MOST_DIGITS}, ${scale})`,
      instant: 'datetime(6)',
    };
    return sqlText`${name(column)} ${verbatim(types[type])} path ${verbatim(`'$."${column.replaceAll("'", "''").replaceAll('"', '')}"'`)}`;
  }

  override idAsText(column: Fragment): Fragment {
    return sqlText`cast(${column} as char)`;
  }

  override idFromText(text: Fragment, { type }: FieldShape): Fragment {
    return type === 'text' ? text : sqlText`cast(${text} as ${verbatim(type === 'integer' ? 'signed' : 'uuid')})`;
  }

  override differs(one: Fragment, other: Fragment): Fragment {
    return sqlText`not (${one} <=> ${other})`;
  }

  override daysAgo(days: number): Fragment {
    return sqlText`utc_timestamp(6) - interval ${days} day`;
  }

  override joined(parts: readonly Fragment[]): Fragment {
    return sqlText`concat(${joinFragments(parts, ', ')})`;
  }

  override ordered(value: Fragment, isDescending: boolean): Fragment {
    return sqlText`${value} is null${verbatim(isDescending ? ' desc' : '')}, ${value}${verbatim(isDescending ? ' desc' : '')}`;
  }

  override holdUp(): undefined {
    return undefined;
  }

  override linksOf(): undefined {
    return undefined;
  }

  override digest(): undefined {
    return undefined;
  }

  override fits(column: Fragment, field: FieldShape, options?: readonly string[]): Fragment | undefined {
    if (field.type === 'boolean') return sqlText`${column} in (0, 1)`;
    if (field.type === 'decimal')
      return sqlText`abs(${column}) < 1000000000000000000 and ${column} = truncate(${column}, ${verbatim(String(field.scale ?? 0))})`;
    if (field.type === 'instant') return sqlText`${column} >= '1970-01-01' and ${column} < '2038-01-01'`;
    return super.fits(column, field, options);
  }

  override spelled(sql: string): string {
    // Marks of values are put in after it: one that stands there already is of a name.
    return spelledForMariaDb(sql);
  }

  override placeholder(): string {
    return '?';
  }

  override bind(value: unknown): unknown {
    return value instanceof Date ? this.bound(value.toISOString()) : value;
  }

  /** Of an instant nothing is left to the time zone of the driver. */
  override cell(value: unknown, { type }: FieldShape): unknown {
    if (type !== 'instant' || value === null) return value;
    const text = value instanceof Date ? value.toISOString() : String(value);
    const inUtc = /^(\d{4}-\d\d-\d\d)T([\d:.]+)Z$/.exec(text);
    return inUtc ? `${inUtc[1]} ${inUtc[2]}` : this.bound(new Date(text).toISOString());
  }

  override readCell(raw: unknown, field: FieldShape): unknown {
    if (field.link) return typeof raw === 'string' ? JSON.parse(raw) : raw;
    if (field.type === 'boolean' && typeof raw === 'number') return raw !== 0;
    return super.readCell(raw, field);
  }

  override lock(): Fragment {
    return verbatim(' for update');
  }

  override get lockAtOnce(): Fragment {
    return verbatim(' for update nowait');
  }

  override people(kind: KindShape, link: LinkTable, alias: string): Fragment {
    const user = name('l', link.user);
    return sqlText`(select coalesce(json_arrayagg(${user} order by ${user}), '[]') from ${name(link.table)} as "l" where ${this.linkIs(kind, link, alias, 'l')})`;
  }

  override writeList(column: Fragment, values: readonly unknown[] | Fragment, field: FieldShape): Fragment {
    if (values instanceof Fragment) throw new TypeError('MariaDB takes a list as several values');
    if (values.length === 0) return verbatim('false');
    return sqlText`${column} in (${joinFragments(
      values.map((value) => this.#value(value, field)),
      ', ',
    )})`;
  }

  protected override writeValue(op: Comparison['op'], column: Fragment, value: unknown, field: FieldShape): Fragment {
    return sqlText`${column} ${this.operator(op)} ${this.#value(value, field)}`;
  }

  /** A text beside a decimal would make a number of both that is rounded. */
  #value(value: unknown, { type, scale = 0 }: FieldShape): Fragment {
    return type === 'decimal' ? sqlText`cast(${value} as decimal(${verbatim(`${MOST_DIGITS}, ${scale}`)}))` : sqlText`${value}`;
  }

  /** Two finer instants compare to the millisecond; the collation of a text is that of its column, which the check of the schema insists on. */
  override comparable(column: Fragment, field: FieldShape): Fragment {
    // guard instants-by-millisecond by mariadb: Instants would be compared finer than a record in memory holds them.
    return field.type === 'instant' ? /* guard instants-by-millisecond */ sqlText`cast(${column} as datetime(3))` : column;
  }

  protected override bound(iso: string): string {
    return iso.slice(0, 23).replace('T', ' ');
  }
}

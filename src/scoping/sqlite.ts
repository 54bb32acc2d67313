import { LintelError } from '../base/index.js';
import type { Comparison, FieldShape, KindShape, LinkTable } from '../predicate/index.js';
import { Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';
import { SqlWriter } from './writer.js';

/** Digits of a decimal, before and after the point together, that SQLite compares exactly: what fits 64 bits. */
const MAX_DIGITS = 18;

/** Of 50,000 bytes SQLite refuses more, on the first row to which it comes. */
const MAX_PATTERN = 10_000;

/**
 * SQLite (3.38 or later). Booleans are kept as 0 and 1; instants as text in ISO 8601 with a fraction and `Z`, which is what
 * `toISOString` gives; decimals as text or whole numbers; uuids as text in lower case.
 */
export class SqliteWriter extends SqlWriter {
  override readonly writesInside = false;

  override readonly vocabulary = 'sqlite';

  override readonly begins = ['begin immediate'];

  /** A mark of escape means nothing here; a pattern may only be so long. */
  override pattern(given: string): string {
    if (given.length > MAX_PATTERN) throw new LintelError('bad-pattern', `a pattern has at most ${MAX_PATTERN} characters here; ask for less`, {});
    return given;
  }

  override json(text: string | null): Fragment {
    return text === null ? verbatim('null') : sqlText`json(${text})`;
  }

  override image(kind: KindShape, fields: readonly string[], alias: string): Fragment {
    const pairs = fields.map((field) => {
      const { column } = kind.fields[field] as FieldShape;
      return sqlText`${verbatim(`'${column.replaceAll("'", "''")}', `)}${name(alias, column)}`;
    });
    return sqlText`json_object(${joinFragments(pairs, ', ')})`;
  }

  override fromImage(kind: KindShape, image: Fragment): Fragment {
    const columns = Object.values(kind.fields).flatMap(({ column, link }) =>
      link ? [] : [sqlText`json_extract(${image}, ${verbatim(`'$."${column.replaceAll("'", "''").replaceAll('"', '')}"'`)}) as ${name(column)}`],
    );
    return sqlText`(select ${joinFragments(columns, ', ')})`;
  }

  override idAsText(column: Fragment): Fragment {
    return sqlText`cast(${column} as text)`;
  }

  override idFromText(text: Fragment, { type }: FieldShape): Fragment {
    return type === 'integer' ? sqlText`cast(${text} as integer)` : text;
  }

  override differs(one: Fragment, other: Fragment): Fragment {
    return sqlText`${one} is not ${other}`;
  }

  override daysAgo(days: number): Fragment {
    return sqlText`strftime('%Y-%m-%dT%H:%M:%fZ', 'now', ${`-${days} days`})`;
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

  /** Columns take anything here, whatever type they were declared with. */
  override fits(column: Fragment, field: FieldShape, options?: readonly string[]): Fragment {
    const is = (...types: string[]) =>
      sqlText`typeof(${column}) in (${joinFragments(
        types.map((type) => verbatim(`'${type}'`)),
        ', ',
      )})`;
    switch (field.type) {
      case 'integer':
        return sqlText`${is('integer')} and ${super.fits(column, field) as Fragment}`;
      case 'boolean':
        return sqlText`${is('integer')} and ${column} in (0, 1)`;
      case 'decimal':
        return is('text', 'integer');
      case 'instant':
        return sqlText`${is('text')} and ${column} glob '[12]*-*-*T*:*:*.*Z' and cast(strftime('%s', ${column}) as integer) between 0 and ${verbatim(String(Date.UTC(2038, 0, 1) / 1000 - 1))}`;
      default:
        return options ? (super.fits(column, field, options) as Fragment) : is('text');
    }
  }

  override get unset(): Fragment {
    return verbatim('null');
  }

  override placeholder(): string {
    return '?';
  }

  override bind(value: unknown): unknown {
    if (value instanceof Date) return value.toISOString();
    return typeof value === 'boolean' ? Number(value) : value;
  }

  override readCell(raw: unknown, field: FieldShape): unknown {
    if (field.link) return JSON.parse(String(raw));
    return field.type === 'boolean' && typeof raw === 'number' ? raw !== 0 : raw;
  }

  /** A transaction that is to write has the database alone. */
  override lock(): Fragment {
    return verbatim('');
  }

  override people(kind: KindShape, link: LinkTable, alias: string): Fragment {
    return sqlText`(select json_group_array("u") from (select "l".${name(link.user)} as "u" from ${name(link.table)} as "l" where ${this.linkIs(kind, link, alias, 'l')} order by 1))`;
  }

  override writeList(column: Fragment, values: readonly unknown[] | Fragment, field: FieldShape): Fragment {
    if (values instanceof Fragment) throw new TypeError('SQLite takes a list as one value');
    if (field.type !== 'decimal') return sqlText`${column} in (select value from json_each(${JSON.stringify(values)}))`;
    return sqlText`(${joinFragments(
      values.map((value) => this.writeValue('is', column, value, field)),
      ' or ',
    )})`;
  }

  protected override writeValue(op: Comparison['op'], column: Fragment, value: unknown, field: FieldShape): Fragment {
    if (field.type !== 'decimal') return sqlText`${column} ${this.operator(op)} ${this.bind(value)}`;
    return sqlText`${this.#whole(column, field)} ${this.operator(op)} ${this.#digits(String(value))}`;
  }

  override comparable(column: Fragment, field: FieldShape): Fragment {
    if (field.type === 'instant') return sqlText`substr(${column}, 1, 23)`;
    return field.type === 'decimal' ? this.#whole(column, field) : column;
  }

  /** Without its `Z` a bound sorts before the same instant with further digits, so that an index on the text serves. */
  protected override bound(iso: string): string {
    return iso.slice(0, 23);
  }

  /** A decimal as the whole number of its smallest places: SQLite's own numbers would round it. */
  #whole(column: Fragment, { scale = 0 }: FieldShape): Fragment {
    const point = sqlText`instr(${column} || '.', '.')`;
    const places = sqlText`substr(substr(${column}, ${point} + 1) || ${verbatim(`'${'0'.repeat(scale)}'`)}, 1, ${verbatim(String(scale))})`;
    return sqlText`cast(substr(${column}, 1, ${point} - 1) || ${places} as integer)`;
  }

  #digits(value: string): bigint {
    const digits = value.replace('.', '');
    if (digits.replace('-', '').length <= MAX_DIGITS) return BigInt(digits);
    throw new LintelError('decimal-too-long', `${value} has more than ${MAX_DIGITS} digits, which SQLite cannot compare exactly; use a smaller scale`, {});
  }
}

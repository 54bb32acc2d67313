import { type Kysely, sql } from 'kysely';
import { type Fragment, name, sqlText, type writerFor } from '../../scoping/index.js';

/** A row by column, as the driver gives it; and as its database writes it, to be put back as it was to the last digit, where it can. */
export type Row = Readonly<Record<string, unknown>>;

/** Under this name stands how the database writes the row. A moment of a driver has milliseconds, that of a database more. */
const WRITTEN = '=row';

const columnsOf = (row: Row) => Object.entries(row).filter(([column]) => column !== WRITTEN);

/** A value of a row as a driver takes it: documents as text. */
const cell = (value: unknown) =>
  typeof value === 'object' && value !== null && Object.getPrototypeOf(value) === Object.prototype ? JSON.stringify(value) : value;

/** Reads rows of any table and puts them back. */
export class Rows {
  readonly #db: Kysely<any>;
  readonly #isExact: boolean;

  constructor(db: Kysely<any>, { vocabulary }: ReturnType<typeof writerFor>) {
    this.#db = db;
    this.#isExact = vocabulary === 'postgres';
  }

  async read(table: Fragment, most: number): Promise<Row[]> {
    const also = this.#isExact ? sqlText`, row_to_json("t")::text as ${name(WRITTEN)}` : sqlText``;
    return sqlText`select "t".*${also} from ${table} as "t" limit ${most}`.rows<Row>(this.#db);
  }

  async put(table: string, row: Row): Promise<void> {
    const written = row[WRITTEN];
    if (written === undefined) {
      const entries = columnsOf(row);
      await sql`insert into ${sql.table(table)} (${sql.join(entries.map(([column]) => sql.ref(column)))}) values (${sql.join(entries.map(([, value]) => cell(value)))})`.execute(
        this.#db,
      );
      return;
    }
    const columns = sql.join((await this.#given(table)).map((column) => sql.ref(column)));
    await sql`insert into ${sql.table(table)} (${columns}) overriding system value select ${columns} from json_populate_record(null::${sql.table(table)}, ${written}::json)`.execute(
      this.#db,
    );
  }

  /** Another row like one that is there, but for these columns. */
  putLike(table: string, row: Row, set: Row): Promise<void> {
    const written = row[WRITTEN];
    return this.put(table, { ...row, ...set, ...(written !== undefined && { [WRITTEN]: JSON.stringify({ ...JSON.parse(String(written)), ...set }) }) });
  }

  /** @param where the row as it stands now. */
  async setBack(table: string, where: ReturnType<typeof sql>, now: Row, row: Row): Promise<void> {
    const written = row[WRITTEN];
    if (written === undefined) {
      const set = columnsOf(row).map(([column, value]) => sql`${sql.ref(column)} = ${cell(value)}`);
      await sql`update ${sql.table(table)} set ${sql.join(set)} where ${where}`.execute(this.#db);
      return;
    }
    const [is, was] = [now[WRITTEN], written].map((text) => JSON.parse(String(text)) as Row) as [Row, Row];
    const given = await this.#given(table);
    const differ = given.filter((column) => JSON.stringify(is[column]) !== JSON.stringify(was[column]));
    // A number with more digits than there are here may be another only in these.
    const columns = sql.join((differ.length > 0 ? differ : given).map((column) => sql.ref(column)));
    await sql`update ${sql.table(table)} set (${columns}) = (select ${columns} from json_populate_record(null::${sql.table(table)}, ${written}::json)) where ${where}`.execute(
      this.#db,
    );
  }

  /** Removes every row that is the same in all. */
  async remove(table: string, row: Row): Promise<void> {
    const written = row[WRITTEN];
    const all = columnsOf(row).map(([column, value]) => (value === null ? sql`${sql.ref(column)} is null` : sql`${sql.ref(column)} = ${value}`));
    const gone = written === undefined ? sql` where ${sql.join(all, sql` and `)}` : sql` as t where row_to_json(t)::text = ${written}`;
    await sql`delete from ${sql.table(table)}${gone}`.execute(this.#db);
  }

  /** Columns that are not worked out by the database. */
  async #given(table: string): Promise<string[]> {
    const { rows } = await sql<{ attname: string }>`
      select attname from pg_catalog.pg_attribute where attrelid = ${sql.lit(
        table
          .split('.')
          .map((part) => `"${part}"`)
          .join('.'),
      )}::regclass and attnum > 0 and not attisdropped and attgenerated = ''
      order by attnum`.execute(this.#db);
    return rows.map(({ attname }) => attname);
  }
}

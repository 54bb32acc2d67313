import { type Kysely, sql } from 'kysely';
import type { ValueType } from '../predicate/index.js';
import { BINARY } from '../scoping/index.js';
import type { Column } from './column.js';

/** The types of column in which MariaDB keeps a field of each type, and compares it without rounding, padding or shifting it. */
export const FITTING_IN_MARIADB: Readonly<Record<ValueType, readonly string[]>> = {
  uuid: ['uuid'],
  text: ['varchar', 'text', 'mediumtext', 'longtext', 'tinytext'],
  integer: ['tinyint', 'smallint', 'mediumint', 'int', 'bigint'],
  boolean: ['tinyint(1)'],
  decimal: ['decimal'],
  instant: ['datetime'],
};

interface Row {
  readonly table: string;
  readonly schema: string;
  readonly column: string;
  readonly type: string;
  readonly shown: string;
  readonly collation: string | null;
  readonly scale: number | null;
  readonly fraction: number | null;
  readonly only: number;
}

/** What MariaDB says of the columns of these schemas, and of the one that the connection has. */
export async function mariaDbColumns(db: Kysely<any>, schemas: readonly string[]): Promise<Column[]> {
  const others = schemas.length === 0 ? sql`` : sql` or c.table_schema in (${sql.join([...schemas])})`;
  const { rows } = await sql<Row>`
    select c.table_name as \`table\`, c.table_schema as \`schema\`, c.column_name as \`column\`, c.data_type as \`type\`, c.column_type as \`shown\`, c.collation_name as \`collation\`,
      c.numeric_scale as \`scale\`, c.datetime_precision as \`fraction\`,
      exists (select 1 from information_schema.statistics s where s.table_schema = c.table_schema and s.table_name = c.table_name and s.non_unique = 0
        group by s.index_name having count(*) = 1 and max(s.column_name = c.column_name and s.sub_part is null) = 1) as \`only\`
    from information_schema.columns c where c.table_schema = database()${others}`.execute(db);
  return rows.map(({ table, schema, column, type, shown, collation, scale, fraction, only }) => ({
    table,
    schema,
    column,
    // guard padding-collation-refused by mariadb: A collation that pads its texts would be accepted.
    deterministic: collation === null ? null : /* guard padding-collation-refused */ collation === BINARY,
    type: shown === 'tinyint(1)' ? shown : type,
    collation,
    places: type === 'decimal' ? scale : type === 'datetime' ? fraction : null,
    unique: Number(only) === 1,
  }));
}

/** What the check of a connection reads, and as what it has to come. */
const MOMENT = '2026-07-01T12:00:00.001Z';

/** Modes of a session in which a statement of ours would mean something else. */
const OTHER_MODES = [
  'NO_BACKSLASH_ESCAPES',
  'HIGH_NOT_PRECEDENCE',
  'EMPTY_STRING_IS_NULL',
  'TIME_ROUND_FRACTIONAL',
  'PAD_CHAR_TO_FULL_LENGTH',
  'SIMULTANEOUS_ASSIGNMENT',
];

/** What of a connection is otherwise than it has to be: a line for each, with the mend. */
export async function mariaDbProblems(db: Kysely<any>): Promise<string[]> {
  const { rows } = await sql<{ mode: string; letters: string; version: string; moment: unknown; decimal: unknown; bee: unknown }>`
    select @@session.sql_mode as mode, @@session.character_set_client as letters, version() as version, cast('2026-07-01 12:00:00.001' as datetime(3)) as moment,
      cast(1.10 as decimal(20, 2)) as \`decimal\`, ${'\u{1F41D}'} as bee`.execute(db);
  const [row] = rows;
  if (!row) return [];
  const modes = row.mode.split(',');
  const [major = 0, minor = 0] = row.version.split('.').map(Number);
  const wrong = modes.filter((mode) => OTHER_MODES.includes(mode));
  return [
    ...(!/mariadb/i.test(row.version) || major < 10 || (major === 10 && minor < 11)
      ? [`the server is ${row.version}; records are kept in MariaDB 10.11 or later`]
      : []),
    ...(modes.some((mode) => mode === 'STRICT_TRANS_TABLES' || mode === 'STRICT_ALL_TABLES')
      ? []
      : ['the connection cuts off what is too long instead of refusing it; put STRICT_TRANS_TABLES into its sql_mode']),
    ...(wrong.length > 0 ? [`the connection reads statements in another way; take ${wrong.join(', ')} out of its sql_mode`] : []),
    ...(row.letters !== 'utf8mb4' || row.bee !== '\u{1F41D}' ? ["the connection does not speak utf8mb4; say charset: 'utf8mb4' where the pool is made"] : []),
    ...(row.moment instanceof Date && row.moment.toISOString() === MOMENT
      ? []
      : ["instants do not come as they are kept, in UTC; say timezone: 'Z', and no dateStrings, where the pool is made"]),
    ...(row.decimal === '1.10' ? [] : ['decimals come as rounded numbers; say decimalNumbers: false where the pool is made']),
  ];
}

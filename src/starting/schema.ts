import { type Kysely, SqliteAdapter, sql } from 'kysely';
import type { ValueType } from '../predicate/index.js';
import { isMariaDb } from '../scoping/index.js';

/** A column of an application's table, as far as a charter can say something of it. */
export interface SchemaColumn {
  readonly name: string;
  /** Undefined: no rule can compare what is in it. */
  readonly type: ValueType | undefined;
  /** The type as the database calls it. */
  readonly native: string;
  /** Places of a decimal; null: not said. */
  readonly scale: number | null;
  readonly mayBeEmpty: boolean;
  /** It alone is the primary key. */
  readonly isKey: boolean;
  /** The table to which a foreign key of this column points. */
  readonly to: string | null;
  /** The only values that it takes, where the database says so. */
  readonly options?: readonly string[];
}

export interface SchemaTable {
  readonly name: string;
  readonly columns: readonly SchemaColumn[];
}

/** What is asked of the rows where the schema says nothing. Nothing of them is kept. */
export interface Rows {
  /** Whether each value of a column is a key of another table; undefined where there is none to tell by. */
  readonly allIn: (table: string, column: string, of: string, key: string) => Promise<boolean | undefined>;
  /** The values of a column, at most so many; undefined: there are more. */
  readonly values: (table: string, column: string, most: number) => Promise<readonly string[] | undefined>;
}

const POSTGRES: Readonly<Record<string, ValueType>> = {
  uuid: 'uuid',
  text: 'text',
  varchar: 'text',
  enum: 'text',
  int2: 'integer',
  int4: 'integer',
  int8: 'integer',
  bool: 'boolean',
  numeric: 'decimal',
  timestamptz: 'instant',
};

const MARIADB: Readonly<Record<string, ValueType>> = {
  uuid: 'uuid',
  varchar: 'text',
  text: 'text',
  mediumtext: 'text',
  longtext: 'text',
  smallint: 'integer',
  mediumint: 'integer',
  int: 'integer',
  bigint: 'integer',
  'tinyint(1)': 'boolean',
  decimal: 'decimal',
  datetime: 'instant',
};

/** What SQLite keeps in a column is said by its declaration alone; moments and decimals are in whatever form the application chose, and are left out. */
const SQLITE: readonly (readonly [RegExp, ValueType])[] = [
  [/^bool/i, 'boolean'],
  [/int/i, 'integer'],
  [/^uuid$/i, 'uuid'],
  [/char|text|clob/i, 'text'],
];

interface Row extends Omit<SchemaColumn, 'options' | 'type'> {
  readonly table: string;
  readonly labels: readonly string[] | null;
  readonly checks: readonly string[] | null;
}

/** The values that a check allows: `CHECK ((state = ANY (ARRAY['open'::text, 'done'::text])))`, or `check (state in ('open', 'done'))`. */
function optionsIn(checks: readonly string[], column: string): readonly string[] | undefined {
  for (const check of checks) {
    const list = new RegExp(`^\\s*(?:check)?[\\s(]*["\`]?${column}["\`]?\\)?(?:::\\w+)?\\s*(?:=\\s*any\\s*\\(+\\s*array\\s*\\[|in\\s*\\()(.*)$`, 'is').exec(
      check,
    )?.[1];
    const values = [...(list ?? '').matchAll(/'((?:[^']|'')*)'/g)].map(([, value]) => (value as string).replaceAll("''", "'"));
    if (values.length > 0 && !/\b(and|or)\b/i.test((list as string).replace(/'(?:[^']|'')*'/g, ''))) return values;
  }
  return undefined;
}

async function postgresTables(db: Kysely<any>): Promise<SchemaTable[]> {
  const { rows } = await sql<Row>`
    select c.relname as table, a.attname as name, case when t.typtype = 'e' then 'enum' else t.typname end as native, not a.attnotnull as "mayBeEmpty",
      case when t.typname = 'numeric' and a.atttypmod > 0 then (a.atttypmod - 4) & 2047 end as scale,
      exists (select 1 from pg_index i where i.indrelid = c.oid and i.indisprimary and i.indnkeyatts = 1 and i.indkey[0] = a.attnum) as "isKey",
      (select f.relname from pg_constraint k join pg_class f on f.oid = k.confrelid where k.conrelid = c.oid and k.contype = 'f' and a.attnum = any(k.conkey) order by array_length(k.conkey, 1) limit 1) as to,
      case when t.typtype = 'e' then (select json_agg(e.enumlabel order by e.enumsortorder) from pg_enum e where e.enumtypid = t.oid) end as labels,
      (select json_agg(pg_get_constraintdef(k.oid)) from pg_constraint k where k.conrelid = c.oid and k.contype = 'c' and k.conkey = array[a.attnum]) as checks
    from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped join pg_type t on t.oid = a.atttypid
    where c.relkind in ('r', 'p') and not c.relispartition and n.nspname = any(current_schemas(false)) and c.relname not like 'lintel\\_%' order by c.relname, a.attnum`.execute(
    db,
  );
  return tablesOf(rows, ({ native }) => POSTGRES[native]);
}

async function sqliteTables(db: Kysely<any>): Promise<SchemaTable[]> {
  const { rows } = await sql<{ name: string; made: string }>`
    select name, sql as made from sqlite_master where type = 'table' and name not like 'sqlite_%' and name not like 'lintel\\_%' escape '\\' order by name`.execute(
    db,
  );
  const all: Row[] = [];
  for (const { name: table, made } of rows) {
    const found = await sql<{ name: string; native: string; mayBeEmpty: number; pk: number; keys: number; target: string | null }>`
      select t.name, t.type as native, t."notnull" = 0 as mayBeEmpty, t.pk, (select count(*) from pragma_table_info(${table}) where pk > 0) as keys,
        (select "table" from pragma_foreign_key_list(${table}) k where k."from" = t.name limit 1) as target
      from pragma_table_info(${table}) t order by t.cid`.execute(db);
    const checks = [...made.matchAll(/check\s*\(([^()]*\([^()]*\)[^()]*|[^()]*)\)/gi)].map(([, check]) => check as string);
    for (const { name, native, mayBeEmpty, pk, keys, target } of found.rows)
      all.push({ table, name, native, scale: null, mayBeEmpty: mayBeEmpty === 1 && pk === 0, isKey: pk > 0 && keys === 1, to: target, labels: null, checks });
  }
  return tablesOf(all, ({ native }) => SQLITE.find(([like]) => like.test(native))?.[1]);
}

async function mariaDbTables(db: Kysely<any>): Promise<SchemaTable[]> {
  const { rows } = await sql<Omit<Row, 'mayBeEmpty' | 'isKey' | 'labels' | 'checks'> & { full: string; mayBeEmpty: number; isKey: number }>`
    select c.table_name as \`table\`, c.column_name as name, case when c.column_type = 'tinyint(1)' then c.column_type else c.data_type end as native, c.column_type as full,
      c.is_nullable = 'YES' as \`mayBeEmpty\`, case when c.data_type = 'decimal' then c.numeric_scale end as scale,
      c.column_key = 'PRI' and (select count(*) from information_schema.columns o where o.table_schema = c.table_schema and o.table_name = c.table_name and o.column_key = 'PRI') = 1 as \`isKey\`,
      (select min(k.referenced_table_name) from information_schema.key_column_usage k where k.table_schema = c.table_schema and k.table_name = c.table_name and k.column_name = c.column_name) as \`to\`
    from information_schema.columns c join information_schema.tables t on t.table_schema = c.table_schema and t.table_name = c.table_name
    where c.table_schema = database() and t.table_type = 'BASE TABLE' and c.table_name not like 'lintel\\_%' order by c.table_name, c.ordinal_position`.execute(
    db,
  );
  const checks = await sql<{ table: string; clause: string }>`
    select table_name as \`table\`, check_clause as clause from information_schema.check_constraints where constraint_schema = database()`.execute(db);
  const all = rows.map(({ full, mayBeEmpty, isKey, ...row }): Row => {
    const labels = /^enum/i.test(full) ? [...full.matchAll(/'((?:[^']|'')*)'/g)].map(([, one]) => (one as string).replaceAll("''", "'")) : null;
    const own = checks.rows.filter(({ table }) => table === row.table).map(({ clause }) => clause);
    return { ...row, mayBeEmpty: Number(mayBeEmpty) === 1, isKey: Number(isKey) === 1, labels, checks: own };
  });
  return tablesOf(all, ({ native }) => MARIADB[native]);
}

function tablesOf(rows: readonly Row[], typeOf: (row: Row) => ValueType | undefined): SchemaTable[] {
  const tables = new Map<string, SchemaColumn[]>();
  for (const row of rows) {
    const { table, labels, checks, ...column } = row;
    const options = labels ?? optionsIn(checks ?? [], row.name);
    tables.set(table, [...(tables.get(table) ?? []), { ...column, type: typeOf(row), ...(options && { options }) }]);
  }
  return [...tables].map(([name, columns]) => ({ name, columns }));
}

/** The tables of an application in PostgreSQL, PGlite, SQLite or MariaDB, without those of the library. */
export function readSchema(db: Kysely<any>): Promise<SchemaTable[]> {
  const { adapter } = db.getExecutor();
  if (isMariaDb(adapter)) return mariaDbTables(db);
  return adapter instanceof SqliteAdapter ? sqliteTables(db) : postgresTables(db);
}

/** Asks the rows of a database. */
export const rowsOf = (db: Kysely<any>): Rows => ({
  async allIn(table, column, of, key) {
    const [t, c, o, k] = [sql.table(table), sql.ref(column), sql.table(of), sql.ref(key)];
    const { rows } = await sql<{ found: unknown; stray: unknown }>`
      select exists (select 1 from ${t} where ${c} is not null) as "found",
        exists (select 1 from ${t} x where x.${c} is not null and not exists (select 1 from ${o} y where y.${k} = x.${c})) as "stray"`.execute(db);
    const is = (value: unknown) => value === true || value === 1;
    return is(rows[0]?.found) ? !is(rows[0]?.stray) : undefined;
  },
  async values(table, column, most) {
    const { rows } = await sql<{
      value: unknown;
    }>`select distinct ${sql.ref(column)} as value from ${sql.table(table)} where ${sql.ref(column)} is not null limit ${most + 1}`.execute(db);
    return rows.length > most ? undefined : rows.map(({ value }) => String(value)).sort();
  },
});

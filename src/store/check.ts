import { type Kysely, SqliteAdapter, sql } from 'kysely';
import { LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';

interface Column {
  table: string;
  schema: string;
  column: string;
  deterministic: boolean | null;
}

/** What a database says of the columns that a charter may name. */
async function columnsIn(db: Kysely<any>, charter: Charter): Promise<Column[]> {
  if (db.getExecutor().adapter instanceof SqliteAdapter) return sqliteColumns(db, charter);
  const schemas = Object.values(charter.shapes).flatMap((shape) => shape.schema ?? []);
  const { rows } = await sql<Column>`
    select c.relname as table, n.nspname as schema, a.attname as column, k.collisdeterministic as deterministic
    from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
    left join pg_collation k on k.oid = a.attcollation
    where c.relkind in ('r', 'p', 'v', 'm', 'f') and (n.nspname = any(current_schemas(false)) or n.nspname = any(${schemas}))`.execute(db);
  return rows;
}

/** SQLite does not tell a column's collation: a comparison in that column's own collation does. */
async function sqliteColumns(db: Kysely<any>, charter: Charter): Promise<Column[]> {
  const tables = new Set(
    Object.values(charter.shapes).flatMap(({ table, fields }) => [table, ...Object.values(fields).flatMap(({ link }) => link?.table ?? [])]),
  );
  const found: Column[] = [];
  for (const table of tables) {
    const { rows } = await sql<{ name: string }>`select name from pragma_table_info(${table})`.execute(db);
    for (const { name: column } of rows) {
      const [x, t] = [sql.ref(column), sql.table(table)];
      const blind = await sql<{ blind: number }>`select "x" = 'A' as blind from (select ${x} as "x" from ${t} where 0 union all select 'a')`.execute(db);
      found.push({ table, schema: '', column, deterministic: blind.rows[0]?.blind !== 1 });
    }
  }
  return found;
}

/**
 * Compares the charter's tables and columns with the database, and their collations: a text column that compares letters of
 * different case as equal would make tenant `acme` and `ACME` one.
 *
 * @throws LintelError `schema-mismatch` with every difference.
 */
export async function checkSchema(db: Kysely<never>, charter: Charter): Promise<void> {
  const rows = await columnsIn(db, charter);
  const problems: string[] = [];
  const look = (table: string, schema: string | undefined, column: string, place: string) => {
    const inTable = rows.filter((row) => row.table === table && (schema === undefined || row.schema === schema));
    const found = inTable.find((row) => row.column === column);
    if (inTable.length === 0) problems.push(`${place}: there is no table "${table}"`);
    else if (!found) problems.push(`${place}: the table "${table}" has no column "${column}"`);
    else if (found.deterministic === false)
      problems.push(`${place}: "${table}"."${column}" has a collation that holds different texts for equal; give it a deterministic one`);
  };
  for (const [kind, shape] of Object.entries(charter.shapes)) {
    for (const [field, { column, link }] of Object.entries(shape.fields)) {
      const place = `kinds.${kind}.fields.${field}`;
      if (link) for (const part of [link.tenant, link.record, link.user]) look(link.table, undefined, part, place);
      else look(shape.table, shape.schema, column, place);
    }
  }
  const unique = [...new Set(problems)];
  if (unique.length > 0) throw new LintelError('schema-mismatch', `the charter and the database differ:\n${unique.join('\n')}`, { problems: unique });
}

import { type Kysely, SqliteAdapter, sql } from 'kysely';
import { LintelError } from '../base/index.js';
import { type Charter, idType } from '../charter/index.js';
import type { FieldShape, KindShape, ValueType } from '../predicate/index.js';
import { BINARY, isMariaDb } from '../scoping/index.js';
import type { Column } from './column.js';
import { FITTING_IN_MARIADB, mariaDbColumns, mariaDbProblems } from './mariadb.js';

/** The types of column in which a field of each type is kept and compared without being rounded, padded or shifted. */
export const FITTING: Readonly<Record<ValueType, readonly string[]>> = {
  uuid: ['uuid'],
  // guard padding-column-refused by agree: A column that pads its texts would be accepted.
  text: /* guard padding-column-refused (replaced) */ ['text', 'varchar', 'enum'],
  integer: ['int2', 'int4', 'int8'],
  boolean: ['bool'],
  decimal: ['numeric'],
  instant: ['timestamptz'],
};

/** The column keeps as many places as the field has. */
function keepsPlaces(places: number | null | undefined, wanted: number): boolean {
  // guard rounding-column-refused by agree: A column that rounds would be accepted.
  if (places != null && places < wanted) return false;
  return true;
}

/** What a database says of the columns that a charter may name. */
async function columnsIn(db: Kysely<any>, charter: Charter): Promise<Column[]> {
  if (db.getExecutor().adapter instanceof SqliteAdapter) return sqliteColumns(db, charter);
  const schemas = Object.values(charter.shapes).flatMap((shape) => shape.schema ?? []);
  if (isMariaDb(db.getExecutor().adapter)) return mariaDbColumns(db, schemas);
  const { rows } = await sql<Column>`
    select c.relname as table, n.nspname as schema, a.attname as column, k.collisdeterministic as deterministic, k.collname as collation,
      case when b.typtype = 'e' then 'enum' else b.typname end as type,
      case when m.typmod < 0 then null when b.typname = 'numeric' then (m.typmod - 4) & 2047 when b.typname = 'timestamptz' then m.typmod end as places,
      exists (select 1 from pg_index i where i.indrelid = c.oid and i.indisunique and i.indimmediate and i.indisvalid and i.indpred is null and i.indnkeyatts = 1 and i.indkey[0] = a.attnum) as unique
    from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
    join pg_type t on t.oid = a.atttypid join pg_type b on b.oid = case when t.typtype = 'd' then t.typbasetype else t.oid end
    cross join lateral (select case when t.typtype = 'd' then t.typtypmod else a.atttypmod end as typmod) m
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
    const { rows } = await sql<{ name: string; only: number }>`
      select t.name, t.pk = 1 and (select count(*) from pragma_table_info(${table}) where pk > 0) = 1
        or exists (select 1 from pragma_index_list(${table}) i where i."unique" and not i.partial and (select group_concat(name) from pragma_index_info(i.name)) = t.name) as only
      from pragma_table_info(${table}) t`.execute(db);
    for (const { name: column, only } of rows) {
      const [x, t] = [sql.ref(column), sql.table(table)];
      const blind = await sql<{ blind: number }>`select "x" = 'A' as blind from (select ${x} as "x" from ${t} where 0 union all select 'a')`.execute(db);
      found.push({ table, schema: '', column, deterministic: blind.rows[0]?.blind !== 1, unique: only === 1 });
    }
  }
  return found;
}

/**
 * Compares the charter's tables and columns with the database, their types, and their collations: a text column that compares letters of
 * different case as equal would make tenant `acme` and `ACME` one, a padded one would hold another text than was written, and ids in two collations could not be compared
 * with each other.
 *
 * @throws LintelError `schema-mismatch` with every difference.
 */
export async function checkSchema(db: Kysely<never>, charter: Charter): Promise<void> {
  const isMaria = isMariaDb(db.getExecutor().adapter);
  const fitting = isMaria ? FITTING_IN_MARIADB : FITTING;
  const rows = await columnsIn(db, charter);
  const problems = isMaria ? await mariaDbProblems(db) : [];
  const ids: { readonly called: string; readonly collation: string }[] = [];
  const look = (
    table: string,
    schema: string | undefined,
    column: string,
    place: string,
    { type, scale = 0 }: Pick<FieldShape, 'type' | 'scale'>,
    isId: boolean,
  ) => {
    const inTable = rows.filter((row) => row.table === table && (schema === undefined || row.schema === schema));
    const found = inTable.find((row) => row.column === column);
    const called = `"${table}"."${column}"`;
    if (inTable.length === 0) problems.push(`${place}: there is no table "${table}"`);
    else if (!found) problems.push(`${place}: the table "${table}" has no column "${column}"`);
    else if (found.deterministic === false)
      problems.push(`${place}: ${called} has a collation that holds different texts for equal; give it ${isMaria ? BINARY : 'a deterministic one'}`);
    else if (found.type !== undefined && !fitting[type].includes(found.type))
      problems.push(
        `${place}: ${called} is of the type ${found.type}, and the field is ${type}, which is kept in ${fitting[type].join(', ')}; change one of the two`,
      );
    else if (!keepsPlaces(found.places, type === 'instant' ? 3 : scale))
      problems.push(
        `${place}: ${called} keeps ${found.places} places, and the field ${type === 'instant' ? '3, thousandths of a second' : scale}, so that what is written would be rounded; change one of the two`,
      );
    else if (isId && found.collation) ids.push({ called, collation: found.collation });
  };
  const insistOnUnique = ({ table, schema, fields, idField }: KindShape, place: string, what: string) => {
    const { column } = fields[idField] as FieldShape;
    const found = rows.find((row) => row.table === table && (schema === undefined || row.schema === schema) && row.column === column);
    if (found?.unique === false)
      problems.push(
        `${place}: ${what} needs "${table}"."${column}" to be unique by itself, or a record of another tenant could be taken for it; make it the key, or give it a unique index`,
      );
  };
  for (const [kind, shape] of Object.entries(charter.shapes)) {
    for (const [field, own] of Object.entries(shape.fields)) {
      const { column, link } = own;
      const place = `kinds.${kind}.fields.${field}`;
      const at = (of: string | undefined) => shape.fields[of as string] as FieldShape;
      if (link) {
        look(link.table, undefined, link.user, place, own, true);
        look(link.table, undefined, link.record, place, at(shape.idField), true);
        if (link.tenant === undefined) insistOnUnique(shape, place, 'a list of people without a tenant');
        else look(link.table, undefined, link.tenant, place, { type: idType(charter, 'tenant') }, true);
      } else {
        if (shape.throughField === field)
          for (const one of [charter.shapes[own.to as string] as KindShape, shape]) insistOnUnique(one, place, 'a record that has its tenant through another');
        look(shape.table, shape.schema, column, place, own, charter.kind(kind).fields[field]?.role !== 'plain');
      }
    }
  }
  const [first] = ids;
  for (const { called, collation } of ids)
    if (first && collation !== first.collation)
      problems.push(`${called} has the collation ${collation}, and ${first.called} ${first.collation}: ids are compared with each other; give them one`);
  const unique = [...new Set(problems)];
  if (unique.length > 0) throw new LintelError('schema-mismatch', `the charter and the database differ:\n${unique.join('\n')}`, { problems: unique });
}

import type { Kysely } from 'kysely';
import type { Charter } from '../charter/index.js';
import { ofTenant, readValue } from '../predicate/index.js';
import { writerFor } from './dialect.js';
import { joinFragments, name, sqlText } from './fragment.js';

/** Which of these ids, as text, are of records of a kind that a tenant has. Nobody's standing is asked. */
export async function recordsThere(db: Kysely<any>, charter: Charter, tenantId: string, kind: string, ids: readonly string[]): Promise<string[]> {
  const shape = charter.shapes[kind];
  const field = shape?.fields[shape.idField];
  if (!shape || !field) return [];
  const values = ids.flatMap((id) => readValue(field.type, id) ?? []);
  if (values.length === 0) return [];
  const writer = writerFor(db, charter.shapes);
  const column = name('t', field.column);
  const among = joinFragments(
    values.map((value) => writer.equals(column, value, field)),
    ' or ',
  );
  const here = writer.condition(ofTenant(kind, charter.shapes, tenantId), kind, 't');
  const rows = await sqlText`select ${column} as "id" from ${writer.table(shape)} as "t" where (${among}) and ${here}`.rows<{ id: unknown }>(db);
  return rows.map(({ id }) => String(readValue(field.type, id) ?? id));
}

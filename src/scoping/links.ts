import type { Kysely } from 'kysely';
import { type Charter, idType } from '../charter/index.js';
import { type FieldShape, ofTenant, readValue, type Scalar } from '../predicate/index.js';
import { writerFor } from './dialect.js';
import { type Fragment, name, sqlText } from './fragment.js';

/** Where a person stands on records of a tenant: rows of a table in which a column holds them. */
interface Place {
  readonly table: Fragment;
  readonly column: Fragment;
  readonly rows: Fragment;
  /** True for a table that links people to records. */
  readonly isLink: boolean;
  readonly field: FieldShape;
}

/** Of a link table without a tenant, rows are of the tenant of the records that they name. */
function placesOf(db: Kysely<any>, charter: Charter, tenantId: string, userId: string): Place[] {
  const writer = writerFor(db, charter.shapes);
  const tenants: FieldShape = { type: idType(charter, 'tenant'), column: '' };
  return Object.entries(charter.shapes).flatMap(([kind, shape]) =>
    Object.values(shape.fields).flatMap((field): Place[] => {
      const user = readValue(field.type, userId);
      // An id of another type stands nowhere.
      if (user === undefined) return [];
      if (field.person && !field.link) {
        const here = writer.condition(ofTenant(kind, charter.shapes, tenantId), kind, shape.table);
        const table = writer.table(shape);
        return [{ table, column: name(field.column), rows: sqlText`${writer.equals(name(field.column), user, field)} and ${here}`, isLink: false, field }];
      }
      if (!field.link) return [];
      const { table, tenant } = field.link;
      const ofRecord = sqlText`exists (select 1 from ${writer.table(shape)} as "t" where ${writer.linkIs(shape, field.link, 't', table)} and ${writer.condition(ofTenant(kind, charter.shapes, tenantId), kind, 't')})`;
      const here = tenant === undefined ? ofRecord : writer.equals(name(table, tenant), readValue(tenants.type, tenantId) ?? null, tenants);
      const rows = sqlText`${writer.equals(name(table, field.link.user), user, field)} and ${here}`;
      return [{ table: name(table), column: name(field.link.user), rows, isLink: true, field }];
    }),
  );
}

/** False, or an error of the database, while a transaction is open that links somebody to records of a tenant: what it links is not to be seen yet. */
export async function claimLinks(tx: Kysely<any>, charter: Charter, tenantId: string, userId: string): Promise<boolean> {
  const writer = writerFor(tx, charter.shapes);
  const { lockAtOnce } = writer;
  if (lockAtOnce)
    for (const { table, rows } of placesOf(tx, charter, tenantId, userId)) await sqlText`select 1 from ${table} where ${rows}${lockAtOnce}`.rows(tx);
  const claimed = await writer.linksOf(tenantId)?.claim.rows<{ isFree: boolean }>(tx);
  return claimed?.[0]?.isFree !== false;
}

/** Takes somebody off every record of a tenant. */
export async function dropLinks(db: Kysely<any>, charter: Charter, tenantId: string, userId: string): Promise<void> {
  for (const { table, rows, isLink } of placesOf(db, charter, tenantId, userId)) if (isLink) await sqlText`delete from ${table} where ${rows}`.rows(db);
}

/** Puts somebody in the place of another on every record of a tenant: where they are linked to it, and where a field holds them. */
export async function passOnRecords(db: Kysely<any>, charter: Charter, tenantId: string, from: string, to: string): Promise<void> {
  for (const { table, column, rows, field } of placesOf(db, charter, tenantId, from))
    await sqlText`update ${table} set ${column} = ${readValue(field.type, to) as Scalar} where ${rows}`.rows(db);
}

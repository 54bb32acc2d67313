import type { Kysely } from 'kysely';
import { type Charter, idType } from '../charter/index.js';
import { type FieldShape, ofTenant, readValue } from '../predicate/index.js';
import { writerFor } from './dialect.js';
import { name, sqlText } from './fragment.js';

/** Takes somebody off every record of a tenant: of a link table without a tenant, by the records that it names. */
export async function dropLinks(db: Kysely<any>, charter: Charter, tenantId: string, userId: string): Promise<void> {
  const writer = writerFor(db, charter.shapes);
  const tenants: FieldShape = { type: idType(charter, 'tenant'), column: '' };
  for (const [kind, shape] of Object.entries(charter.shapes)) {
    for (const field of Object.values(shape.fields)) {
      if (!field.link) continue;
      const user = readValue(field.type, userId);
      // An id of another type is linked to nothing.
      if (user === undefined) continue;
      const { table, tenant } = field.link;
      const ofRecord = sqlText`exists (select 1 from ${writer.table(shape)} as "t" where ${writer.linkIs(shape, field.link, 't', table)} and ${writer.condition(ofTenant(kind, charter.shapes, tenantId), kind, 't')})`;
      const here = tenant === undefined ? ofRecord : writer.equals(name(table, tenant), readValue(tenants.type, tenantId) ?? null, tenants);
      await sqlText`delete from ${name(table)} where ${writer.equals(name(table, field.link.user), user, field)} and ${here}`.rows(db);
    }
  }
}

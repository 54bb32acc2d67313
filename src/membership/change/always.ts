import { type Kysely, sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { KEYHOLDER } from '../../charter/index.js';
import { isActive } from '../held/index.js';
import type { LintelTables } from '../terms/index.js';
import type { Change } from './change.js';

/** Of these tenants those in which somebody has full control: a person that there is, is active, and whose control and membership do not end by themselves. */
export async function underFullControl(tx: Kysely<LintelTables>, tenants: readonly string[], at: number): Promise<ReadonlySet<string>> {
  const rows = await tx
    .selectFrom('lintel_assignment as a')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select('a.tenant_id')
    .distinct()
    .where(sql<boolean>`a.tenant_id = any(${tenants}::text[])`)
    .where('a.role', '=', KEYHOLDER)
    .where('a.anchor', '=', 'tenant')
    .where('a.until', 'is', null)
    .where('m.ends_at', 'is', null)
    .where('p.is_program', '=', false)
    // An account that was made for somebody is nobody's before they came.
    // guard keyholder-has-come by accounts: A tenant could be left to a keyholder who has never come in.
    .where((eb) => eb.or([eb('p.kept_by', 'is', null), eb('p.activated_at', 'is not', null)]))
    .where(isActive('m', at))
    .execute();
  return new Set(rows.map((row) => row.tenant_id));
}

/**
 * What holds after every change of a tenant, whatever it was: somebody has full control of it.
 *
 * @throws LintelError `last-keyholder`.
 */
export async function insistOnKeyholder({ tx, tenantId, at, actor }: Change): Promise<void> {
  if ((await underFullControl(tx, [tenantId], at.getTime())).has(tenantId)) return;
  throw new LintelError(
    'last-keyholder',
    `Somebody always holds full control of ${actor.facts.tenant.name}, for good. Hand it to another member first, without an end.`,
    {},
  );
}

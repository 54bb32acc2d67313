import { type Kysely, sql } from 'kysely';
import { inTransaction, isLintelError, LintelError } from '../../base/index.js';
import { changeTenant } from '../change/index.js';
import { type LintelTables, lockPerson, lockTenants, PLATFORM_SOURCE, type Setting } from '../terms/index.js';

/** The tenants to which somebody belongs, by id. */
export async function tenantsOfPerson(db: Kysely<LintelTables>, userId: string): Promise<string[]> {
  const rows = await db.selectFrom('lintel_person_tenant').select('tenant_id').where('person_id', '=', userId).orderBy('tenant_id').execute();
  return rows.map((row) => row.tenant_id);
}

/**
 * Deactivates an account everywhere, or brings it back: in each of its tenants it is inactive in the platform's name, whatever people there do. Nothing is lost.
 *
 * @throws LintelError `no-account`; `last-keyholder` where somebody else has to take over a tenant first: then nothing was done.
 */
export function setDeactivated(setting: Setting, userId: string, isDeactivated: boolean): Promise<void> {
  return inTransaction(setting.db, async (tx) => {
    const tenants = await tenantsOfPerson(tx, userId);
    await lockTenants(tx, tenants);
    if (!(await lockPerson(tx, userId))) throw new LintelError('no-account', 'There is no such account.', {});
    await tx
      .updateTable('lintel_person')
      .set({ deactivated_at: isDeactivated ? new Date(setting.now()) : null })
      .where('id', '=', userId)
      .execute();
    for (const tenantId of tenants)
      await changeTenant(
        { ...setting, db: tx },
        tenantId,
        undefined,
        async (change) => {
          await sql`update lintel_member set inactive_by = array_remove(inactive_by, ${PLATFORM_SOURCE}) || ${isDeactivated ? [PLATFORM_SOURCE] : []}::text[]
            where tenant_id = ${tenantId} and user_id = ${userId}`.execute(change.tx);
          return { result: undefined, entry: { what: isDeactivated ? 'member deactivated' : 'member reactivated', event: { user: userId } } };
        },
        { evenClosed: true },
      ).catch((error: unknown) => {
        if (!isLintelError(error, 'last-keyholder')) throw error;
        throw new LintelError('last-keyholder', `${error.message} Nothing was done.`, { tenantId });
      });
  });
}

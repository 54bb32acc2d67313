import { type Kysely, sql, type Transaction } from 'kysely';
import { inTransaction, isLintelError, LintelError } from '../../base/index.js';
import { changeTenant } from '../change/index.js';
import { endMembership } from '../steps/index.js';
import { type LintelTables, lockPerson, lockTenants, type Setting } from '../terms/index.js';

/** Whatever names somebody beside the record of changes: the words of events that they caused, or that are about them. */
async function eraseWords(tx: Kysely<LintelTables>, userId: string, address: string): Promise<number> {
  const { numAffectedRows } = await sql`
    delete from lintel_audit_words w using lintel_audit a where a.tenant_id = w.tenant_id and a.number = w.number and (
      a.actor = ${userId} or ${userId} in (a.event ->> 'user', a.event ->> 'keyholder', a.event ->> 'responsible')
      or (a.tenant_id, a.event ->> 'invitation') in (
        select i.tenant_id, i.id from lintel_invitation i where i.address = ${address} or i.accepted_by = ${userId} or i.invited_by = ${userId}))`.execute(tx);
  return Number(numAffectedRows ?? 0);
}

async function leaveTenant(setting: Setting, tenantId: string, userId: string): Promise<void> {
  const erased = changeTenant(
    setting,
    tenantId,
    undefined,
    async (change) => {
      await endMembership(change, userId);
      return { result: undefined, entry: { what: 'member erased', event: { user: userId } } };
    },
    { evenClosed: true },
  );
  await erased.catch((error: unknown) => {
    if (!isLintelError(error, 'last-keyholder')) throw error;
    throw new LintelError('last-keyholder', `${error.message} Nothing was erased.`, { tenantId });
  });
}

/** The tenants to which somebody belongs, by id. */
export async function tenantsOf(db: Kysely<LintelTables>, userId: string): Promise<string[]> {
  const rows = await db.selectFrom('lintel_person_tenant').select('tenant_id').where('person_id', '=', userId).orderBy('tenant_id').execute();
  return rows.map((row) => row.tenant_id);
}

/**
 * Erases a person: every membership ends, the account and what names them are gone. The record of changes stays whole, since it holds ids and
 * commitments; records of the application stay owned by the id, for somebody to take over.
 *
 * @returns how many events have lost their words.
 * @throws LintelError `no-account`; `last-keyholder` where somebody else has to take over first, `try-again` where they came in somewhere in the same moment: then nothing
 *   was erased.
 */
export function erasePerson(setting: Setting, userId: string): Promise<{ readonly words: number }> {
  return inTransaction(setting.db, async (tx: Transaction<LintelTables>) => {
    const inside = { ...setting, db: tx };
    const person = await tx.selectFrom('lintel_person').select('address').where('id', '=', userId).executeTakeFirst();
    if (!person) throw new LintelError('no-account', 'There is no such account.', {});
    const tenants = await tenantsOf(tx, userId);
    await lockTenants(tx, tenants);
    for (const tenant of tenants) await leaveTenant(inside, tenant, userId);
    // From here on they come into no tenant. Where they just did, all of it is to be done again.
    await lockPerson(tx, userId);
    const joined = await tx.selectFrom('lintel_person_tenant').select('tenant_id').where('person_id', '=', userId).executeTakeFirst();
    if (joined) throw new LintelError('try-again', 'They came into another organisation in the same moment. Nothing was erased; try again.', {});
    const words = await eraseWords(tx, userId, person.address);
    const status = sql<'withdrawn'>`case status when 'pending' then 'withdrawn' else status end`;
    const gone = { address: `erased ${userId}`, address_written: 'erased', name: null, status };
    await tx.updateTable('lintel_invitation').set(gone).where('address', '=', person.address).execute();
    await tx.deleteFrom('lintel_mailed').where('address', '=', person.address).execute();
    await tx.deleteFrom('lintel_outbox').where('to_address', 'is not', null).where(sql<boolean>`lower(to_address) = ${person.address}`).execute();
    await tx.deleteFrom('lintel_address_proof').where('person_id', '=', userId).execute();
    await tx.deleteFrom('lintel_appeal').where('user_id', '=', userId).execute();
    await tx.updateTable('lintel_appeal').set({ reason: null }).where('answered_by', '=', userId).execute();
    await tx.deleteFrom('lintel_request').where('user_id', '=', userId).execute();
    await tx.deleteFrom('lintel_view').where('by_id', '=', userId).execute();
    await tx.deleteFrom('lintel_care').where('person_id', '=', userId).execute();
    await tx.deleteFrom('lintel_answer').where('actor', '=', userId).execute();
    for (const table of ['lintel_session', 'lintel_credential'] as const) await sql`delete from ${sql.table(table)} where person_id = ${userId}`.execute(tx);
    await tx.deleteFrom('lintel_person').where('id', '=', userId).execute();
    return { words };
  });
}

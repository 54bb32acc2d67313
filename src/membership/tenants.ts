import { randomUUID } from 'node:crypto';
import { LintelError } from '../base/index.js';
import { KEYHOLDER } from '../charter/index.js';
import { readName } from './address.js';
import { changeTenant, inTransaction, type Setting } from './change.js';
import type { Handlers } from './handler.js';
import type { AssignmentRow } from './tables.js';

export interface NewTenant {
  /** An id of the application's own; by default a uuid. */
  readonly id?: string;
  readonly name: string;
  /** Who opens it, and has full control of it from the start. */
  readonly keyholder: string;
  /** The line that tells a refused person whom to ask. */
  readonly contact?: string;
}

/**
 * Opens a tenant and makes one person its first keyholder, as one transaction.
 *
 * @throws LintelError `bad-name`, `tenant-exists`.
 */
export async function openTenant(setting: Setting, input: NewTenant): Promise<string> {
  const name = readName(input.name, 'an organisation');
  const contact = input.contact === undefined ? null : readName(input.contact, 'the contact');
  const id = input.id ?? randomUUID();
  return inTransaction(setting.db, async (tx) => {
    const made = await tx
      .insertInto('lintel_tenant')
      .values({ id, name, status: 'open', contact })
      .onConflict((c) => c.doNothing())
      .returning('id')
      .executeTakeFirst();
    if (!made) throw new LintelError('tenant-exists', `there is a tenant "${id}" already; choose another id`, { tenantId: id });
    await joinTenant(tx, id, input.keyholder, new Date(setting.now()), [{ role: KEYHOLDER, anchor: 'tenant', anchor_id: id }]);
    return changeTenant({ ...setting, db: tx }, id, input.keyholder, async () => ({
      result: id,
      entry: { what: 'tenant opened', event: { keyholder: input.keyholder }, words: { name } },
    }));
  });
}

/** Makes somebody a member with these assignments. The caller has locked the tenant and checked the right to. */
export async function joinTenant(
  tx: Parameters<Parameters<typeof inTransaction>[1]>[0],
  tenantId: string,
  userId: string,
  since: Date,
  assignments: readonly (Pick<AssignmentRow, 'role' | 'anchor' | 'anchor_id'> & { readonly until?: Date | null; readonly without?: string })[],
  endsAt: Date | null = null,
): Promise<void> {
  await tx.insertInto('lintel_member').values({ tenant_id: tenantId, user_id: userId, status: 'active', since, ends_at: endsAt }).execute();
  await tx.insertInto('lintel_person_tenant').values({ person_id: userId, tenant_id: tenantId }).execute();
  if (assignments.length > 0)
    await tx
      .insertInto('lintel_assignment')
      .values(assignments.map((a) => ({ tenant_id: tenantId, user_id: userId, ...a })))
      .execute();
}

export const tenantSteps: Handlers<'rename-tenant'> = {
  'rename-tenant': {
    needs: () => 'tenant.rename',
    touches: () => ({}),
    run: async ({ tx, tenantId }, { name, contact }) => {
      const set = {
        ...(name !== undefined && { name: readName(name, 'an organisation') }),
        ...(contact !== undefined && { contact: readName(contact, 'the contact') }),
      };
      if (Object.keys(set).length === 0) throw new LintelError('nothing-to-change', 'give a name, a contact, or both', {});
      const before = await tx.selectFrom('lintel_tenant').select(['name', 'contact']).where('id', '=', tenantId).executeTakeFirstOrThrow();
      await tx.updateTable('lintel_tenant').set(set).where('id', '=', tenantId).execute();
      const words = {
        ...(set.name && { nameBefore: before.name, nameAfter: set.name }),
        ...(set.contact && { contactBefore: before.contact ?? '', contactAfter: set.contact }),
      };
      return { what: 'tenant renamed', event: {}, words };
    },
  },
};

/** The tenants to which a person belongs, by name. */
export async function myTenants(setting: Setting, userId: string): Promise<{ readonly id: string; readonly name: string }[]> {
  return setting.db
    .selectFrom('lintel_person_tenant as pt')
    .innerJoin('lintel_tenant as t', 't.id', 'pt.tenant_id')
    .select(['t.id', 't.name'])
    .where('pt.person_id', '=', userId)
    .where('t.status', '=', 'open')
    .orderBy('t.name')
    .orderBy('t.id')
    .execute();
}

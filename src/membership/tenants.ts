import { randomUUID } from 'node:crypto';
import { LintelError } from '../base/index.js';
import { KEYHOLDER } from '../charter/index.js';
import { readName } from './address.js';
import { changeTenant, insistOn, inTransaction, type Setting } from './change.js';
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
  assignments: readonly Pick<AssignmentRow, 'role' | 'anchor' | 'anchor_id'>[],
): Promise<void> {
  await tx.insertInto('lintel_member').values({ tenant_id: tenantId, user_id: userId, status: 'active', since }).execute();
  await tx.insertInto('lintel_person_tenant').values({ person_id: userId, tenant_id: tenantId }).execute();
  if (assignments.length > 0)
    await tx
      .insertInto('lintel_assignment')
      .values(assignments.map((a) => ({ tenant_id: tenantId, user_id: userId, ...a })))
      .execute();
}

/**
 * Changes the tenant's name, its contact line, or both.
 *
 * @throws LintelError `refused`, `bad-name`.
 */
export async function renameTenant(
  setting: Setting,
  tenantId: string,
  actorId: string,
  input: { readonly name?: string; readonly contact?: string },
): Promise<void> {
  const set = {
    ...(input.name !== undefined && { name: readName(input.name, 'an organisation') }),
    ...(input.contact !== undefined && { contact: readName(input.contact, 'the contact') }),
  };
  if (Object.keys(set).length === 0) throw new LintelError('nothing-to-change', 'give a name, a contact, or both', {});
  await changeTenant(setting, tenantId, actorId, async (change) => {
    insistOn(change, 'tenant.rename');
    const before = await change.tx.selectFrom('lintel_tenant').select(['name', 'contact']).where('id', '=', tenantId).executeTakeFirstOrThrow();
    await change.tx.updateTable('lintel_tenant').set(set).where('id', '=', tenantId).execute();
    const words = {
      ...(set.name && { nameBefore: before.name, nameAfter: set.name }),
      ...(set.contact && { contactBefore: before.contact ?? '', contactAfter: set.contact }),
    };
    return { result: undefined, entry: { what: 'tenant renamed', event: {}, words } };
  });
}

/**
 * Adds a unit, below another or at the top.
 *
 * @throws LintelError `refused`, `bad-name`, `no-such-unit`.
 */
export async function addUnit(
  setting: Setting,
  tenantId: string,
  actorId: string,
  input: { readonly id?: string; readonly name: string; readonly below?: string },
): Promise<string> {
  const name = readName(input.name, 'a unit');
  const id = input.id ?? randomUUID();
  return changeTenant(setting, tenantId, actorId, async (change) => {
    insistOn(change, 'unit.arrange');
    const { tx } = change;
    const above =
      input.below === undefined
        ? []
        : await tx.selectFrom('lintel_unit_below').select('above_id').where('tenant_id', '=', tenantId).where('below_id', '=', input.below).execute();
    if (input.below !== undefined && above.length === 0)
      throw new LintelError('no-such-unit', 'There is no such unit to put it below.', { unitId: input.below });
    await tx
      .insertInto('lintel_unit')
      .values({ tenant_id: tenantId, id, name, parent_id: input.below ?? null })
      .execute();
    await tx
      .insertInto('lintel_unit_below')
      .values([id, ...above.map((row) => row.above_id)].map((above_id) => ({ tenant_id: tenantId, above_id, below_id: id })))
      .execute();
    return { result: id, entry: { what: 'unit added', event: { unit: id, below: input.below ?? null }, words: { name } } };
  });
}

/**
 * Places a member in exactly these units.
 *
 * @throws LintelError `refused`, `not-found` (no such member), `no-such-unit`, `beyond-power`.
 */
export async function placeMember(setting: Setting, tenantId: string, actorId: string, userId: string, unitIds: readonly string[]): Promise<void> {
  await changeTenant(setting, tenantId, actorId, async (change) => {
    insistOn(change, 'unit.arrange');
    const { tx, actor } = change;
    const member = await tx.selectFrom('lintel_member').select('user_id').where('tenant_id', '=', tenantId).where('user_id', '=', userId).executeTakeFirst();
    if (!member) throw new LintelError('not-found', 'There is no such member.', {});
    const before = await tx.selectFrom('lintel_placement').select('unit_id').where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
    const had = new Set(before.map((row) => row.unit_id));
    // A placement opens what reaches within the unit, for whoever holds such a role: only full control covers that for sure.
    if (!actor.isKeyholder) throw new LintelError('beyond-power', `Placing members in units takes full control of ${actor.facts.tenant.name}.`, {});
    const known =
      unitIds.length === 0
        ? []
        : await tx
            .selectFrom('lintel_unit')
            .select('id')
            .where('tenant_id', '=', tenantId)
            .where('id', 'in', [...unitIds])
            .execute();
    if (known.length !== new Set(unitIds).size) throw new LintelError('no-such-unit', 'One of the units does not exist.', { unitIds });
    await tx.deleteFrom('lintel_placement').where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
    if (known.length > 0)
      await tx
        .insertInto('lintel_placement')
        .values(known.map(({ id }) => ({ tenant_id: tenantId, user_id: userId, unit_id: id })))
        .execute();
    return { result: undefined, entry: { what: 'member placed', event: { user: userId, before: [...had], after: [...unitIds] } } };
  });
}

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

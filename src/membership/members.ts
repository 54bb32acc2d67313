import type { Transaction } from 'kysely';
import { LintelError } from '../base/index.js';
import { KEYHOLDER } from '../charter/index.js';
import { type Assignment, type Standing, throwIfRefused } from '../standing/index.js';
import { type Change, changeTenant, insistOn, type Setting } from './change.js';
import { anchorColumns, anchorOf, isActive } from './facts.js';
import { insistOnGiving } from './giving.js';
import type { LintelTables } from './tables.js';

export interface Member {
  readonly userId: string;
  readonly name: string;
  readonly address: string;
  readonly status: 'active' | 'suspended';
  readonly since: Date;
  readonly roles: readonly Assignment[];
}

/** @throws LintelError `refused` unless the standing may see the members. */
export async function listMembers(setting: Setting, standing: Standing): Promise<Member[]> {
  throwIfRefused(standing.decide('member.read'));
  const tenantId = standing.facts.tenant.id;
  const members = await setting.db
    .selectFrom('lintel_member as m')
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select(['m.user_id', 'p.name', 'p.address_written', 'm.status', 'm.since'])
    .where('m.tenant_id', '=', tenantId)
    .orderBy('p.name')
    .orderBy('m.user_id')
    .execute();
  const roles = await rolesByMember(setting.db as Transaction<LintelTables>, tenantId);
  return members.map((m) => ({
    userId: m.user_id,
    name: m.name,
    address: m.address_written,
    status: m.status,
    since: m.since,
    roles: roles.get(m.user_id) ?? [],
  }));
}

async function rolesByMember(tx: Transaction<LintelTables>, tenantId: string, userId?: string): Promise<Map<string, Assignment[]>> {
  let query = tx
    .selectFrom('lintel_assignment as a')
    .leftJoin('lintel_unit as u', (join) => join.onRef('u.tenant_id', '=', 'a.tenant_id').onRef('u.id', '=', 'a.anchor_id').on('a.anchor', '=', 'unit'))
    .select(['a.user_id', 'a.role', 'a.anchor', 'a.anchor_id', 'u.name'])
    .where('a.tenant_id', '=', tenantId)
    .where('a.user_id', 'is not', null)
    .where('a.role', 'is not', null)
    .$narrowType<{ user_id: string; role: string }>()
    .orderBy('a.role')
    .orderBy('a.anchor_id');
  if (userId !== undefined) query = query.where('a.user_id', '=', userId);
  const byMember = new Map<string, Assignment[]>();
  for (const row of await query.execute()) {
    const assignment = { role: row.role, anchor: anchorOf(row.anchor, row.anchor_id, row.name) };
    byMember.set(row.user_id, [...(byMember.get(row.user_id) ?? []), assignment]);
  }
  return byMember;
}

async function memberRoles(change: Change, userId: string): Promise<Assignment[]> {
  const { tx, tenantId } = change;
  const member = await tx.selectFrom('lintel_member').select('user_id').where('tenant_id', '=', tenantId).where('user_id', '=', userId).executeTakeFirst();
  if (!member) throw new LintelError('not-found', 'There is no such member.', {});
  return (await rolesByMember(tx, tenantId, userId)).get(userId) ?? [];
}

/** What makes two assignments the same: the role, and where it holds. */
const keyOf = ({ role, anchor }: Assignment) => JSON.stringify([role, anchorColumns('', anchor)]);
const withoutNames = (roles: readonly Assignment[]) =>
  roles.map(({ role, anchor }) => ({
    role,
    ...(anchor.on === 'tenant' ? { on: 'tenant' } : { [anchor.on]: anchor.on === 'unit' ? anchor.unitId : `${anchor.kind}:${anchor.id}` }),
  }));

/** The rows that hold assignments; a unit that does not exist is refused. */
export async function assignmentRows(change: Change, roles: readonly Assignment[]) {
  const unitIds = [...new Set(roles.flatMap(({ anchor }) => (anchor.on === 'unit' ? [anchor.unitId] : [])))];
  const known =
    unitIds.length === 0
      ? []
      : await change.tx.selectFrom('lintel_unit').select('id').where('tenant_id', '=', change.tenantId).where('id', 'in', unitIds).execute();
  if (known.length !== unitIds.length) throw new LintelError('no-such-unit', 'One of the units where a role is to hold does not exist.', { unitIds });
  return [...new Map(roles.map((r) => [keyOf(r), { role: r.role, ...anchorColumns(change.tenantId, r.anchor) }])).values()];
}

/** @throws LintelError `last-keyholder` when nobody with full control would be left. */
async function insistOnKeyholder(change: Change): Promise<void> {
  const left = await change.tx
    .selectFrom('lintel_assignment as a')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
    .select('a.user_id')
    .where('a.tenant_id', '=', change.tenantId)
    .where('a.role', '=', KEYHOLDER)
    .where('a.anchor', '=', 'tenant')
    .where(isActive('m', change.at.getTime()))
    .limit(1)
    .executeTakeFirst();
  if (left) return;
  throw new LintelError('last-keyholder', `Somebody always holds full control of ${change.actor.facts.tenant.name}. Hand it to another member first.`, {});
}

/**
 * Replaces a member's roles by these, in one step: there is no moment without access. Every role that is given or taken must
 * be within the actor's power; nobody adds to their own.
 *
 * @throws LintelError `refused`, `not-found`, `unknown-role`, `beyond-power`, `own-power`, `last-keyholder`, `no-such-unit`.
 */
export async function setRoles(
  setting: Setting,
  tenantId: string,
  actorId: string,
  userId: string,
  roles: readonly Assignment[],
  reason?: string,
): Promise<void> {
  await changeTenant(setting, tenantId, actorId, async (change) => {
    const { tx, actor } = change;
    const own = userId === actorId;
    // To give up what is one's own takes no permission.
    if (!own || actor.facts.subject !== 'member') insistOn(change, 'member.assign');
    const before = await memberRoles(change, userId);
    const [had, wanted] = [new Set(before.map(keyOf)), new Set(roles.map(keyOf))];
    const given = roles.filter((r) => !had.has(keyOf(r)));
    const taken = before.filter((r) => !wanted.has(keyOf(r)));
    if (own && given.length > 0) throw new LintelError('own-power', 'Nobody adds to their own powers. Ask another keyholder to do it.', {});
    insistOnGiving(actor, given);
    // What the charter no longer knows gives nothing, so anybody who may change roles can take it away.
    if (!own)
      insistOnGiving(
        actor,
        taken.filter((r) => r.role === KEYHOLDER || Object.hasOwn(setting.charter.data.roles, r.role)),
      );
    const rows = await assignmentRows(change, roles);
    await tx.deleteFrom('lintel_assignment').where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
    if (rows.length > 0)
      await tx
        .insertInto('lintel_assignment')
        .values(rows.map((row) => ({ tenant_id: tenantId, user_id: userId, ...row })))
        .execute();
    await insistOnKeyholder(change);
    return {
      result: undefined,
      entry: { what: 'roles changed', event: { user: userId, before: withoutNames(before), after: withoutNames(roles) }, ...(reason && { words: { reason } }) },
    };
  });
}

/** Ends a membership with everything that hangs on it, so that nothing revives on return. Records stay owned. */
async function endMembership(change: Change, userId: string): Promise<readonly Assignment[]> {
  const { tx, tenantId } = change;
  const before = await memberRoles(change, userId);
  for (const table of ['lintel_assignment', 'lintel_placement', 'lintel_group_member', 'lintel_member'] as const) {
    await tx.deleteFrom(table).where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
  }
  await tx.deleteFrom('lintel_person_tenant').where('tenant_id', '=', tenantId).where('person_id', '=', userId).execute();
  for (const { table, tenant, user } of linkTables(change.setting)) {
    await tx
      .deleteFrom(table as 'lintel_placement')
      .where(tenant as 'tenant_id', '=', tenantId)
      .where(user as 'user_id', '=', userId)
      .execute();
  }
  await insistOnKeyholder(change);
  return before;
}

/** The tables in which the application links people to records. */
function linkTables(setting: Setting) {
  return Object.values(setting.charter.shapes).flatMap((shape) => Object.values(shape.fields).flatMap((field) => (field.link ? [field.link] : [])));
}

/**
 * Removes a member. It counts from their next request on.
 *
 * @throws LintelError `refused`, `not-found`, `beyond-power` (a keyholder is removed by a keyholder), `last-keyholder`.
 */
export async function removeMember(setting: Setting, tenantId: string, actorId: string, userId: string, reason?: string): Promise<void> {
  if (userId === actorId) return leaveTenant(setting, tenantId, actorId);
  await changeTenant(setting, tenantId, actorId, async (change) => {
    insistOn(change, 'member.remove');
    const roles = await memberRoles(change, userId);
    if (roles.some((r) => r.role === KEYHOLDER) && !change.actor.isKeyholder) {
      throw new LintelError('beyond-power', 'Only a keyholder removes a keyholder.', {});
    }
    await endMembership(change, userId);
    return { result: undefined, entry: { what: 'member removed', event: { user: userId, before: withoutNames(roles) }, ...(reason && { words: { reason } }) } };
  });
}

/**
 * Leaves a tenant by oneself; it takes no permission.
 *
 * @throws LintelError `not-found`, `last-keyholder`.
 */
export async function leaveTenant(setting: Setting, tenantId: string, userId: string): Promise<void> {
  await changeTenant(setting, tenantId, userId, async (change) => {
    const before = await endMembership(change, userId);
    return { result: undefined, entry: { what: 'member left', event: { user: userId, before: withoutNames(before) } } };
  });
}

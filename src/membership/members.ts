import { type Kysely, sql } from 'kysely';
import { LintelError } from '../base/index.js';
import { type Charter, KEYHOLDER, nameNow } from '../charter/index.js';
import type { Assignment, Standing } from '../standing/index.js';
import { type Change, ownRoles, type Setting } from './change.js';
import { isActive } from './facts.js';
import type { Handlers } from './handler.js';
import { assignmentOf, insistOnHolder, readUntil, rolesHeld, rolesOnRecord } from './holders.js';
import { dropOpenings } from './openings.js';
import type { LintelTables } from './tables.js';
import { insistOnPeople, isKnown } from './visible.js';

export interface Member {
  readonly userId: string;
  readonly name: string;
  readonly address: string;
  readonly status: 'active' | 'suspended';
  readonly since: Date;
  readonly roles: readonly (Assignment & { readonly label: string })[];
  /** When the membership ends by itself. */
  readonly endsAt?: Date;
  /** When a suspension ends by itself. */
  readonly suspendedUntil?: Date;
}

/** A part of a list: at most `limit`, from behind the place that the last item of the part before has. */
export interface Part<Place> {
  readonly after?: Place;
  readonly limit?: number;
}

/** People who are members and of whom this standing may know, by name; programs are listed on their own. @throws LintelError `refused` unless the standing may see the members. */
export async function listMembers(setting: Setting, standing: Standing, { after, limit }: Part<Pick<Member, 'name' | 'userId'>> = {}): Promise<Member[]> {
  const known = insistOnPeople(standing);
  const tenantId = standing.facts.tenant.id;
  const members = await setting.db
    .selectFrom('lintel_member as m')
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select(['m.user_id', 'p.name', 'p.address_written', 'm.since', 'm.ends_at', 'm.suspended_until', isActive('m', setting.now()).as('active')])
    .where('m.tenant_id', '=', tenantId)
    .where('m.responsible_id', 'is', null)
    .where(isKnown(known, tenantId, sql.ref('m.user_id')))
    .$if(after !== undefined, (qb) => qb.where(sql<boolean>`(p.name, m.user_id) > (${after?.name}, ${after?.userId})`))
    .orderBy('p.name')
    .orderBy('m.user_id')
    .$if(limit !== undefined, (qb) => qb.limit(limit as number))
    .execute();
  const roles = await rolesByMember(setting.db, tenantId, limit === undefined && known === 'all' ? undefined : members.map((m) => m.user_id));
  const charter = setting.charter.withRoles(await ownRoles(setting.db, setting.charter, tenantId));
  return members.map((m) => ({
    userId: m.user_id,
    name: m.name,
    address: m.address_written,
    status: m.active ? 'active' : 'suspended',
    since: m.since,
    roles: (roles.get(m.user_id) ?? []).map((held) => ({ ...held, label: roleLabel(charter, held.role) })),
    ...(m.ends_at && { endsAt: m.ends_at }),
    ...(!m.active && m.suspended_until && { suspendedUntil: m.suspended_until }),
  }));
}

/** A role that is gone is called by its id. */
export function roleLabel(charter: Charter, stored: string): string {
  const role = nameNow(charter, stored);
  return role === KEYHOLDER || Object.hasOwn(charter.data.roles, role) ? charter.role(role).label : role;
}

async function rolesByMember(db: Kysely<LintelTables>, tenantId: string, users: readonly string[] | undefined): Promise<Map<string, Assignment[]>> {
  const rows = await db
    .selectFrom('lintel_assignment as a')
    .leftJoin('lintel_unit as u', (join) => join.onRef('u.tenant_id', '=', 'a.tenant_id').onRef('u.id', '=', 'a.anchor_id').on('a.anchor', '=', 'unit'))
    .select(['a.user_id', 'a.role', 'a.anchor', 'a.anchor_id', 'u.name', 'a.until', 'a.without'])
    .where('a.tenant_id', '=', tenantId)
    .where('a.user_id', 'is not', null)
    .$if(users !== undefined, (qb) => qb.where(sql<boolean>`a.user_id = any(${users}::text[])`))
    .where('a.role', 'is not', null)
    .$narrowType<{ user_id: string }>()
    .orderBy('a.role')
    .orderBy('a.anchor_id')
    .execute();
  const byMember = new Map<string, Assignment[]>();
  for (const row of rows) byMember.set(row.user_id, [...(byMember.get(row.user_id) ?? []), assignmentOf(row)]);
  return byMember;
}

/** Active members with full control of a tenant, by id. */
export async function keyholdersOf(
  db: Kysely<LintelTables>,
  tenantId: string,
  now: number,
): Promise<readonly { readonly id: string; readonly address: string }[]> {
  return db
    .selectFrom('lintel_assignment as a')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select(['p.id', 'p.address_written as address'])
    .where('a.tenant_id', '=', tenantId)
    .where('a.role', '=', KEYHOLDER)
    .where('a.anchor', '=', 'tenant')
    .where(isActive('m', now))
    .orderBy('p.id')
    .execute();
}

/** @throws LintelError `last-keyholder` when nobody with full control would be left. */
export async function insistOnKeyholder(change: Change): Promise<void> {
  const left = await keyholdersOf(change.tx, change.tenantId, change.at.getTime());
  if (left.length > 0) return;
  throw new LintelError('last-keyholder', `Somebody always holds full control of ${change.actor.facts.tenant.name}. Hand it to another member first.`, {});
}

/** The tables in which the application links people to records. */
function linkTables(setting: Setting) {
  return Object.values(setting.charter.shapes).flatMap((shape) => Object.values(shape.fields).flatMap((field) => (field.link ? [field.link] : [])));
}

/** Ends a membership with everything that hangs on it, so that nothing revives on return. Records stay owned. */
export async function endMembership(change: Change, userId: string): Promise<readonly Assignment[]> {
  const { tx, tenantId } = change;
  await insistOnHolder(change, { user: userId });
  const before = await rolesHeld(change, { user: userId });
  await dropOpenings(change, (eb) => eb('to_user', '=', userId));
  await tx
    .deleteFrom('lintel_deputy')
    .where('tenant_id', '=', tenantId)
    .where((eb) => eb.or([eb('of_id', '=', userId), eb('to_id', '=', userId)]))
    .execute();
  await tx
    .updateTable('lintel_appeal')
    .set({ status: 'withdrawn', answered_at: change.at })
    .where('tenant_id', '=', tenantId)
    .where('user_id', '=', userId)
    .where('status', '=', 'open')
    .execute();
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
  return before;
}

const isKeyholder = async (change: Change, user: string) => (await rolesHeld(change, { user })).some(({ role }) => role === KEYHOLDER);

/** @throws LintelError `beyond-power` where somebody else acts on a keyholder. */
async function insistOnPeer(change: Change, userId: string, what: string): Promise<void> {
  if (change.actor.isKeyholder) return;
  if (await isKeyholder(change, userId)) throw new LintelError('beyond-power', `Only a keyholder ${what} a keyholder.`, {});
}

async function setMember(change: Change, userId: string, set: { status?: 'active' | 'suspended'; suspended_until?: Date | null; ends_at?: Date | null }) {
  await insistOnHolder(change, { user: userId });
  await change.tx.updateTable('lintel_member').set(set).where('tenant_id', '=', change.tenantId).where('user_id', '=', userId).execute();
}

export const keyholderEnds = () =>
  new LintelError('keyholder-ends', 'The membership of a keyholder does not end by itself: somebody always holds full control.', {});

export const memberSteps: Handlers<'suspend' | 'restore' | 'set-end' | 'remove' | 'leave'> = {
  suspend: {
    needs: () => 'member.suspend',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user, until }) => {
      await insistOnPeer(change, user, 'suspends');
      await setMember(change, user, { status: 'suspended', suspended_until: readUntil(until, change) });
      return { what: 'member suspended', event: { user, ...(until && { until }) } };
    },
  },
  restore: {
    needs: () => 'member.suspend',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user }) => {
      await insistOnPeer(change, user, 'brings back');
      await setMember(change, user, { status: 'active', suspended_until: null });
      return { what: 'member restored', event: { user } };
    },
  },
  'set-end': {
    needs: () => 'member.remove',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user, at }) => {
      await insistOnPeer(change, user, 'ends the membership of');
      if (user === change.actor.userId) throw new LintelError('own-power', 'Nobody sets the end of their own membership; leave, or ask another.', {});
      if (at !== null && (await isKeyholder(change, user))) throw keyholderEnds();
      await setMember(change, user, { ends_at: readUntil(at ?? undefined, change) });
      return { what: 'end of membership set', event: { user, at } };
    },
  },
  remove: {
    needs: ({ user }, { actor }) => (user === actor.userId ? undefined : 'member.remove'),
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user }) => {
      if (user === change.actor.userId) return memberSteps.leave.run(change, { do: 'leave' });
      await insistOnPeer(change, user, 'removes');
      const roles = await endMembership(change, user);
      return { what: 'member removed', event: { user, before: rolesOnRecord(roles) } };
    },
  },
  leave: {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change) => {
      const user = change.actor.userId as string;
      const before = await endMembership(change, user);
      return { what: 'member left', event: { user, before: rolesOnRecord(before) } };
    },
  },
};

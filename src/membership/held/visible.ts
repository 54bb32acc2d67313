import { type Kysely, type RawBuilder, sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { AboutPeople } from '../../charter/index.js';
import { type PeopleReach, peopleReach, type Standing, throwIfRefused } from '../../standing/index.js';
import type { LintelTables, Setting } from '../terms/index.js';

/** Of which people a standing may know. @throws LintelError `refused` for none. */
export function insistOnPeople(standing: Standing<any>, permission: AboutPeople = 'member.read'): PeopleReach {
  throwIfRefused(standing.decide(permission));
  return peopleReach(standing, permission);
}

/** @throws LintelError `refused` for somebody who may know of some only. */
export function insistOnAll(standing: Standing<any>, permission: AboutPeople = 'member.read'): void {
  if (insistOnPeople(standing, permission) === 'all') return;
  throw new LintelError('refused', 'This shows everybody, and you may know of some people only.', {});
}

/** The condition that somebody is among those of whom a standing may know. */
export function isKnown(reach: PeopleReach, tenantId: string, user: RawBuilder<unknown>): RawBuilder<boolean> {
  if (reach === 'all') return sql<boolean>`true`;
  return sql<boolean>`(${user} = any(${reach.users}::text[])
    or exists (select 1 from lintel_group_member vg where vg.tenant_id = ${tenantId} and vg.user_id = ${user} and vg.group_id = any(${reach.groups}::text[]))
    or exists (select 1 from lintel_placement vp where vp.tenant_id = ${tenantId} and vp.user_id = ${user} and vp.unit_id = any(${reach.units}::text[]))
    or exists (select 1 from lintel_assignment va where va.tenant_id = ${tenantId} and va.role = any(${reach.roles}::text[]) and (va.until is null or va.until > now()) and (va.user_id = ${user}
      or exists (select 1 from lintel_group_member vh where vh.tenant_id = ${tenantId} and vh.user_id = ${user} and vh.group_id = va.group_id)
      or exists (select 1 from lintel_unit_below vb join lintel_placement vq on vq.tenant_id = vb.tenant_id and vq.unit_id = vb.below_id where vb.tenant_id = ${tenantId} and vb.above_id = va.unit_id and vq.user_id = ${user}))))`;
}

/** True for a member of whom this standing may know. @throws LintelError `refused` for a standing that may know of nobody. */
export async function knowsOf(setting: Setting, standing: Standing<any>, user: string, permission?: AboutPeople): Promise<boolean> {
  const reach = insistOnPeople(standing, permission);
  const tenantId = standing.facts.tenant.id;
  const found = await setting.db
    .selectFrom('lintel_member as m')
    .select('m.user_id')
    .where('m.tenant_id', '=', tenantId)
    .where('m.user_id', '=', user)
    .where(isKnown(reach, tenantId, sql.ref('m.user_id')))
    .executeTakeFirst();
  return found !== undefined;
}

/** @throws LintelError `refused`; `not-found` for somebody of whom this standing may not know, as for nobody. */
export async function insistOnKnown(setting: Setting, standing: Standing<any>, user: string): Promise<void> {
  if (!(await knowsOf(setting, standing, user))) throw new LintelError('not-found', 'There is no such member.', {});
}

/** Of these people, those of whom a standing may know, themselves included, with their names. */
export async function toldPeople(setting: Setting, standing: Standing<any>, users: readonly string[]): Promise<Map<string, { userId: string; name: string }>> {
  if (users.length === 0) return new Map();
  const reach = peopleReach(standing, 'member.read');
  const known = reach === 'all' ? reach : { ...reach, users: [...reach.users, ...(standing.userId === undefined ? [] : [standing.userId])] };
  const rows = await setting.db
    .selectFrom('lintel_person as p')
    .select(['p.id', 'p.name'])
    .where(sql<boolean>`p.id = any(${[...new Set(users)]}::text[])`)
    // guard journal-names-known-people by looks: The journal would name people whom the reader may not know of.
    .where(isKnown(known, standing.facts.tenant.id, sql.ref('p.id')))
    .execute();
  return new Map(rows.map(({ id, name }) => [id, { userId: id, name }]));
}

/**
 * Of these people, those whose names, and what becomes of whom, somebody may be told: themselves, whom they may know of, and who is no member yet. All that proposals and
 * errors say of people goes through here.
 */
export async function knownTo(tx: Kysely<LintelTables>, standing: Standing<any>, users: readonly string[]): Promise<(user: string) => boolean> {
  const reach = peopleReach(standing, 'member.read');
  if (reach === 'all') return () => true;
  const tenantId = standing.facts.tenant.id;
  const rows = await tx
    .selectFrom('lintel_member as m')
    .select('m.user_id')
    .where('m.tenant_id', '=', tenantId)
    .where(sql<boolean>`m.user_id = any(${users}::text[])`)
    .where((eb) => eb.not(isKnown(reach, tenantId, sql.ref('m.user_id'))))
    .execute();
  const hidden = new Set(rows.map((row) => row.user_id));
  return (user) => user === standing.userId || !hidden.has(user);
}

import { entryOf, LintelError, newId } from '../../base/index.js';
import { type Charter, KEYHOLDER, type RoleData, readRole } from '../../charter/index.js';
import { fromRole } from '../../standing/index.js';
import type { Change, Handlers } from '../change/index.js';
import { givesByCharter, mayGive } from '../held/index.js';
import type { RoleInput } from '../terms/index.js';
import { insistOnNoRule } from './groups.js';

const AT_TENANT = { on: 'tenant' } as const;

/** So many roles of its own may a tenant have, so many may one include, and so deep. */
const MAX_ROLES = 200;
const MAX_INCLUDED = 20;
const MAX_DEEP = 10;

/** The roles of the tenant's own, which the actor of a change knows all. */
const rolesIn = ({ actor }: Change) => actor.facts.roles ?? {};

/** Roles of the tenant's own that one includes, directly or through others. */
function includedIn(roles: Readonly<Record<string, RoleData>>, id: string, found = new Set<string>()): string[] {
  for (const inner of entryOf(roles, id)?.includes ?? []) {
    if (found.has(inner) || !Object.hasOwn(roles, inner)) continue;
    found.add(inner);
    includedIn(roles, inner, found);
  }
  return [...found];
}

/** How deep roles of the tenant's own include each other. They go in no circle. */
function depthOf(roles: Readonly<Record<string, RoleData>>, id: string, known = new Map<string, number>()): number {
  const found =
    known.get(id) ??
    Math.max(0, ...(entryOf(roles, id)?.includes ?? []).filter((inner) => Object.hasOwn(roles, inner)).map((inner) => 1 + depthOf(roles, inner, known)));
  known.set(id, found);
  return found;
}

function insistOnSize(roles: Readonly<Record<string, RoleData>>, { includes }: RoleData): void {
  const known = new Map<string, number>();
  const deepest = Math.max(...Object.keys(roles).map((id) => depthOf(roles, id, known)));
  const [what, most] =
    Object.keys(roles).length > MAX_ROLES
      ? ['roles of its own a tenant has', MAX_ROLES]
      : includes.length > MAX_INCLUDED
        ? ['other roles one includes', MAX_INCLUDED]
        : deepest > MAX_DEEP
          ? ['roles include each other one below the other', MAX_DEEP]
          : [];
  if (what !== undefined) throw new LintelError('too-many-roles', `So many ${what} at most: ${most}. Put some of them together.`, { most });
}

/**
 * A role can hold no more than whoever writes it may give: else it would be filled by one and given to by another who trusts its name.
 */
function insistOnContents(change: Change, roles: Readonly<Record<string, RoleData>>, id: string, before: RoleData | undefined): void {
  const { actor } = change;
  if (actor.isKeyholder) return;
  const charter = actor.charter.withRoles(roles) as Charter;
  const had = before ? fromRole(charter.withRoles({ ...roles, [id]: before }), { role: id, anchor: AT_TENANT }) : [];
  const fresh = fromRole(charter, { role: id, anchor: AT_TENANT }).filter((g) => !had.some((h) => h.permission === g.permission && h.reach === g.reach));
  for (const { permission, reach } of fresh) {
    const probe = charter.withRoles({ ...roles, [id]: { label: id, includes: [], gives: [], may: { [permission]: [reach] } } });
    if (!mayGive(change.giver, { role: id, anchor: AT_TENANT }, probe))
      throw new LintelError('beyond-power', `The role would hold “${charter.permission(permission).label}” (${reach}), and that is more than you may give.`, {
        permission,
      });
  }
  const given = charter.resolveRole(id).gives.find((role) => !givesByCharter(actor, role, AT_TENANT));
  if (given !== undefined) throw new LintelError('beyond-power', `The role would give “${charter.role(given).label}”, and you may not.`, { role: given });
}

async function write(change: Change, id: string, input: RoleInput, before: RoleData | undefined): Promise<void> {
  const { tx, tenantId, setting } = change;
  const others = rolesIn(change);
  const role = readRole(setting.charter, id, input, Object.keys(others));
  const roles = { ...others, [id]: role };
  const included = new Map(Object.keys(roles).map((one) => [one, includedIn(roles, one)]));
  if (included.get(id)?.includes(id)) throw new LintelError('role-circle', 'roles include each other in a circle', { role: id });
  insistOnSize(roles, role);
  // guard role-holders-compared
  insistOnContents(change, roles, id, before);
  const data = JSON.stringify(role);
  await tx
    .insertInto('lintel_role')
    .values({ tenant_id: tenantId, id, data })
    .onConflict((c) => c.columns(['tenant_id', 'id']).doUpdateSet({ data }))
    .execute();
  for (const [one, inner] of included)
    await tx
      .updateTable('lintel_role')
      .set({ included: JSON.stringify(inner) })
      .where('tenant_id', '=', tenantId)
      .where('id', '=', one)
      .execute();
}

function existingRole(roles: Readonly<Record<string, RoleData>>, id: string): RoleData {
  const found = entryOf(roles, id);
  if (!found) throw new LintelError('not-found', 'There is no such role of your own. The roles that come with the application do not change; copy one.', {});
  return found;
}

export const roleSteps: Handlers<'make-role' | 'edit-role' | 'drop-role'> = {
  'make-role': {
    needs: () => 'role.arrange',
    touches: () => ({}),
    run: async (change, { id = `own-${newId()}`, role }) => {
      if (!id.startsWith('own-'))
        throw new LintelError('bad-role-id', `the id of a role of your own begins with own-, so that it is never one of the charter: ${id}`, {});
      if (Object.hasOwn(rolesIn(change), id)) throw new LintelError('role-exists', `there is a role "${id}" already; choose another id`, {});
      await write(change, id, role, undefined);
      return { what: 'role made', event: { role: id, after: onRecord(role) }, words: { label: role.label }, id };
    },
  },
  'edit-role': {
    needs: () => 'role.arrange',
    // guard role-holders-compared by attack: Whoever arranges roles could put more into a role that others hold.
    touches: ({ id }) => /* guard role-holders-compared */ ({ roles: [id] }),
    run: async (change, { id, role }) => {
      const before = existingRole(rolesIn(change), id);
      await write(change, id, role, before);
      return { what: 'role changed', event: { role: id, after: onRecord(role) }, was: { before: onRecord(before) }, words: { label: role.label } };
    },
  },
  'drop-role': {
    needs: () => 'role.arrange',
    touches: ({ id }) => ({ roles: [id] }),
    run: async (change, { id, instead }) => {
      const { tx, tenantId, actor } = change;
      const before = existingRole(rolesIn(change), id);
      const including = Object.entries(rolesIn(change)).find(([, role]) => role.includes.includes(id));
      if (including) throw new LintelError('role-included', `The role “${including[1].label}” includes it; take it out there first.`, { role: including[0] });
      const holders = await tx
        .selectFrom('lintel_assignment')
        .select(['user_id', 'group_id', 'unit_id', 'anchor', 'anchor_id', 'until', 'source'])
        .where('tenant_id', '=', tenantId)
        .where('role', '=', id)
        .execute();
      if (holders.length > 0 && instead === undefined)
        throw new LintelError('role-held', `Somebody holds the role “${before.label}”. Say which role they get instead, or null for none.`, {});
      const pending = await tx
        .selectFrom('lintel_invitation')
        .select('id')
        .where('tenant_id', '=', tenantId)
        .where('status', '=', 'pending')
        .where((eb) => eb(eb.cast<string>('roles', 'text'), 'like', `%${JSON.stringify(id)}%`))
        .executeTakeFirst();
      if (pending) throw new LintelError('role-invited', `Somebody is invited with the role “${before.label}”. Withdraw the invitation first.`, {});
      await insistOnNoRule(change, 'roles', id);
      await tx.deleteFrom('lintel_assignment').where('tenant_id', '=', tenantId).where('role', '=', id).execute();
      if (holders.length > 0 && typeof instead === 'string') {
        actor.charter.role(instead);
        if (instead === KEYHOLDER)
          throw new LintelError('keyholder-alone', 'Full control is given to one person after another, not to whoever holds a role.', {});
        await tx
          .insertInto('lintel_assignment')
          .values(holders.map((holder) => ({ tenant_id: tenantId, ...holder, role: instead })))
          .onConflict((c) => c.doNothing())
          .execute();
      }
      await tx.deleteFrom('lintel_role').where('tenant_id', '=', tenantId).where('id', '=', id).execute();
      return {
        what: 'role dropped',
        event: { role: id, instead: instead ?? null },
        was: { before: onRecord(before), holders: holders.length },
        words: { label: before.label },
      };
    },
  },
};

/** What a role gives, without its words. */
const onRecord = ({ may = {}, includes = [], gives = [] }: Partial<RoleData>) => ({ may, includes, gives });

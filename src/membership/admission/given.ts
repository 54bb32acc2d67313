import { type Selectable, sql } from 'kysely';
import { canonicalJson } from '../../charter/index.js';
import type { Assignment, DirectPermission } from '../../standing/index.js';
import type { Change } from '../change/index.js';
import { anchorColumns, anchorOf } from '../held/index.js';
import { keepOpenIn } from '../steps/index.js';
import { type AssignmentRow, insertMany } from '../terms/index.js';
import { GIVES_NOTHING, type Given } from './admit.js';

type Row = Pick<Selectable<AssignmentRow>, 'role' | 'permission' | 'reach' | 'anchor' | 'anchor_id' | 'without'>;

/** What a source's rows say that somebody holds. */
export function heldOf({ assignments, ...more }: Pick<Given, 'groups' | 'units' | 'attributes'> & { readonly assignments: readonly Row[] }): Given {
  const roles = assignments.flatMap(({ role, anchor, anchor_id, without }): Assignment[] =>
    role === null ? [] : [{ role, anchor: anchorOf(anchor, anchor_id), ...(without.length > 0 && { without }) }],
  );
  const permissions = assignments.flatMap(({ permission, reach, anchor, anchor_id }): DirectPermission[] =>
    permission === null || reach === null ? [] : [{ permission, reach, anchor: anchorOf(anchor, anchor_id) }],
  );
  return { ...more, roles, permissions };
}

/** Of one list what is not in another. */
function without<T>(all: readonly T[], others: readonly T[]): T[] {
  const known = new Set(others.map(canonicalJson));
  return all.filter((one) => !known.has(canonicalJson(one)));
}

function minus(a: Given, b: Given): Given | undefined {
  const left = {
    roles: without(a.roles, b.roles),
    groups: without(a.groups, b.groups),
    units: without(a.units, b.units),
    permissions: without(a.permissions, b.permissions),
    attributes: Object.fromEntries(without(Object.entries(a.attributes), Object.entries(b.attributes))),
  };
  return canonicalJson(left) === canonicalJson(GIVES_NOTHING) ? undefined : left;
}

/** What somebody holds of a source and is to hold no longer, and what is to come; undefined for nothing. */
export const differs = (holds: Given, gives: Given): { readonly goes?: Given | undefined; readonly comes?: Given | undefined } => ({
  goes: minus(holds, gives),
  comes: minus(gives, holds),
});

/** The rows of roles and permissions that a source gives somebody. */
const rowsOf = ({ tenantId }: Change, source: string, user: string, { roles, permissions }: Pick<Given, 'roles' | 'permissions'>) =>
  [...roles.map((one) => ({ ...NONE, ...one })), ...permissions.map((one) => ({ ...NONE, ...one }))].map(({ role, permission, reach, anchor, without }) => ({
    tenant_id: tenantId,
    user_id: user,
    role,
    permission,
    reach,
    ...anchorColumns(tenantId, anchor),
    without: [...(without ?? [])],
    source,
  }));
const NONE = { role: null, permission: null, reach: null, without: [] as readonly string[] };

/** What a source says of somebody from now on, and nothing else. */
export async function sayAttributes({ tx, tenantId }: Change, source: string, user: string, attributes: Given['attributes']): Promise<void> {
  const said = Object.keys(attributes).length > 0 ? { [source]: attributes } : {};
  await sql`update lintel_member set attributes = (attributes - ${source}::text) || ${JSON.stringify(said)}::jsonb where tenant_id = ${tenantId} and user_id = ${user}`.execute(
    tx,
  );
}

/** Takes from somebody what a source gave and gives no longer. What they own stays open where an opening says so. */
export async function takeAway(change: Change, source: string, user: string, goes: Given): Promise<void> {
  const { tx, tenantId } = change;
  const rows = JSON.stringify(rowsOf(change, source, user, goes));
  await sql`delete from lintel_assignment a using json_populate_recordset(null::lintel_assignment, ${rows}) g where a.tenant_id = ${tenantId} and a.user_id = ${user} and a.source = ${source}
    and (a.role, a.permission, a.reach, a.anchor, a.anchor_id) is not distinct from (g.role, g.permission, g.reach, g.anchor, g.anchor_id)`.execute(tx);
  await sql`delete from lintel_placement where tenant_id = ${tenantId} and user_id = ${user} and source = ${source} and unit_id = any(${goes.units}::text[])`.execute(
    tx,
  );
  const { rows: left } = await sql<{
    tenant_id: string;
    group_id: string;
    user_id: string;
  }>`delete from lintel_group_member where tenant_id = ${tenantId} and user_id = ${user}
    and source = ${source} and group_id = any(${goes.groups}::text[]) returning tenant_id, group_id, user_id`.execute(tx);
  await keepOpenIn(tx, left);
  const names = Object.keys(goes.attributes);
  if (names.length > 0)
    await sql`update lintel_member set attributes = jsonb_strip_nulls(attributes || jsonb_build_object(${source}::text, nullif((attributes -> ${source}::text) - ${names}::text[], '{}')))
      where tenant_id = ${tenantId} and user_id = ${user}`.execute(tx);
}

/** Gives somebody what comes by a source. @param attributes all that it says of them from now on. */
export async function put(change: Change, source: string, user: string, comes: Given, attributes: Given['attributes']): Promise<void> {
  const { tx, tenantId } = change;
  const here = { tenant_id: tenantId, user_id: user, source };
  await insertMany(tx, 'lintel_assignment', rowsOf(change, source, user, comes));
  await insertMany(
    tx,
    'lintel_group_member',
    comes.groups.map((group_id) => ({ ...here, group_id })),
  );
  await insertMany(
    tx,
    'lintel_placement',
    comes.units.map((unit_id) => ({ ...here, unit_id })),
  );
  await sayAttributes(change, source, user, attributes);
}

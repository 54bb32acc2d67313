import { CompiledQuery, type Kysely } from 'kysely';
import type { Charter } from '../charter/index.js';
import type { Anchor, Assignment, Facts } from '../standing/index.js';
import type { AssignmentRow, LintelTables } from './tables.js';

/** Everything that a standing rests on, in one statement: the tenant, the membership, roles with their anchors, units. */
const FACTS = `
select t.name, t.status, t.contact, t.features, m.status as member, m.attributes, p.name as person,
  case when m.user_id is null then null else (
    select json_agg(json_build_array(a.role, a.anchor, a.anchor_id, u.name))
    from lintel_assignment a left join lintel_unit u on u.tenant_id = a.tenant_id and u.id = a.anchor_id and a.anchor = 'unit'
    where a.tenant_id = m.tenant_id and a.user_id = m.user_id) end as assignments,
  case when m.user_id is null then null else (
    select json_agg(json_build_array(w.placed, b.above_id, b.below_id))
    from (select pl.unit_id as id, true as placed from lintel_placement pl where pl.tenant_id = m.tenant_id and pl.user_id = m.user_id
          union all select a.anchor_id, false from lintel_assignment a where a.tenant_id = m.tenant_id and a.user_id = m.user_id and a.anchor = 'unit') w
    join lintel_unit_below b on b.tenant_id = m.tenant_id and b.above_id = w.id) end as units,
  case when m.user_id is null then null else (
    select json_agg(json_build_array(g.group_id, case when $3 then (
      select json_agg(o.user_id) from lintel_group_member o where o.tenant_id = g.tenant_id and o.group_id = g.group_id) end))
    from lintel_group_member g where g.tenant_id = m.tenant_id and g.user_id = m.user_id) end as groups
from lintel_tenant t
left join lintel_member m on m.tenant_id = t.id and m.user_id = $2
left join lintel_person p on p.id = $2
where t.id = $1`;

interface FactsRow {
  name: string;
  status: string;
  contact: string | null;
  features: string[];
  member: 'active' | 'suspended' | null;
  attributes: Record<string, unknown> | null;
  person: string | null;
  assignments: [string, AssignmentRow['anchor'], string, string | null][] | null;
  units: [boolean, string, string][] | null;
  groups: [string, string[] | null][] | null;
}

/** The anchor as a standing names it. */
export function anchorOf(anchor: AssignmentRow['anchor'], id: string, name?: string | null): Anchor {
  if (anchor === 'tenant') return { on: 'tenant' };
  if (anchor === 'unit') return { on: 'unit', unitId: id, ...(name ? { name } : {}) };
  const colon = id.indexOf(':');
  return { on: 'record', kind: id.slice(0, colon), id: id.slice(colon + 1) };
}

/** The anchor as it is stored. */
export function anchorColumns(tenantId: string, anchor: Anchor): Pick<AssignmentRow, 'anchor' | 'anchor_id'> {
  if (anchor.on === 'tenant') return { anchor: 'tenant', anchor_id: tenantId };
  return anchor.on === 'unit' ? { anchor: 'unit', anchor_id: anchor.unitId } : { anchor: 'record', anchor_id: `${anchor.kind}:${anchor.id}` };
}

function subjectOf(userId: string | undefined, row: FactsRow | undefined): Facts['subject'] {
  if (userId === undefined) return 'visitor';
  if (!row?.member) return 'guest';
  return row.member === 'active' ? 'member' : 'suspended';
}

/**
 * Reads the facts of one subject in one tenant. A tenant that does not exist reads like one that is closed, so that the two
 * cannot be told apart.
 */
export async function readFacts(
  db: Kysely<LintelTables>,
  charter: Charter,
  who: { readonly tenant: string; readonly user: string | undefined; readonly fulfilled?: readonly string[] },
): Promise<Facts> {
  const wantsPeople = charter.asksForGroupPeople;
  const { rows } = await db.executeQuery<FactsRow>(CompiledQuery.raw(FACTS, [who.tenant, who.user ?? null, wantsPeople]));
  const row = rows[0];
  const below: Record<string, string[]> = {};
  const unitIds = new Set<string>();
  for (const [placed, above, id] of row?.units ?? []) {
    if (placed) unitIds.add(above);
    below[above] ??= [];
    below[above].push(id);
  }
  const groups = row?.groups ?? [];
  const assignments: Assignment[] = (row?.assignments ?? []).map(([role, anchor, id, name]) => ({ role, anchor: anchorOf(anchor, id, name) }));
  return {
    charter: charter.hash,
    tenant: { id: who.tenant, name: row?.name ?? '', open: row?.status === 'open', contact: row?.contact ?? null, features: row?.features ?? [] },
    subject: subjectOf(who.user, row),
    me: {
      ...(who.user !== undefined && { userId: who.user }),
      ...(row?.person != null && { name: row.person }),
      groupIds: groups.map(([id]) => id),
      unitIds: [...unitIds],
      attributes: row?.attributes ?? {},
    },
    assignments,
    below,
    ...(wantsPeople && { people: Object.fromEntries(groups.map(([id, people]) => [id, people ?? []])) }),
    fulfilled: who.fulfilled ?? [],
  };
}

/** Which of these people are active members of the tenant, or which of these units are its own. */
export async function existing(db: Kysely<LintelTables>, tenantId: string, what: 'person' | 'unit', ids: readonly string[]): Promise<string[]> {
  if (ids.length === 0) return [];
  if (what === 'unit') {
    const units = await db.selectFrom('lintel_unit').select('id').where('tenant_id', '=', tenantId).where('id', 'in', ids).execute();
    return units.map((unit) => unit.id);
  }
  const members = await db
    .selectFrom('lintel_member')
    .select('user_id')
    .where('tenant_id', '=', tenantId)
    .where('status', '=', 'active')
    .where('user_id', 'in', ids)
    .execute();
  return members.map((member) => member.user_id);
}

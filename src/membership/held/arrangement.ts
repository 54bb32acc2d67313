import { type Kysely, type RawBuilder, sql } from 'kysely';
import { KEYHOLDER, type RoleData } from '../../charter/index.js';
import type { Anchor, PeopleReach, Standing } from '../../standing/index.js';
import type { LintelTables, Setting } from '../terms/index.js';
import { ownRoles } from './afresh.js';
import { anchorOf } from './anchors.js';
import { isActive } from './facts.js';
import { soleSources } from './sources.js';
import { insistOnAll, insistOnPeople, isKnown } from './visible.js';

/** Who has a role by an assignment: a member, or the people of a group or of a unit. */
export interface RoleHolder {
  readonly on: 'user' | 'group' | 'unit';
  readonly id: string;
  readonly name: string;
  readonly anchor: Anchor;
  /** When it ends by itself. */
  readonly until?: string;
  /** Permissions of the role that do not come with it here. */
  readonly without?: readonly string[];
  /** Active members to whom it comes by this. */
  readonly people: number;
  /** The role that is assigned, where it includes this one. */
  readonly by?: string;
}

/** A role as it is looked at before it is changed. */
export interface RoleView extends RoleData {
  readonly id: string;
  /** True for one of the tenant's own; the others come with the application and do not change. */
  readonly own: boolean;
  readonly holders: readonly RoleHolder[];
}

/** Somebody in a group or placed at a unit. `sources`: by which alone they are there, where nobody in the organisation put them there. */
export interface PersonThere {
  readonly id: string;
  readonly name: string;
  readonly sources?: readonly string[];
}

/** A group, with who is in it. */
export interface GroupView {
  readonly id: string;
  readonly name: string;
  readonly people: readonly PersonThere[];
}

/** A unit, with who is placed there. */
export interface UnitView {
  readonly id: string;
  readonly name: string;
  readonly below: string | null;
  /** Who is placed right there. */
  readonly people: readonly PersonThere[];
}

interface HolderRow {
  role: string;
  on: 'user' | 'group' | 'unit';
  id: string;
  name: string | null;
  anchor: 'tenant' | 'unit' | 'record';
  anchor_id: string;
  unit: string | null;
  until: Date | null;
  without: string[];
  people: number;
}

async function holderRows(db: Kysely<LintelTables>, tenantId: string, now: number): Promise<HolderRow[]> {
  const active = isActive('m', now);
  const { rows } = await sql<HolderRow>`
    select a.role, a.holder_on as "on", a.holder_id as id, coalesce(p.name, g.name, h.name) as name, a.anchor, a.anchor_id, u.name as unit, a.until, a.without,
      -- One look each, by key, and not at every member for every holder.
      (case a.holder_on
        when 'user' then (select count(*) from lintel_member m where m.tenant_id = a.tenant_id and m.user_id = a.holder_id and ${active})
        when 'group' then (select count(distinct m.user_id) from lintel_group_member gm join lintel_member m on m.tenant_id = gm.tenant_id and m.user_id = gm.user_id
          where gm.tenant_id = a.tenant_id and gm.group_id = a.holder_id and ${active})
        else (select count(distinct m.user_id) from lintel_unit_below b join lintel_placement pl on pl.tenant_id = b.tenant_id and pl.unit_id = b.below_id
          join lintel_member m on m.tenant_id = pl.tenant_id and m.user_id = pl.user_id where b.tenant_id = a.tenant_id and b.above_id = a.holder_id and ${active})
      end)::int as people
    from (select distinct tenant_id, holder_on, holder_id, role, anchor, anchor_id, until, without from lintel_assignment
      where tenant_id = ${tenantId} and role is not null and (until is null or until > ${new Date(now)})) a
    left join lintel_person p on a.holder_on = 'user' and p.id = a.holder_id
    left join lintel_group g on a.holder_on = 'group' and g.tenant_id = a.tenant_id and g.id = a.holder_id
    left join lintel_unit h on a.holder_on = 'unit' and h.tenant_id = a.tenant_id and h.id = a.holder_id
    left join lintel_unit u on a.anchor = 'unit' and u.tenant_id = a.tenant_id and u.id = a.anchor_id
    order by a.role, 5, a.holder_id, a.anchor_id`.execute(db);
  return rows;
}

/** The roles of the charter and of the tenant, keyholder first, with whoever holds each, by every way. @throws LintelError `refused`. */
export async function listRoles(setting: Setting, standing: Standing): Promise<RoleView[]> {
  insistOnAll(standing);
  const tenantId = standing.facts.tenant.id;
  const own = await ownRoles(setting.db, setting.charter, tenantId);
  const charter = setting.charter.withRoles(own);
  const ids = [KEYHOLDER, ...Object.keys(charter.data.roles)];
  // Whoever has a role has those that it includes, and whatever those include.
  const having = (id: string): string[] => [id, ...ids.filter((other) => charter.role(other).includes.includes(id)).flatMap(having)];
  const rows = await holderRows(setting.db, tenantId, setting.now());
  return ids.map((id) => {
    const bearers = new Set(having(id));
    const holders = rows
      .filter(({ role }) => bearers.has(role))
      .map((row): RoleHolder => {
        const anchor = anchorOf(row.anchor, row.anchor_id, row.unit);
        return {
          on: row.on,
          id: row.id,
          name: row.name ?? row.id,
          anchor,
          ...(row.until && { until: new Date(row.until).toISOString() }),
          ...(row.without.length > 0 && { without: row.without }),
          people: row.people,
          ...(row.role !== id && { by: row.role }),
        };
      });
    return { id, ...charter.role(id), own: Object.hasOwn(own, id), holders };
  });
}

/** People by rows that each say a source, by name. */
const peopleThere = (there: RawBuilder<unknown>, known: PeopleReach, tenantId: string) => sql`coalesce((
      select json_agg(json_strip_nulls(json_build_object('id', p.id, 'name', p.name, 'sources', t.sources)) order by p.name, p.id)
      from (select there.user_id, ${soleSources('there.source')} as sources from ${there} group by 1) t
      join lintel_person p on p.id = t.user_id where ${isKnown(known, tenantId, sql.ref('p.id'))}), '[]')`;

/** The groups of the tenant, by name, with who is in them; for somebody who may know of some only, those in which these are. @throws LintelError `refused`. */
export async function listGroups(setting: Setting, standing: Standing): Promise<GroupView[]> {
  const known = insistOnPeople(standing);
  const tenantId = standing.facts.tenant.id;
  const { rows } = await sql<GroupView>`
    select g.id, g.name, ${peopleThere(sql`lintel_group_member there where there.tenant_id = g.tenant_id and there.group_id = g.id`, known, tenantId)} as people
    from lintel_group g where g.tenant_id = ${tenantId} order by g.name, g.id`.execute(setting.db);
  return known === 'all' ? rows : rows.filter(({ people }) => people.length > 0);
}

/**
 * The units of the tenant, each after the one above it; for somebody who may know of some people only, those where these are placed, and what lies above.
 *
 * @throws LintelError `refused`.
 */
export async function listUnits(setting: Setting, standing: Standing): Promise<UnitView[]> {
  const known = insistOnPeople(standing);
  const tenantId = standing.facts.tenant.id;
  const { rows } = await sql<UnitView>`
    select u.id, u.name, u.parent_id as below,
      ${peopleThere(sql`lintel_placement there where there.tenant_id = u.tenant_id and there.unit_id = u.id`, known, tenantId)} as people
    from lintel_unit u where u.tenant_id = ${tenantId} order by u.name, u.id`.execute(setting.db);
  const inside = new Map<string | null, UnitView[]>();
  for (const unit of rows) {
    const beside = inside.get(unit.below);
    if (beside) beside.push(unit);
    else inside.set(unit.below, [unit]);
  }
  const under = (above: string | null): UnitView[] =>
    (inside.get(above) ?? []).flatMap((unit) => {
      const below = under(unit.id);
      return known === 'all' || below.length > 0 || unit.people.length > 0 ? [unit, ...below] : [];
    });
  return under(null);
}

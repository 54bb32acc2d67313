import { sql } from 'kysely';
import { type DirectPermission, peopleReach, Standing } from '../../standing/index.js';
import type { Setting } from '../terms/index.js';
import { anchorOf } from './anchors.js';
import { soleSources } from './sources.js';
import { insistOnAll, isKnown } from './visible.js';

interface Called {
  readonly id: string;
  readonly name: string;
}

/** What people of a group own, open to others. */
export interface OpeningView {
  readonly id: string;
  readonly group: Called;
  readonly to: Called & { readonly on: 'user' | 'group' | 'unit' };
  readonly kind: string;
  /** Actions on the kind, without its name: `update`. */
  readonly actions: readonly string[];
  /** Whether what somebody owns stays open when they leave the group. */
  readonly keeps: boolean;
  /** When it ends by itself. */
  readonly until?: string;
}

/** Somebody who stands in for another, now or from a later day on. */
export interface DeputyView {
  readonly of: Called;
  readonly to: Called;
  readonly permissions: readonly string[];
  readonly since: string;
  readonly until: string;
}

/** A permission that was given to somebody alone, beside roles: to a member, or to the people of a group or a unit. */
export interface GivenAlone extends DirectPermission {
  readonly on: 'user' | 'group' | 'unit';
  readonly id: string;
  readonly name: string;
  /** By which alone it came, where nobody in the organisation gave it. */
  readonly sources?: readonly string[];
}

/** Permissions that are given alone and have not ended, by holder. @throws LintelError `refused` for somebody who may not know of all members. */
export async function listGivenAlone(setting: Setting, standing: Standing): Promise<GivenAlone[]> {
  insistOnAll(standing);
  const { rows } = await sql<Row>`
    select a.holder_on as "on", a.holder_id as id, coalesce(p.name, g.name, h.name, a.holder_id) as name, a.permission, a.reach, a.anchor, a.anchor_id, u.name as unit, a.until,
      ${soleSources('a.source')} as sources
    from lintel_assignment a
    left join lintel_person p on p.id = a.user_id
    left join lintel_group g on g.tenant_id = a.tenant_id and g.id = a.group_id
    left join lintel_unit h on h.tenant_id = a.tenant_id and h.id = a.unit_id
    left join lintel_unit u on a.anchor = 'unit' and u.tenant_id = a.tenant_id and u.id = a.anchor_id
    where a.tenant_id = ${standing.facts.tenant.id} and a.permission is not null and (a.until is null or a.until > ${new Date(setting.now())})
    group by 1, 2, 3, 4, 5, 6, 7, 8, 9 order by 3, 2, 4, 5, 7`.execute(setting.db);
  return rows.map(({ anchor, anchor_id, unit, until, sources, ...one }) => ({
    ...one,
    anchor: anchorOf(anchor, anchor_id, unit),
    ...(until && { until: new Date(until).toISOString() }),
    ...(sources && { sources }),
  }));
}

interface Row extends Omit<GivenAlone, 'anchor' | 'until' | 'sources'> {
  readonly anchor: 'tenant' | 'unit' | 'record';
  readonly anchor_id: string;
  readonly unit: string | null;
  readonly until: Date | null;
  readonly sources: readonly string[] | null;
}

/** The openings of the tenant that have not ended, by the name of their group. @throws LintelError `refused` for somebody who may not know of all members. */
export async function listOpenings(setting: Setting, standing: Standing): Promise<OpeningView[]> {
  insistOnAll(standing);
  const { rows } = await sql<Omit<OpeningView, 'until'> & { until: Date | null }>`
    select o.id, json_build_object('id', g.id, 'name', g.name) as "group",
      json_build_object('on', o.to_on, 'id', o.to_id, 'name', coalesce(p.name, tg.name, u.name, o.to_id)) as "to", o.kind, o.actions, o.keeps, o.until
    from lintel_opening o join lintel_group g on g.tenant_id = o.tenant_id and g.id = o.group_id
    left join lintel_person p on p.id = o.to_user
    left join lintel_group tg on tg.tenant_id = o.tenant_id and tg.id = o.to_group
    left join lintel_unit u on u.tenant_id = o.tenant_id and u.id = o.to_unit
    where o.tenant_id = ${standing.facts.tenant.id} and (o.until is null or o.until > ${new Date(setting.now())}) order by g.name, o.id`.execute(setting.db);
  return rows.map(({ until, ...one }) => ({ ...one, ...(until && { until: new Date(until).toISOString() }) }));
}

/** Who stands in for whom, or will: of the two each knows, and whoever may know of both; the earliest to end first. */
export async function listDeputies(setting: Setting, standing: Standing): Promise<DeputyView[]> {
  const tenantId = standing.facts.tenant.id;
  // Whoever looks as one of the two may know of the other only where they may know of everybody.
  const { within } = standing.facts.look ?? {};
  const me = within && peopleReach(new Standing(standing.charter, within), 'member.read') !== 'all' ? null : (standing.userId ?? null);
  const reach = peopleReach(standing, 'member.read');
  const { rows } = await sql<Omit<DeputyView, 'since' | 'until'> & { since: Date; until: Date }>`
    select json_build_object('id', f.id, 'name', f.name) as "of", json_build_object('id', t.id, 'name', t.name) as "to", d.permissions, d.since, d.until
    from lintel_deputy d join lintel_person f on f.id = d.of_id join lintel_person t on t.id = d.to_id
    where d.tenant_id = ${tenantId} and d.until > ${new Date(setting.now())}
      and (${me}::text in (d.of_id, d.to_id) or (${isKnown(reach, tenantId, sql.ref('d.of_id'))} and ${isKnown(reach, tenantId, sql.ref('d.to_id'))}))
    order by d.until, d.of_id, d.to_id`.execute(setting.db);
  return rows.map((one) => ({ ...one, since: new Date(one.since).toISOString(), until: new Date(one.until).toISOString() }));
}

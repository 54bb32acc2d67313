import { sql } from 'kysely';
import { peopleReach, Standing } from '../../standing/index.js';
import type { Setting } from '../terms/index.js';
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

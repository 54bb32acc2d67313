import type { Kysely } from 'kysely';
import { type Charter, KEYHOLDER, type RoleData, roleNow } from '../../charter/index.js';
import type { Anchor, Standing } from '../../standing/index.js';
import type { LintelTables, Setting } from '../terms/index.js';
import { readCourse } from './facts.js';
import type { FactsQuery } from './facts-made.js';
import { beyondFrom, Giver } from './giving.js';

/** A standing that knows every role of the tenant's own, as somebody needs who gives them. */
export async function standingInTenant(db: Kysely<LintelTables>, setting: Setting, who: Omit<FactsQuery, 'now'>): Promise<Standing> {
  return (await giverInTenant(db, setting, who)).now;
}

/** The same with what somebody holds at each later moment. */
export async function giverInTenant(db: Kysely<LintelTables>, { charter, now }: Setting, who: Omit<FactsQuery, 'now'>): Promise<Giver> {
  const course = await readCourse(db, charter, { ...who, now: now() });
  return new Giver(charter, course, await ownRoles(db, charter, who.tenant), now);
}

/** The roles of the tenant's own. */
export async function ownRoles(db: Kysely<LintelTables>, charter: Charter, tenantId: string): Promise<Record<string, RoleData>> {
  const rows = await db.selectFrom('lintel_role').select(['id', 'data']).where('tenant_id', '=', tenantId).orderBy('id').execute();
  return Object.fromEntries(rows.map((row) => [row.id, roleNow(charter, row.data)]));
}

/** A role that somebody may give, with its words. */
export interface RoleToGive {
  readonly role: string;
  readonly label: string;
  readonly sentence?: string;
  /** ISO 8601: it can be given until then at most, since what allows it ends. */
  readonly until?: string;
}

/** The roles that this person may give at an anchor: a list that is short and exact. */
export async function rolesToGive(setting: Setting, standing: Standing<any>, anchor: Anchor): Promise<RoleToGive[]> {
  if (standing.facts.look) return [];
  const giver = await giverInTenant(setting.db, setting, { tenant: standing.facts.tenant.id, user: standing.userId, fulfilled: standing.facts.fulfilled });
  const { charter } = giver.now;
  return [...Object.keys(charter.data.roles), KEYHOLDER].flatMap((role) => {
    const end = beyondFrom(giver, { role, anchor });
    if (end === giver.moments[0]) return [];
    const { label, sentence } = charter.role(role);
    return [{ role, label, ...(sentence !== undefined && { sentence }), ...(end !== undefined && { until: new Date(end).toISOString() }) }];
  });
}

import type { Kysely } from 'kysely';
import { type Charter, KEYHOLDER, type RoleData, roleNow } from '../../charter/index.js';
import { type Anchor, Standing } from '../../standing/index.js';
import type { LintelTables, Setting } from '../terms/index.js';
import { type FactsQuery, readFacts } from './facts.js';
import { mayGive } from './giving.js';

/** A standing that knows every role of the tenant's own, as somebody needs who gives them. */
export async function standingInTenant(db: Kysely<LintelTables>, setting: Setting, who: Omit<FactsQuery, 'now'>): Promise<Standing> {
  const facts = await readFacts(db, setting.charter, { ...who, now: setting.now() });
  return new Standing(setting.charter, { ...facts, roles: await ownRoles(db, setting.charter, who.tenant) }, { now: setting.now });
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
}

/** The roles that this person may give at an anchor: a list that is short and exact. */
export async function rolesToGive(setting: Setting, standing: Standing<any>, anchor: Anchor): Promise<RoleToGive[]> {
  if (standing.facts.view) return [];
  const giver = await standingInTenant(setting.db, setting, { tenant: standing.facts.tenant.id, user: standing.userId, fulfilled: standing.facts.fulfilled });
  const all = [...Object.keys(giver.charter.data.roles), KEYHOLDER].filter((role) => mayGive(giver, { role, anchor }));
  return all.map((role) => {
    const { label, sentence } = giver.charter.role(role);
    return { role, label, ...(sentence !== undefined && { sentence }) };
  });
}

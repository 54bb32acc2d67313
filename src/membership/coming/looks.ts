import type { Kysely } from 'kysely';
import { LintelError, newId } from '../../base/index.js';
import { type Assignment, type Facts, type Look, type Standing, throwIfRefused } from '../../standing/index.js';
import { changeTenant } from '../change/index.js';
import { existing, insistOnKnown, readFacts } from '../held/index.js';
import { assignmentRows, rolesOnRecord } from '../steps/index.js';
import { type LintelTables, madeUpId, type Setting, takenBack } from '../terms/index.js';
import { joinTenant } from './tenants.js';

/** As whom somebody looks: a member, also to try what they could do; or nobody that there is, with these roles, in these groups, placed in these units. */
export type LookAs =
  | {
      readonly user: string;
      /** What says that it may be tried is carried out in this look, and taken back. Default: nothing is. */
      readonly tries?: boolean;
    }
  | { readonly roles?: readonly Assignment[]; readonly groups?: readonly string[]; readonly units?: readonly string[] };

const LOOK_MINUTES = 60;

/**
 * Begins to look as somebody else. It is put on record, and ends by itself after an hour.
 *
 * @returns the id under which the application comes in from then on, together with the person who looks.
 * @throws LintelError `refused`, `not-found`; `trial-elsewhere` where the records are in another database.
 */
export async function beginLook(
  setting: Setting,
  standing: Standing<any>,
  as: LookAs,
  reason?: string,
): Promise<{ readonly id: string; readonly until: Date }> {
  const { care, tenant } = standing.facts;
  if (!care) throwIfRefused(standing.decide('access.look'));
  if (standing.facts.look) throw new LintelError('refused', 'End this look first.', {});
  if ('user' in as) await insistOnKnown(setting, standing, as.user);
  const tries = 'user' in as && as.tries === true;
  if (tries && setting.recordsElsewhere)
    throw new LintelError('trial-elsewhere', 'what is tried is taken back in one database, and the records are in another; look without tries', {});
  const id = newId();
  const facts = 'user' in as ? undefined : await madeUp(setting, tenant.id, as);
  return changeTenant(setting, tenant.id, standing.userId, async ({ tx, tenantId, at, actor }) => {
    if (!care) throwIfRefused(actor.decide('access.look'));
    const until = new Date(at.getTime() + LOOK_MINUTES * 60_000);
    await tx.deleteFrom('lintel_look').where('tenant_id', '=', tenantId).where('until', '<=', at).execute();
    await tx
      .insertInto('lintel_look')
      .values({
        tenant_id: tenantId,
        id,
        by_id: standing.userId as string,
        care_id: care?.id ?? null,
        user_id: 'user' in as ? as.user : null,
        facts: facts ? JSON.stringify(facts) : null,
        until,
        tries,
      })
      .execute();
    const event =
      'user' in as ? { user: as.user, ...(tries && { tries }) } : { roles: rolesOnRecord(as.roles ?? []), groups: as.groups ?? [], units: as.units ?? [] };
    const entry = { what: 'looked as another', event: { look: id, ...event, ...(care && { care: care.id }) }, ...(reason && { words: { reason } }) };
    return { result: { id, until }, entry };
  });
}

/** Puts on record that something is tried, before it is. @returns by which id its outcome is told. */
export async function putTrial(setting: Setting, { look, me, tenant }: Facts, tried: string): Promise<string> {
  const { id: lookId, by } = look as Look;
  const id = newId();
  return changeTenant(setting, tenant.id, by.userId, async () => ({
    result: id,
    entry: { what: 'tried as another', event: { trial: id, look: lookId, user: me.userId }, words: { tried } },
  }));
}

/** Puts on record how it came out. */
export async function putOutcome(setting: Setting, { look, tenant }: Facts, trial: string, outcome: string): Promise<void> {
  await changeTenant(setting, tenant.id, (look as Look).by.userId, async () => ({
    result: undefined,
    entry: { what: 'trial taken back', event: { trial, outcome } },
  }));
}

/** Ends a look of one's own. One that is over is no error. */
export async function endLook(setting: Setting, tenantId: string, by: string, id: string): Promise<void> {
  await setting.db.deleteFrom('lintel_look').where('tenant_id', '=', tenantId).where('id', '=', id).where('by_id', '=', by).execute();
}

/** Facts of somebody whom there is not: made a member, read, and undone. */
async function madeUp(setting: Setting, tenantId: string, as: Exclude<LookAs, { readonly user: string }>): Promise<Facts> {
  const user = madeUpId();
  return takenBack(setting.db, async (tx) => {
    await tx.insertInto('lintel_person').values({ id: user, name: 'somebody made up', address: user, address_written: user }).execute();
    await changeTenant({ ...setting, db: tx }, tenantId, undefined, async (change) => {
      for (const [what, ids = []] of [
        ['unit', as.units],
        ['group', as.groups],
      ] as const) {
        const there = await existing(tx, tenantId, what, ids, setting.now());
        if (ids.some((id) => !there.includes(id))) throw new LintelError('not-found', 'There is no such group or unit.', {});
      }
      await joinTenant(tx, tenantId, user, change.at, await assignmentRows(change, as.roles ?? []));
      const places = (as.units ?? []).map((unit_id) => ({ tenant_id: tenantId, user_id: user, unit_id }));
      const groups = (as.groups ?? []).map((group_id) => ({ tenant_id: tenantId, user_id: user, group_id }));
      if (places.length > 0) await tx.insertInto('lintel_placement').values(places).execute();
      if (groups.length > 0) await tx.insertInto('lintel_group_member').values(groups).execute();
      return { result: undefined, entry: [] };
    });
    return readFacts(tx, setting.charter, { tenant: tenantId, user, now: setting.now() });
  });
}

/**
 * Facts of somebody who looks as another, read afresh. `viewer`: who looks, as they stand now.
 *
 * @throws LintelError `look-over` for one that has ended, or is somebody else's; `not-found` for one as a member who is none any more.
 */
export async function lookedFacts(setting: Setting, viewer: Standing<any>, id: string): Promise<Facts> {
  const { facts } = viewer;
  const db: Kysely<LintelTables> = setting.db;
  const row = await db
    .selectFrom('lintel_look')
    .selectAll()
    .where('tenant_id', '=', facts.tenant.id)
    .where('id', '=', id)
    .where('by_id', '=', facts.me.userId ?? '')
    .where('until', '>', new Date(setting.now()))
    .executeTakeFirst();
  const may = facts.care ? row?.care_id === facts.care.id : row?.care_id === null && viewer.may('access.look');
  if (!row || !may) throw new LintelError('look-over', 'This look is over. Begin it anew.', {});
  const by = { userId: row.by_id, name: facts.me.name ?? row.by_id };
  // Whoever looks after the tenant sees all; what they try is what they may do there too.
  const look: Look = { id, by, ...(row.tries && { tries: true }), ...((!facts.care || row.tries) && { within: facts }) };
  const as = row.facts ?? (await readFacts(db, setting.charter, { tenant: facts.tenant.id, user: row.user_id as string, now: setting.now() }));
  if (as.charter !== facts.charter) throw new LintelError('look-over', 'This look is over: the application was renewed. Begin it anew.', {});
  const endsAt = [as.endsAt, facts.endsAt, row.until.toISOString()].flatMap((moment) => moment ?? []).sort()[0] as string;
  return { ...as, tenant: facts.tenant, demands: facts.demands ?? {}, fulfilled: facts.fulfilled, look, endsAt };
}

import { inTransaction, LintelError, newId } from '../../base/index.js';
import { type Facts, openDemands, type Standing, throwIfRefused } from '../../standing/index.js';
import { type Change, changeTenant } from '../change/index.js';
import { keyholdersOf, standingInTenant } from '../held/index.js';
import { tell } from '../record/index.js';
import { type Done, lockTenants, type Setting } from '../terms/index.js';

/** How a tenant is looked after. */
export interface NewCare {
  readonly tenant: string;
  /** Why, for the record and for the keyholders of the tenant. */
  readonly reason: string;
  /** From now on, at most 24. */
  readonly hours: number;
  /** Actions on records that are done besides looking: `hive.update`. */
  readonly may?: readonly string[];
}

/**
 * Something that is done on the platform: on its record, and done in the same transaction.
 *
 * @param tenants those that it changes besides.
 * @throws LintelError `no-platform`, `refused`, `not-found`.
 */
export function onPlatform<R>(
  setting: Setting,
  actorId: string,
  permission: string,
  tenants: readonly string[] | ((tx: Setting['db']) => Promise<readonly string[]>),
  work: (change: Change, inside: Setting) => Promise<{ result: R; done: Done }>,
): Promise<R> {
  const { platform } = setting;
  if (platform === undefined) throw new LintelError('no-platform', 'No tenant is the platform; name it to createLintel as platform.', {});
  return inTransaction(setting.db, async (tx) => {
    const inside = { ...setting, db: tx };
    await lockTenants(tx, [platform, ...(typeof tenants === 'function' ? await tenants(tx) : tenants)]);
    return changeTenant(inside, platform, actorId, async (change) => {
      throwIfRefused(change.actor.decide(permission));
      const { result, done } = await work(change, inside);
      return { result, entry: done };
    });
  });
}

/** @throws LintelError `bad-care`, `unknown-action`. */
function readCare(setting: Setting, { reason, hours, may = [] }: NewCare) {
  if (!(hours > 0 && hours <= 24)) throw new LintelError('bad-care', `hours is ${hours}; it can be from above 0 to 24`, {});
  for (const name of may) {
    if (setting.charter.permission(name).kind === undefined)
      throw new LintelError(
        'bad-care',
        `“${name}” is about no record; whoever looks after an organisation changes records that are named, and nothing of its people`,
        {},
      );
  }
  if (reason.trim() === '') throw new LintelError('bad-reason', 'to look after an organisation takes a reason, for the record', {});
  return reason.trim();
}

/**
 * Begins to look after a tenant: on its record and on the platform's, and its keyholders are told.
 *
 * @returns the id under which the person comes in from then on.
 * @throws LintelError `bad-care`, `bad-reason`, `not-found`, `refused`.
 */
export async function beginCare(setting: Setting, actorId: string, care: NewCare): Promise<{ readonly id: string; readonly until: Date }> {
  const reason = readCare(setting, care);
  return onPlatform(setting, actorId, 'platform.care', [care.tenant], async ({ actor, at }, inside) => {
    const id = newId();
    const until = new Date(at.getTime() + care.hours * 3_600_000);
    const event = { tenant: care.tenant, care: id, user: actorId, may: care.may ?? [], until: until.toISOString() };
    const done: Done = { what: 'care begun', event, words: { reason } };
    await changeTenant(inside, care.tenant, actorId, async (change) => {
      const { tx, tenantId } = change;
      const row = { tenant_id: tenantId, id, person_id: actorId, may: JSON.stringify(care.may ?? []), since: at, until };
      await tx.insertInto('lintel_care').values(row).execute();
      const by = actor.facts.me.name ?? actorId;
      const told = (await keyholdersOf(tx, tenantId, at.getTime())).map(({ address }) => address);
      await tell(change, actorId, told, 'care-begun', { tenant: change.actor.facts.tenant.name, by, until: until.toISOString(), reason });
      return { result: undefined, entry: done };
    });
    return { result: { id, until }, done };
  });
}

/** Ends a care before its time; whoever looks after tenants may end any. @throws LintelError `not-found`, `refused`. */
export async function endCare(setting: Setting, actorId: string, tenant: string, id: string): Promise<void> {
  await onPlatform(setting, actorId, 'platform.care', [tenant], async (_, inside) => {
    const done: Done = { what: 'care ended', event: { tenant, care: id } };
    await changeTenant(inside, tenant, actorId, async ({ tx, tenantId, at }) => {
      const ended = await tx
        .updateTable('lintel_care')
        .set({ until: at })
        .where('tenant_id', '=', tenantId)
        .where('id', '=', id)
        .where('until', '>', at)
        .executeTakeFirst();
      if (ended.numUpdatedRows === 0n) throw new LintelError('not-found', 'There is no such care, or it has ended.', {});
      return { result: undefined, entry: done };
    });
    return { result: undefined, done };
  });
}

/**
 * Facts of somebody who looks after a tenant. The right to is asked of the platform afresh.
 *
 * @throws LintelError `care-over`.
 */
export async function careFacts(setting: Setting, guest: Standing<any>, id: string): Promise<Facts> {
  const { facts } = guest;
  const over = () => new LintelError('care-over', 'This care is over. Begin it anew, with a reason.', {});
  const row = await setting.db
    .selectFrom('lintel_care as c')
    .innerJoin('lintel_tenant as t', 't.id', 'c.tenant_id')
    .select(['c.may', 'c.until', 't.demands'])
    .where('c.tenant_id', '=', facts.tenant.id)
    .where('c.id', '=', id)
    .where('person_id', '=', facts.me.userId ?? '')
    .where('until', '>', new Date(setting.now()))
    .executeTakeFirst();
  if (!row || setting.platform === undefined) throw over();
  const staff = await standingInTenant(setting.db, setting, { tenant: setting.platform, user: facts.me.userId, fulfilled: facts.fulfilled });
  if (!staff.may('platform.care')) throw over();
  const { userId, name } = facts.me;
  const me = { ...(userId !== undefined && { userId }), ...(name !== undefined && { name }), groupIds: [], unitIds: [], attributes: {} };
  return {
    charter: facts.charter,
    tenant: facts.tenant,
    subject: 'caretaker',
    care: { id, may: row.may },
    me,
    assignments: [],
    below: {},
    people: {},
    // What the tenant asks of whoever comes in, it asks of those who look after it.
    // guard caretaker-demands-asked by accounts: A tenant would ask nothing of a caretaker first.
    ...openDemands({ name: facts.tenant.name, demands: row.demands }, facts.fulfilled),
    fulfilled: facts.fulfilled,
    endsAt: row.until.toISOString(),
  };
}

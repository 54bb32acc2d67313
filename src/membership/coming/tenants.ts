import type { Kysely, Transaction } from 'kysely';
import { didYouMean, inTransaction, LintelError } from '../../base/index.js';
import { KEYHOLDER } from '../../charter/index.js';
import { aKeyholder } from '../../standing/index.js';
import { type Change, changeTenant, type Handlers } from '../change/index.js';
import { stillLeaving } from '../steps/leaving.js';
import { type AssignmentRow, type Done, holdPerson, type Id, idOfTenant, insistOnId, type LintelTables, readName, type Setting } from '../terms/index.js';

/** A tenant to be opened. */
export interface NewTenant {
  /** An id of the application's own; by default a uuid. */
  readonly id?: Id;
  readonly name: string;
  /** Who opens it, and has full control of it from the start. */
  readonly keyholder: Id;
  /** The line that tells a refused person whom to ask. */
  readonly contact?: string;
  /** Where its records are, of the `places` that `createLintel` was given; for good. */
  readonly place?: string;
}

/** The place that a tenant names. @throws LintelError `no-place` with the near match. */
export function readPlace({ places }: Pick<Setting, 'places'>, place: string | undefined): string | null {
  if (places === undefined ? place === undefined : place !== undefined && places.includes(place)) return place ?? null;
  const words =
    places === undefined
      ? `the place "${place}" is not known: createLintel was given no places`
      : place === undefined
        ? `say where the records of this organisation are; places are ${places.join(', ')}`
        : `there is no place "${place}"${didYouMean(place, places)}; places are ${places.join(', ')}`;
  throw new LintelError('no-place', words, {});
}

/**
 * Opens a tenant and makes one person its first keyholder, as one transaction.
 *
 * @throws LintelError `bad-name`, `tenant-exists`, `no-place`; `bad-id`, and `option-missing` where ids are numbers and none is given.
 */
export async function openTenant(setting: Setting, input: NewTenant): Promise<string> {
  const name = readName(input.name, 'an organisation');
  const contact = input.contact === undefined ? null : readName(input.contact, 'the contact');
  const place = readPlace(setting, input.place);
  const id = idOfTenant(setting.charter, input.id);
  const keyholder = insistOnId(setting.charter, 'person', input.keyholder);
  return inTransaction(setting.db, async (tx) => {
    const made = await tx
      .insertInto('lintel_tenant')
      .values({ id, name, status: 'open', contact, place })
      .onConflict((c) => c.doNothing())
      .returning('id')
      .executeTakeFirst();
    if (!made) throw new LintelError('tenant-exists', `there is a tenant "${id}" already; choose another id`, { tenantId: id });
    await joinTenant(tx, id, keyholder, new Date(setting.now()), [{ role: KEYHOLDER, anchor: 'tenant', anchor_id: id }]);
    return changeTenant({ ...setting, db: tx }, id, keyholder, async () => ({
      result: id,
      entry: { what: 'tenant opened', event: { keyholder }, words: { name } },
    }));
  });
}

/** Makes somebody a member with these assignments. The caller has locked the tenant and checked the right to. @throws LintelError `no-account`, `deactivated`; `no-person` for a program, `kept-account` for what another tenant keeps, `still-leaving`. */
export async function joinTenant(
  tx: Transaction<LintelTables>,
  tenantId: string,
  userId: string,
  since: Date,
  assignments: readonly (Pick<AssignmentRow, 'role' | 'anchor' | 'anchor_id'> & { readonly until?: Date | null; readonly without?: readonly string[] })[],
  endsAt: Date | null = null,
): Promise<void> {
  // Held until the change is done: whoever is being erased meanwhile does not come in, and whoever comes in is not erased past it.
  const person = await holdPerson(tx, userId);
  if (!person) throw new LintelError('no-account', 'There is no such account any more.', {});
  if (person.deactivated_at !== null) throw new LintelError('deactivated', 'This account is deactivated. Ask whoever runs this application.', {});
  if (person.is_program) throw new LintelError('no-person', 'A program belongs to the organisation that made it, and comes into no other.', {});
  // guard kept-account-one-tenant by accounts: An account kept by a tenant could become a member of another.
  if (person.kept_by !== null && person.kept_by !== tenantId)
    throw new LintelError('kept-account', 'This account is kept by an organisation, and comes into no other.', {});
  await tx.insertInto('lintel_member').values({ tenant_id: tenantId, user_id: userId, status: 'active', since, ends_at: endsAt }).execute().catch(stillLeaving);
  await tx.insertInto('lintel_person_tenant').values({ person_id: userId, tenant_id: tenantId }).execute();
  if (assignments.length > 0)
    await tx
      .insertInto('lintel_assignment')
      .values(assignments.map(({ without = [], ...a }) => ({ tenant_id: tenantId, user_id: userId, ...a, without: JSON.stringify(without) })))
      .execute();
  for (const table of ['lintel_bar', 'lintel_identity_bar'] as const)
    await tx.deleteFrom(table).where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
}

/** Says where the records of a tenant are that has named no place. @throws LintelError `no-place`, `not-found`; `place-named` where it has named another. */
export async function placeTenant(setting: Setting, tenantId: string, place: string): Promise<void> {
  const named = readPlace(setting, place);
  const row = await setting.db.selectFrom('lintel_tenant').select('place').where('id', '=', tenantId).executeTakeFirst();
  if (!row) throw new LintelError('not-found', 'There is no such page.', {});
  const set = await setting.db
    .updateTable('lintel_tenant')
    .set({ place: named as string })
    .where('id', '=', tenantId)
    .where((eb) => eb.or([eb('place', 'is', null), eb('place', '=', named)]))
    .executeTakeFirstOrThrow();
  if (set.numUpdatedRows === 0n)
    throw new LintelError('place-named', `the records of "${tenantId}" are in "${row.place}"; a place is named for good`, { tenantId });
}

export const tenantSteps: Handlers<'rename-tenant' | 'close-tenant'> = {
  'close-tenant': {
    needs: () => 'tenant.close',
    touches: () => ({}),
    run: close,
  },
  'rename-tenant': {
    needs: () => 'tenant.rename',
    touches: () => ({}),
    run: async ({ tx, tenantId }, { name, contact }) => {
      const set = {
        ...(name !== undefined && { name: readName(name, 'an organisation') }),
        ...(contact !== undefined && { contact: readName(contact, 'the contact') }),
      };
      if (Object.keys(set).length === 0) throw new LintelError('nothing-to-change', 'give a name, a contact, or both', {});
      const before = await tx.selectFrom('lintel_tenant').select(['name', 'contact']).where('id', '=', tenantId).executeTakeFirstOrThrow();
      await tx.updateTable('lintel_tenant').set(set).where('id', '=', tenantId).execute();
      const words = {
        ...(set.name && { nameBefore: before.name, nameAfter: set.name }),
        ...(set.contact && { contactBefore: before.contact ?? '', contactAfter: set.contact }),
      };
      return { what: 'tenant renamed', event: {}, words };
    },
  },
};

async function close({ tx, tenantId }: Change): Promise<Done> {
  await tx.updateTable('lintel_tenant').set({ status: 'closed' }).where('id', '=', tenantId).execute();
  return { what: 'tenant closed', event: {} };
}

/** Closes a tenant, for whoever runs the platform: from the next request on, nobody has a standing there, and nothing is lost. @throws LintelError `not-found`. */
export async function closeTenant(setting: Setting, tenantId: string, actorId: string | undefined, reason?: string): Promise<void> {
  await changeTenant(setting, tenantId, actorId, async (change) => ({
    result: undefined,
    entry: { ...(await close(change)), ...(reason && { words: { reason } }) },
  }));
}

/** Opens a tenant again that was closed, as it was. @throws LintelError `not-found`. */
export async function reopenTenant(setting: Setting, tenantId: string, actorId: string | undefined, reason?: string): Promise<void> {
  const work = async ({ tx }: Change) => {
    await tx.updateTable('lintel_tenant').set({ status: 'open' }).where('id', '=', tenantId).execute();
    return { result: undefined, entry: { what: 'tenant opened again', event: {}, ...(reason && { words: { reason } }) } };
  };
  await changeTenant(setting, tenantId, actorId, work, { evenClosed: true });
}

/** People who take a seat: members who have not ended, the suspended too; programs take none, and nor does whom a directory has named and who has not come. */
async function seatsTaken(tx: Kysely<LintelTables>, tenantId: string, at: Date): Promise<number> {
  const { count } = await tx
    .selectFrom('lintel_member')
    .select((eb) => eb.fn.countAll<string>().as('count'))
    .where('tenant_id', '=', tenantId)
    .where('responsible_id', 'is', null)
    // guard expected-take-no-seat by arrival: People who are only expected would take seats.
    .where('expected', '=', false)
    .where((eb) => eb.or([eb('ends_at', 'is', null), eb('ends_at', '>', at)]))
    .executeTakeFirstOrThrow();
  return Number(count);
}

/** Under the tenant's lock, so that the last seat is taken by one. @throws LintelError `no-seat`. */
export const insistOnSeat = (change: Change): Promise<void> => insistOnNoMore(change, 1);

/** With so many more there are no more people than seats. @throws LintelError `no-seat`. */
export async function insistOnNoMore({ tx, tenantId, at, actor }: Change, more = 0): Promise<void> {
  const { seats } = await tx.selectFrom('lintel_tenant').select('seats').where('id', '=', tenantId).executeTakeFirstOrThrow();
  if (seats === null || (await seatsTaken(tx, tenantId, at)) + more <= seats) return;
  throw new LintelError('no-seat', `All ${seats} places of ${actor.facts.tenant.name} are taken. Ask ${aKeyholder(actor.charter)} there.`, { seats });
}

/** What an organisation has booked. */
export interface Plan {
  readonly features?: readonly string[];
  /** People who may be members; null: as many as come. */
  readonly seats?: number | null;
}

/** What a plan means for a tenant as it is: nothing is deleted, and what it no longer holds is refused with its reason. */
export interface PlanEffect {
  readonly members: number;
  /** People above the seats: nobody new comes in until so many have left. */
  readonly above: number;
  /** Actions that the plan no longer holds. */
  readonly closed: readonly { readonly permission: string; readonly feature: string }[];
}

/**
 * Sets the plan of a tenant. That is for whoever runs the platform, and not for the tenant.
 *
 * @throws LintelError `not-found`, `bad-plan`.
 */
export async function setPlan(setting: Setting, tenantId: string, { features, seats }: Plan): Promise<PlanEffect> {
  if (seats !== undefined && seats !== null && (!Number.isInteger(seats) || seats < 1))
    throw new LintelError('bad-plan', `seats is ${seats}; give a whole number from 1, or null for as many as come`, {});
  const known = new Map([...setting.charter.permissions.values()].flatMap(({ name, feature }) => (feature === undefined ? [] : [[name, feature] as const])));
  const foreign = features?.find((feature) => ![...known.values()].includes(feature));
  if (foreign !== undefined) throw new LintelError('bad-plan', `no action needs the feature "${foreign}"${didYouMean(foreign, known.values())}`, {});
  return changeTenant(setting, tenantId, undefined, async ({ tx, at }) => {
    const before = await tx.selectFrom('lintel_tenant').select(['features', 'seats']).where('id', '=', tenantId).executeTakeFirstOrThrow();
    const after = { features: features ?? before.features, seats: seats === undefined ? before.seats : seats };
    await tx
      .updateTable('lintel_tenant')
      .set({ features: JSON.stringify(after.features), seats: after.seats })
      .where('id', '=', tenantId)
      .execute();
    const members = await seatsTaken(tx, tenantId, at);
    const closed = [...known].flatMap(([permission, feature]) =>
      before.features.includes(feature) && !after.features.includes(feature) ? [{ permission, feature }] : [],
    );
    const result = { members, above: after.seats === null ? 0 : Math.max(0, members - after.seats), closed };
    return { result, entry: { what: 'plan set', event: { before, after } } };
  });
}

/** The tenants to which a person belongs, by name. */
export async function myTenants(setting: Setting, userId: string): Promise<{ readonly id: string; readonly name: string }[]> {
  return setting.db
    .selectFrom('lintel_person_tenant as pt')
    .innerJoin('lintel_tenant as t', 't.id', 'pt.tenant_id')
    .select(['t.id', 't.name'])
    .where('pt.person_id', '=', userId)
    .where('t.status', '=', 'open')
    .orderBy('t.name')
    .orderBy('t.id')
    .execute();
}

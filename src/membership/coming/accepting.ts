import type { Kysely, Selectable, Transaction } from 'kysely';
import { isLintelError, LintelError } from '../../base/index.js';
import { type Assignment, aKeyholder, everythingMet } from '../../standing/index.js';
import { type Change, changeTenant, insistOnApartOf, insistOnDomain, insistOnRules } from '../change/index.js';
import { endingBy, giverInTenant, mayGive } from '../held/index.js';
import { type AuditEntry, onRecord } from '../record/index.js';
import { assignmentRows } from '../steps/index.js';
import { howHanded, type InvitationRow, invalid, type LintelTables, maskAddress, readAddress, readToken, type Setting } from '../terms/index.js';
import { giveMore } from './gives.js';
import { rolesOf, statusAt } from './invitations.js';
import { insistOnSeat, joinTenant } from './tenants.js';

/** What somebody with the link may see before they have an account. */
export interface InvitationView {
  readonly tenantId: string;
  readonly tenantName: string;
  readonly invitedBy: string;
  readonly address: string;
  readonly name: string | null;
  readonly roles: readonly Assignment[];
  readonly expiresAt: Date;
  /** True if the link came by mail, so that whoever has it has the address. */
  readonly mailed: boolean;
}

type WithToken = { readonly token: string };
type Held = { readonly tenantId: string; readonly invitationId: string };

/** Looks an invitation up by its secret, and answers only for one that can still be used. Nothing is told of any other. */
async function usable(db: Kysely<LintelTables> | Transaction<LintelTables>, now: number, by: WithToken | (Held & { readonly address: string })) {
  const { tenantId, invitationId, ...proof } = 'token' in by ? readToken(by.token) : by;
  const row = await db.selectFrom('lintel_invitation').selectAll().where('tenant_id', '=', tenantId).where('id', '=', invitationId).executeTakeFirst();
  // Who is expected comes by a provider, and not by a link or by themselves.
  // guard expected-comes-by-provider by arrival: Somebody who is expected could accept without their identity provider.
  if (!row || /* guard expected-comes-by-provider */ row.expected) throw invalid();
  let mailed = false;
  if ('secret' in proof) {
    // A link that was replaced, or belongs to another invitation, is as good as a forged one.
    const how = [row.token_hash, ...row.earlier_hashes].map((hash) => howHanded(proof.secret, hash)).find((one) => one !== undefined);
    if (how === undefined) throw invalid();
    mailed = how === 'mailed';
  } else if (row.address !== proof.address) throw invalid();
  const status = statusAt(row, now);
  if (status !== 'pending') throw withStatus(status);
  return { ...row, mailed };
}

function withStatus(status: InvitationRow['status']): LintelError {
  const words = {
    accepted: 'This invitation was used already. Sign in to go on.',
    declined: 'This invitation was declined. Ask for a new one if that was a mistake.',
    withdrawn: 'This invitation was withdrawn. Ask the person who sent it.',
    expired: 'This invitation has expired. Ask for a new one.',
    pending: '',
  };
  return new LintelError(status === 'accepted' ? 'invitation-used' : `invitation-${status}`, words[status], { status });
}

/**
 * What an invitation says, for whoever has the link. Changes nothing, however often it is followed.
 *
 * @throws LintelError `invitation-invalid` (forged, replaced, of another tenant), `invitation-used`, `invitation-expired`,
 * `invitation-withdrawn`, `invitation-declined`.
 */
export async function lookAtInvitation(setting: Setting, token: string): Promise<InvitationView> {
  const row = await usable(setting.db, setting.now(), { token });
  const tenant = await setting.db.selectFrom('lintel_tenant').select(['name', 'status']).where('id', '=', row.tenant_id).executeTakeFirst();
  if (tenant?.status !== 'open') throw invalid();
  const inviter = await setting.db.selectFrom('lintel_person').select('name').where('id', '=', row.invited_by).executeTakeFirst();
  return {
    tenantId: row.tenant_id,
    tenantName: tenant.name,
    invitedBy: inviter?.name ?? '',
    address: row.address_written,
    name: row.name,
    roles: rolesOf(setting.charter, row),
    expiresAt: row.expires_at,
    mailed: row.mailed,
  };
}

/**
 * Accepts an invitation: once, by the person to whose address it went, and only if the inviter could still give what it holds.
 * By the link, or (`held`) by somebody who has proven that address.
 *
 * @throws LintelError as {@link lookAtInvitation}, and `other-address` (the account has another address; the invitation stays),
 * `already-member`, `invitation-void` (the inviter may no longer give this).
 */
export async function accept(setting: Setting, userId: string, by: WithToken | Held): Promise<{ readonly tenantId: string }> {
  const person = await setting.db.selectFrom('lintel_person').selectAll().where('id', '=', userId).executeTakeFirst();
  if (!person) throw new LintelError('no-account', 'Sign in or make an account first.', {});
  if (!('token' in by) && person.confirmed_at === null)
    throw new LintelError('address-not-confirmed', 'Open the link in the message: your address is not confirmed yet.', {});
  const lookUp = 'token' in by ? by : { ...by, address: person.address };
  const { tenant_id: tenantId } = await usable(setting.db, setting.now(), lookUp);
  return changeTenant(setting, tenantId, userId, async (change) => {
    const { tx, at } = change;
    // Read again under the tenant's lock: of two who come in the same second, one finds it used.
    const row = await usable(tx, at.getTime(), lookUp);
    if (person.address !== row.address) {
      throw new LintelError(
        'other-address',
        `This invitation is for ${maskAddress(row.address)}, and you are signed in as ${person.address_written}. Sign out and come back with that address, or ask ${change.actor.facts.tenant.name} to invite this one.`,
        { invited: maskAddress(row.address) },
      );
    }
    readAddress(row.address);
    insistOnDomain(change, row.address);
    if (change.actor.facts.subject === 'member')
      throw new LintelError('already-member', `You are a member of ${change.actor.facts.tenant.name} already.`, { tenantId });
    if (change.actor.facts.subject === 'suspended')
      throw new LintelError('suspended', `Your membership of ${change.actor.facts.tenant.name} is suspended. Ask ${aKeyholder(change.setting.charter)}.`, {
        tenantId,
      });
    const entry = await takeUp(change, row, userId);
    if (!person.confirmed_at && row.mailed) await tx.updateTable('lintel_person').set({ confirmed_at: at }).where('id', '=', userId).execute();
    return { result: { tenantId }, entry };
  });
}

/**
 * Somebody comes in with what an invitation holds, if whoever gave it could still give it.
 *
 * @throws LintelError `invitation-void`, `no-seat`, and what the rules of the tenant refuse.
 */
export async function takeUp(change: Change, row: Selectable<InvitationRow>, userId: string): Promise<readonly AuditEntry[]> {
  const { tx, tenantId, at, setting } = change;
  const fulfilled = everythingMet(setting.charter);
  const inviter = await giverInTenant(tx, setting, { tenant: tenantId, user: row.invited_by, fulfilled });
  const roles = rolesOf(setting.charter, row);
  // guard returning-member-compared by attack: Somebody could leave and be invited back with more.
  if (!inviter.now.may('member.invite') || /* guard returning-member-compared */ !roles.every((role) => mayGive(inviter, endingBy(role, row.member_until))))
    throw invitationVoid();
  if (row.member_until !== null && row.member_until <= at)
    throw new LintelError('invitation-void', 'The membership that this invitation is for has ended already. Ask for a new one.', {});
  await insistOnSeat(change);
  insistOnRules(change, roles);
  await joinTenant(tx, tenantId, userId, at, await assignmentRows(change, roles), row.member_until);
  await insistOnApartOf(change, userId);
  const more = await giveMore({ ...change, number: change.number + 1 }, inviter, userId, row.gives).catch((error: unknown) => {
    throw isLintelError(error) ? invitationVoid() : error;
  });
  await tx.deleteFrom('lintel_request').where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
  await tx
    .updateTable('lintel_invitation')
    .set({ status: 'accepted', accepted_by: userId })
    .where('tenant_id', '=', tenantId)
    .where('id', '=', row.id)
    .where('status', '=', 'pending')
    .execute();
  const event = { invitation: row.id, user: userId, roles: row.roles, ...(row.member_until && { endsAt: row.member_until.toISOString() }) };
  return [{ what: 'invitation accepted', event }, ...more.map((one) => onRecord(one))];
}

/** Who is expected under an address: nobody was sent anything, and by no link is it taken up. */
export async function expectedUnder({ tx, tenantId, at }: Change, address: string): Promise<Selectable<InvitationRow> | undefined> {
  return tx
    .selectFrom('lintel_invitation')
    .selectAll()
    .where('tenant_id', '=', tenantId)
    .where('address', '=', address)
    .where('expected', '=', true)
    .where('status', '=', 'pending')
    .where('expires_at', '>', at)
    .executeTakeFirst();
}

const invitationVoid = () =>
  new LintelError('invitation-void', 'The person who invited you may no longer give what this invitation holds. Ask for a new one.', {});

/** Declines an invitation, by its link. @throws LintelError as {@link lookAtInvitation}. */
export async function decline(setting: Setting, token: string): Promise<void> {
  const { tenant_id: tenantId } = await usable(setting.db, setting.now(), { token });
  await changeTenant(setting, tenantId, undefined, async (change) => {
    const row = await usable(change.tx, change.at.getTime(), { token });
    await change.tx.updateTable('lintel_invitation').set({ status: 'declined' }).where('tenant_id', '=', tenantId).where('id', '=', row.id).execute();
    return { result: undefined, entry: { what: 'invitation declined', event: { invitation: row.id } } };
  });
}

/** Pending invitations to the address that this person has proven to be theirs, in any tenant. */
export async function myInvitations(setting: Setting, userId: string): Promise<(Held & { readonly tenantName: string; readonly expiresAt: Date })[]> {
  const rows = await setting.db
    .selectFrom('lintel_person as p')
    .innerJoin('lintel_invitation as i', 'i.address', 'p.address')
    .innerJoin('lintel_tenant as t', 't.id', 'i.tenant_id')
    .select(['i.tenant_id', 'i.id', 't.name', 'i.expires_at'])
    .where('p.id', '=', userId)
    .where('p.confirmed_at', 'is not', null)
    .where('i.status', '=', 'pending')
    .where('i.expected', '=', false)
    .where('i.expires_at', '>', new Date(setting.now()))
    .where('t.status', '=', 'open')
    .orderBy('i.invited_at')
    .execute();
  return rows.map((row) => ({ tenantId: row.tenant_id, invitationId: row.id, tenantName: row.name, expiresAt: row.expires_at }));
}

import { createHash, randomBytes, randomUUID, timingSafeEqual } from 'node:crypto';
import type { Kysely, Transaction } from 'kysely';
import { isLintelError, LintelError } from '../base/index.js';
import { type Assignment, Standing, throwIfRefused } from '../standing/index.js';
import { maskAddress, readAddress, readName } from './address.js';
import { type Change, changeTenant, insistOn, type Setting } from './change.js';
import { anchorOf, readFacts } from './facts.js';
import { insistOnGiving, mayGive } from './giving.js';
import { assignmentRows } from './members.js';
import type { InvitationRow, LintelTables } from './tables.js';
import { joinTenant } from './tenants.js';

export interface NewInvitation {
  readonly address: string;
  readonly name?: string;
  /** What they will hold once they accept. An empty list is none. */
  readonly roles: readonly Assignment[];
}

/** What became of one address. An expected failure is an answer here, not an error. */
export interface InviteAnswer {
  readonly address: string;
  readonly outcome: 'invited' | 'already a member' | 'already pending' | 'refused';
  /** For the person who invites. */
  readonly words: string;
  /** Set for `refused`. */
  readonly code?: string;
  readonly invitationId?: string;
  /** Only without a mailer: the secret to hand over by other means. It is shown once. */
  readonly token?: string;
}

export interface Invitation {
  readonly id: string;
  readonly address: string;
  readonly name: string | null;
  readonly roles: readonly Assignment[];
  readonly status: InvitationRow['status'];
  readonly invitedAt: Date;
  readonly expiresAt: Date;
  /** Where its message is: `none` when there is no mailer. */
  readonly mail: 'waiting' | 'sent' | 'given up' | 'none';
}

const DAY = 86_400_000;
const hashSecret = (secret: string) => createHash('sha256').update(secret).digest('hex');

/**
 * Makes a new secret for a pending invitation; the one before it is dead. The token names its tenant and invitation and
 * holds 256 random bits, of which only the hash is kept.
 */
export async function renewToken(tx: Kysely<LintelTables>, tenantId: string, invitationId: string): Promise<string> {
  const secret = randomBytes(32).toString('base64url');
  await tx
    .updateTable('lintel_invitation')
    .set({ token_hash: hashSecret(secret) })
    .where('tenant_id', '=', tenantId)
    .where('id', '=', invitationId)
    .where('status', '=', 'pending')
    .execute();
  return [tenantId, invitationId, secret].map((part) => Buffer.from(part).toString('base64url')).join('.');
}

const invalid = () => new LintelError('invitation-invalid', 'This invitation link is not valid. Ask for a new one.', {});

function readToken(token: unknown): { tenantId: string; invitationId: string; secret: string } {
  const parts = typeof token === 'string' && token.length < 2000 ? token.split('.').map((part) => Buffer.from(part, 'base64url').toString('utf8')) : [];
  const [tenantId, invitationId, secret] = parts;
  if (parts.length !== 3 || !tenantId || !invitationId || !secret || parts.some((part) => part.includes('\0'))) throw invalid();
  return { tenantId, invitationId, secret };
}

function rolesOf(row: { roles: { role: string; anchor: 'tenant' | 'unit'; anchorId: string }[] }): Assignment[] {
  return row.roles.map(({ role, anchor, anchorId }) => ({ role, anchor: anchorOf(anchor, anchorId) }));
}

function statusAt(row: { status: InvitationRow['status']; expires_at: Date }, now: number): InvitationRow['status'] {
  return row.status === 'pending' && row.expires_at.getTime() <= now ? 'expired' : row.status;
}

/** Puts the message into the outbox, in the same transaction; without a mailer gives the secret to hand over. */
async function dispatch(change: Change, invitationId: string): Promise<string | undefined> {
  const { tx, tenantId, number, at, setting } = change;
  if (!setting.hasMailer) return renewToken(tx, tenantId, invitationId);
  await tx.updateTable('lintel_invitation').set({ token_hash: null }).where('tenant_id', '=', tenantId).where('id', '=', invitationId).execute();
  await tx
    .updateTable('lintel_outbox')
    .set({ state: 'given up' })
    .where('tenant_id', '=', tenantId)
    .where('invitation_id', '=', invitationId)
    .where('state', '=', 'waiting')
    .execute();
  await tx.insertInto('lintel_outbox').values({ tenant_id: tenantId, number, invitation_id: invitationId, next_at: at }).execute();
  return undefined;
}

async function inviteOne(setting: Setting, tenantId: string, actorId: string, input: NewInvitation): Promise<InviteAnswer> {
  const address = readAddress(input.address);
  const name = input.name === undefined || input.name.trim() === '' ? null : readName(input.name, 'the invited person');
  try {
    return await changeTenant(setting, tenantId, actorId, async (change) => {
      const { tx, at, actor } = change;
      insistOn(change, 'member.invite');
      insistOnGiving(actor, input.roles);
      const member = await tx
        .selectFrom('lintel_member as m')
        .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
        .select('p.name')
        .where('m.tenant_id', '=', tenantId)
        .where('p.address', '=', address.normal)
        .executeTakeFirst();
      if (member) throw new Known({ address: address.written, outcome: 'already a member', words: `${member.name} is a member already.` });
      const pending = await tx
        .selectFrom('lintel_invitation')
        .select(['id', 'status', 'expires_at'])
        .where('tenant_id', '=', tenantId)
        .where('address', '=', address.normal)
        .where('status', '=', 'pending')
        .executeTakeFirst();
      if (pending && statusAt(pending, at.getTime()) === 'pending') {
        throw new Known({
          address: address.written,
          outcome: 'already pending',
          words: `${address.written} is invited already. Send it again, or withdraw it first.`,
          invitationId: pending.id,
        });
      }
      if (pending)
        await tx.updateTable('lintel_invitation').set({ status: 'expired' }).where('tenant_id', '=', tenantId).where('id', '=', pending.id).execute();
      const roles = (await assignmentRows(change, input.roles)).map(({ role, anchor, anchor_id }) => ({ role, anchor, anchorId: anchor_id }));
      const id = randomUUID();
      const expires = new Date(at.getTime() + setting.invitationDays * DAY);
      await tx
        .insertInto('lintel_invitation')
        .values({
          tenant_id: tenantId,
          id,
          address: address.normal,
          address_written: address.written,
          name,
          roles: JSON.stringify(roles),
          status: 'pending',
          invited_by: actorId,
          invited_at: at,
          expires_at: expires,
        })
        .execute();
      const token = await dispatch(change, id);
      const words = setting.hasMailer
        ? `An invitation is on its way to ${address.written}.`
        : `No mail is set up: hand the link to ${address.written} yourself.`;
      const result: InviteAnswer = { address: address.written, outcome: 'invited', words, invitationId: id, ...(token !== undefined && { token }) };
      return { result, entry: { what: 'invited', event: { invitation: id, roles }, words: { address: address.normal, ...(name && { name }) } } };
    });
  } catch (error) {
    if (error instanceof Known) return error.answer;
    throw error;
  }
}

/** Leaves a transaction that has nothing to write, with the answer. */
class Known extends Error {
  readonly answer: InviteAnswer;

  constructor(answer: InviteAnswer) {
    super(answer.words);
    this.answer = answer;
  }
}

/** At most this many addresses in one call. */
const MAX_INVITED = 200;

/**
 * Invites people by address, each with the roles they will hold. Each address is a change of its own: what is wrong with one
 * does not keep the others back.
 *
 * @throws LintelError `refused` or `not-found` when the actor may not invite at all; `too-many`.
 */
export async function invite(setting: Setting, standing: Standing, inputs: readonly NewInvitation[]): Promise<InviteAnswer[]> {
  if (inputs.length > MAX_INVITED) throw new LintelError('too-many', `${inputs.length} addresses at once; at most ${MAX_INVITED} can be`, {});
  throwIfRefused(standing.decide('member.invite'));
  const answers: InviteAnswer[] = [];
  for (const input of inputs) {
    try {
      answers.push(await inviteOne(setting, standing.facts.tenant.id, standing.userId as string, input));
    } catch (error) {
      if (!isLintelError(error)) throw error;
      answers.push({ address: String(input.address).slice(0, 80), outcome: 'refused', words: error.message, code: error.code });
    }
  }
  return answers;
}

/** Invitations of the tenant, the newest first. @throws LintelError `refused`. */
export async function listInvitations(setting: Setting, standing: Standing): Promise<Invitation[]> {
  throwIfRefused(standing.decide('member.read'));
  const rows = await setting.db
    .selectFrom('lintel_invitation as i')
    .select((eb) => [
      'i.id',
      'i.address_written',
      'i.name',
      'i.roles',
      'i.status',
      'i.invited_at',
      'i.expires_at',
      eb
        .selectFrom('lintel_outbox as o')
        .select('o.state')
        .whereRef('o.tenant_id', '=', 'i.tenant_id')
        .whereRef('o.invitation_id', '=', 'i.id')
        .orderBy('o.number', 'desc')
        .limit(1)
        .as('mail'),
    ])
    .where('i.tenant_id', '=', standing.facts.tenant.id)
    .orderBy('i.invited_at', 'desc')
    .limit(500)
    .execute();
  return rows.map((row) => ({
    id: row.id,
    address: row.address_written,
    name: row.name,
    roles: rolesOf(row),
    status: statusAt(row, setting.now()),
    invitedAt: row.invited_at,
    expiresAt: row.expires_at,
    mail: row.mail ?? 'none',
  }));
}

async function pendingById(change: Change, id: string) {
  const row = await change.tx.selectFrom('lintel_invitation').selectAll().where('tenant_id', '=', change.tenantId).where('id', '=', id).executeTakeFirst();
  if (!row) throw new LintelError('not-found', 'There is no such invitation.', {});
  return row;
}

/**
 * Sends an invitation again, with a new link and a new term; the old link is dead.
 *
 * @throws LintelError `refused`, `not-found`, `beyond-power`, `invitation-used` (it is accepted, declined or withdrawn).
 */
export async function sendAgain(setting: Setting, tenantId: string, actorId: string, id: string): Promise<{ readonly token?: string }> {
  return changeTenant(setting, tenantId, actorId, async (change) => {
    insistOn(change, 'member.invite');
    const row = await pendingById(change, id);
    if (row.status !== 'pending') throw new LintelError('invitation-used', `This invitation is ${row.status}; invite anew.`, { status: row.status });
    insistOnGiving(change.actor, rolesOf(row));
    const expires = new Date(change.at.getTime() + setting.invitationDays * DAY);
    await change.tx
      .updateTable('lintel_invitation')
      .set({ expires_at: expires, invited_by: actorId })
      .where('tenant_id', '=', tenantId)
      .where('id', '=', id)
      .execute();
    const token = await dispatch(change, id);
    return { result: token === undefined ? {} : { token }, entry: { what: 'invitation sent again', event: { invitation: id } } };
  });
}

/** Withdraws a pending invitation. @throws LintelError `refused`, `not-found`, `invitation-used`. */
export async function withdraw(setting: Setting, tenantId: string, actorId: string, id: string): Promise<void> {
  await changeTenant(setting, tenantId, actorId, async (change) => {
    insistOn(change, 'member.invite');
    const row = await pendingById(change, id);
    if (row.status !== 'pending') throw new LintelError('invitation-used', `This invitation is ${row.status} already.`, { status: row.status });
    await change.tx.updateTable('lintel_invitation').set({ status: 'withdrawn' }).where('tenant_id', '=', tenantId).where('id', '=', id).execute();
    return { result: undefined, entry: { what: 'invitation withdrawn', event: { invitation: id } } };
  });
}

/** What somebody with the link may see before they have an account. */
export interface InvitationView {
  readonly tenantId: string;
  readonly tenantName: string;
  readonly invitedBy: string;
  readonly address: string;
  readonly name: string | null;
  readonly roles: readonly Assignment[];
  readonly expiresAt: Date;
}

type WithToken = { readonly token: string };
type Held = { readonly tenantId: string; readonly invitationId: string };

/** Looks an invitation up by its secret, and answers only for one that can still be used. Nothing is told of any other. */
async function usable(db: Kysely<LintelTables> | Transaction<LintelTables>, now: number, by: WithToken | (Held & { readonly address: string })) {
  const { tenantId, invitationId, ...proof } = 'token' in by ? readToken(by.token) : by;
  const row = await db.selectFrom('lintel_invitation').selectAll().where('tenant_id', '=', tenantId).where('id', '=', invitationId).executeTakeFirst();
  if (!row) throw invalid();
  if ('secret' in proof) {
    // A link that was replaced, or belongs to another invitation, is as good as a forged one.
    const [given, kept] = [Buffer.from(hashSecret(proof.secret)), Buffer.from(row.token_hash ?? ''.padEnd(64, '-'))];
    if (given.length !== kept.length || !timingSafeEqual(given, kept)) throw invalid();
  } else if (row.address !== proof.address) throw invalid();
  const status = statusAt(row, now);
  if (status !== 'pending') throw withStatus(status);
  return row;
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
    roles: rolesOf(row),
    expiresAt: row.expires_at,
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
    if (change.actor.facts.subject === 'member')
      throw new LintelError('already-member', `You are a member of ${change.actor.facts.tenant.name} already.`, { tenantId });
    if (change.actor.facts.subject === 'suspended')
      throw new LintelError('suspended', `Your membership of ${change.actor.facts.tenant.name} is suspended. Ask a keyholder.`, { tenantId });
    const inviter = new Standing(
      setting.charter,
      await readFacts(tx, setting.charter, { tenant: tenantId, user: row.invited_by, fulfilled: Object.keys(setting.charter.data.obligations) }),
    );
    const roles = rolesOf(row);
    if (!inviter.may('member.invite') || !roles.every((role) => mayGive(inviter, role))) {
      throw new LintelError('invitation-void', 'The person who invited you may no longer give what this invitation holds. Ask for a new one.', {});
    }
    await joinTenant(tx, tenantId, userId, at, await assignmentRows(change, roles));
    await tx
      .updateTable('lintel_invitation')
      .set({ status: 'accepted', accepted_by: userId })
      .where('tenant_id', '=', tenantId)
      .where('id', '=', row.id)
      .where('status', '=', 'pending')
      .execute();
    if (!person.confirmed_at && 'token' in by && setting.hasMailer)
      await tx.updateTable('lintel_person').set({ confirmed_at: at }).where('id', '=', userId).execute();
    return { result: { tenantId }, entry: { what: 'invitation accepted', event: { invitation: row.id, user: userId, roles: row.roles } } };
  });
}

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
    .where('i.expires_at', '>', new Date(setting.now()))
    .where('t.status', '=', 'open')
    .orderBy('i.invited_at')
    .execute();
  return rows.map((row) => ({ tenantId: row.tenant_id, invitationId: row.id, tenantName: row.name, expiresAt: row.expires_at }));
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

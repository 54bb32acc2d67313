import { randomUUID } from 'node:crypto';
import { isLintelError, LintelError } from '../base/index.js';
import { type Assignment, type Standing, throwIfRefused } from '../standing/index.js';
import { readAddress, readName } from './address.js';
import { type Change, changeTenant, insistOn, ownRoles, type Setting } from './change.js';
import { anchorOf } from './facts.js';
import { insistOnGiving } from './giving.js';
import { assignmentRows } from './holders.js';
import { roleLabel } from './members.js';
import type { InvitationRow, InvitedRole } from './tables.js';
import { renewToken } from './token.js';

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
  readonly roles: readonly (Assignment & { readonly label: string })[];
  readonly status: InvitationRow['status'];
  readonly invitedAt: Date;
  readonly expiresAt: Date;
  /** Where its message is: `none` when there is no mailer. */
  readonly mail: 'waiting' | 'sent' | 'given up' | 'none';
}

const DAY = 86_400_000;

export function rolesOf(row: { roles: InvitedRole[] }): Assignment[] {
  return row.roles.map(({ role, anchor, anchorId, ...more }) => ({ role, anchor: anchorOf(anchor, anchorId), ...more }));
}

/** What the state of an invitation is at a moment: a pending one may have expired since. */
export function statusAt(row: { status: InvitationRow['status']; expires_at: Date }, now: number): InvitationRow['status'] {
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
      const roles = (await assignmentRows(change, input.roles)).map(
        ({ role, anchor, anchor_id, until, without }): InvitedRole => ({
          role,
          anchor,
          anchorId: anchor_id,
          ...(until && { until: until.toISOString() }),
          ...(without !== '[]' && { without: JSON.parse(without) as string[] }),
        }),
      );
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
  const charter = setting.charter.withRoles(await ownRoles(setting.db, standing.facts.tenant.id));
  return rows.map((row) => ({
    id: row.id,
    address: row.address_written,
    name: row.name,
    roles: rolesOf(row).map((held) => ({ ...held, label: roleLabel(charter, held.role) })),
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

import { sql } from 'kysely';
import { isLintelError, LintelError, newId } from '../../base/index.js';
import { type Charter, nameNow } from '../../charter/index.js';
import { type Assignment, type Standing, throwIfRefused } from '../../standing/index.js';
import { type Change, changeTenant, type Handlers, insistOn } from '../change/index.js';
import { anchorOf, endingBy, insistOnGiving, insistOnPeople, isKnown, ownRoles, type Part, roleLabel } from '../held/index.js';
import type { AuditEntry } from '../record/index.js';
import { type Done, type Gives, type InvitationRow, type InvitedRole, insertMany, keptAddress, newToken, renewToken, type Setting } from '../terms/index.js';
import { insistOnMore } from './ahead.js';
import { type NewInvitation, type Ready, reading } from './invited.js';

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

/** An invitation, as whoever may invite sees it. */
export interface Invitation {
  readonly id: string;
  readonly address: string;
  readonly name: string | null;
  readonly roles: readonly (Assignment & { readonly label: string })[];
  /** What is given besides roles. */
  readonly gives: Gives;
  readonly status: InvitationRow['status'];
  /** Nobody was sent anything: they come by a provider. */
  readonly expected: boolean;
  readonly invitedAt: Date;
  readonly expiresAt: Date;
  /** When the membership that comes of it ends by itself. */
  readonly memberUntil?: Date;
  /** Where its message is: `none` when there is no mailer. */
  readonly mail: 'waiting' | 'sent' | 'given up' | 'none';
}

const DAY = 86_400_000;

export function rolesOf(charter: Charter, row: { roles: InvitedRole[] }): Assignment[] {
  return row.roles.map(({ role, anchor, anchorId, ...more }) => ({ role: nameNow(charter, role), anchor: anchorOf(anchor, anchorId), ...more }));
}

/** What the state of an invitation is at a moment: a pending one may have expired since. */
export function statusAt(row: { status: InvitationRow['status']; expires_at: Date }, now: number): InvitationRow['status'] {
  return row.status === 'pending' && row.expires_at.getTime() <= now ? 'expired' : row.status;
}

/** Puts the message of an invitation that waits already into the outbox, in the same transaction; without a mailer gives the secret to hand over. */
async function dispatchAgain(change: Change, invitationId: string): Promise<string | undefined> {
  const { tx, tenantId, number, at, setting } = change;
  if (!setting.hasMailer) return renewToken(tx, tenantId, invitationId, 'shown');
  if ((await leftToSend(change)) === 0) throw tooMuchSent(setting);
  await tx
    .updateTable('lintel_invitation')
    .set({ token_hash: null, earlier_hashes: '[]' })
    .where('tenant_id', '=', tenantId)
    .where('id', '=', invitationId)
    .execute();
  await tx
    .updateTable('lintel_outbox')
    .set({ state: 'given up' })
    .where('tenant_id', '=', tenantId)
    .where('invitation_id', '=', invitationId)
    .where('state', '=', 'waiting')
    .execute();
  await tx.insertInto('lintel_outbox').values({ tenant_id: tenantId, number, invitation_id: invitationId, next_at: at, queued_at: at }).execute();
  return undefined;
}

/** How many messages the tenant may still send within this day. */
async function leftToSend({ tx, tenantId, at, setting }: Change): Promise<number> {
  if (!setting.hasMailer) return Number.POSITIVE_INFINITY;
  const { count } = await tx
    .selectFrom('lintel_outbox')
    .select((eb) => eb.fn.countAll<string>().as('count'))
    .where('tenant_id', '=', tenantId)
    .where('queued_at', '>', new Date(at.getTime() - DAY))
    .executeTakeFirstOrThrow();
  return Math.max(0, setting.sending.byTenant - Number(count));
}

const tooMuchSent = ({ sending }: Setting) =>
  new LintelError('too-many', `${sending.byTenant} messages went out within 24 hours, and no more may. Try again tomorrow.`, {});

/** Who of these is a member already, and who is invited already: an invitation that has run out is put away. */
async function knownAddresses({ tx, tenantId, at }: Change, addresses: readonly string[]) {
  const members = await tx
    .selectFrom('lintel_person as p')
    .innerJoin('lintel_member as m', 'm.user_id', 'p.id')
    .select('p.address')
    .where('m.tenant_id', '=', tenantId)
    .where(sql<boolean>`p.address = any(${[...addresses, ...addresses.map((one) => keptAddress(tenantId, one))]}::text[])`)
    .execute();
  const waiting = await tx
    .selectFrom('lintel_invitation')
    .select(['id', 'address', 'status', 'expires_at'])
    .where('tenant_id', '=', tenantId)
    .where('status', '=', 'pending')
    .where(sql<boolean>`address = any(${addresses}::text[])`)
    .execute();
  const isOver = (one: (typeof waiting)[number]) => statusAt(one, at.getTime()) === 'expired';
  const over = waiting.filter(isOver).map(({ id }) => id);
  if (over.length > 0) {
    await tx.updateTable('lintel_invitation').set({ status: 'expired' }).where('tenant_id', '=', tenantId).where('id', 'in', over).execute();
  }
  const there = new Set(members.map((m) => m.address));
  return {
    members: new Set(addresses.filter((one) => there.has(one) || there.has(keptAddress(tenantId, one)))),
    pending: new Map(waiting.flatMap((one) => (isOver(one) ? [] : [[one.address, one.id]]))),
  };
}

/** At most this many addresses in one call. */
const MAX_INVITED = 1000;

/** A refusal that concerns one address alone, as its answer. */
function refusedAnswer(input: NewInvitation, error: unknown): InviteAnswer {
  if (!isLintelError(error)) throw error;
  return { address: String(input.address).slice(0, 80), outcome: 'refused', words: error.message, code: error.code };
}

/** Invites each address in a change that is under way; what goes on record stands in the order of those that were invited. `expected`: nobody is sent anything. */
async function inviteEach(change: Change, inputs: readonly NewInvitation[], expected = false): Promise<{ answers: InviteAnswer[]; entry: AuditEntry[] }> {
  const { tx, tenantId, setting, at, actor, number } = change;
  const ready: (Ready | InviteAnswer)[] = [];
  const read = reading(change);
  for (const input of inputs) ready.push(await read(input).catch((error: unknown) => refusedAnswer(input, error)));
  const known = await knownAddresses(
    change,
    ready.flatMap((one) => ('roles' in one ? [one.address.normal] : [])),
  );
  let left = expected ? Number.POSITIVE_INFINITY : await leftToSend(change);
  const made: Parameters<typeof insertMany<'lintel_invitation'>>[2][number][] = [];
  const entry: AuditEntry[] = [];
  const answers = ready.map((one): InviteAnswer => {
    if (!('roles' in one)) return one;
    const { name, roles, memberUntil, gives, event, words } = one;
    const { normal, written: address } = one.address;
    if (known.members.has(normal)) return { address, outcome: 'already a member', words: `${address} is a member already.` };
    const pending = known.pending.get(normal);
    if (pending !== undefined) {
      const what = `${address} is invited already. Send it again, or withdraw it first.`;
      return { address, outcome: 'already pending', words: what, invitationId: pending };
    }
    if (left === 0) return refusedAnswer({ address, roles: [] }, tooMuchSent(setting));
    left -= 1;
    const id = newId();
    known.pending.set(normal, id);
    const secret = setting.hasMailer || expected ? undefined : newToken(tenantId, id, 'shown');
    made.push({ id, address: normal, address_written: address, name, roles: [...roles], gives, token_hash: secret?.hash ?? null, member_until: memberUntil });
    const beside = name ? { ...words, address: normal, name } : { ...words, address: normal };
    entry.push({ what: expected ? 'expected' : 'invited', event: { ...event, invitation: id }, words: beside });
    const said = setting.hasMailer ? `An invitation is on its way to ${address}.` : `No mail is set up: hand the link to ${address} yourself.`;
    return { address, outcome: 'invited', words: said, invitationId: id, ...(secret && { token: secret.token }) };
  });
  const expires_at = new Date(at.getTime() + setting.invitationDays * DAY);
  const alike = { tenant_id: tenantId, status: 'pending', invited_by: actor.userId as string, invited_at: at, expires_at, expected } as const;
  await insertMany(tx, 'lintel_invitation', made, alike);
  const messages = made.map(({ id }, i) => ({ number: number + i, invitation_id: id }));
  if (setting.hasMailer && !expected) await insertMany(tx, 'lintel_outbox', messages, { tenant_id: tenantId, next_at: at, queued_at: at });
  return { answers, entry };
}

/**
 * Invites people by address, each with the roles they will hold, in one transaction. What is wrong with one address does not keep the others
 * back: it is answered for that one.
 *
 * @throws LintelError `refused` or `not-found` when the actor may not invite at all; `too-many`.
 */
export async function invite(setting: Setting, standing: Standing, inputs: readonly NewInvitation[]): Promise<InviteAnswer[]> {
  if (inputs.length > MAX_INVITED) throw new LintelError('too-many', `${inputs.length} addresses at once; at most ${MAX_INVITED} can be`, {});
  throwIfRefused(standing.decide('member.invite'));
  return changeTenant(setting, standing.facts.tenant.id, standing.userId, async (change) => {
    insistOn(change, 'member.invite');
    const { answers, entry } = await inviteEach(change, inputs);
    return { result: answers, entry };
  });
}

const NOT_INVITED = { 'already a member': 'already-member', 'already pending': 'already-pending' } as const;

/** The step for one of them. @throws LintelError `already-member`, `already-pending`, and why it was refused. */
async function inviteOne(change: Change, input: NewInvitation, expected = false): Promise<Done> {
  const { answers, entry } = await inviteEach(change, [input], expected);
  const { outcome, words, code, invitationId, token } = answers[0] as InviteAnswer;
  const [told] = entry;
  if (outcome === 'invited' && told) return { ...told, ...(invitationId && { id: invitationId }), ...(token && { secret: token }) };
  throw new LintelError(code ?? NOT_INVITED[outcome as keyof typeof NOT_INVITED], words, { address: input.address });
}

export const invitationSteps: Handlers<'invite' | 'expect' | 'send-again' | 'withdraw'> = {
  invite: {
    needs: () => 'member.invite',
    touches: () => ({}),
    run: (change, { do: _, ...input }) => inviteOne(change, input),
  },
  expect: {
    needs: () => 'member.invite',
    touches: () => ({}),
    run: (change, { do: _, ...input }) => inviteOne(change, input, true),
  },
  'send-again': {
    needs: () => 'member.invite',
    touches: () => ({}),
    run: async (change, { invitation }) => {
      const { tx, tenantId, at, actor, setting } = change;
      const row = await pendingById(change, invitation);
      const roles = rolesOf(setting.charter, row);
      insistOnGiving(
        change.giver,
        roles.map((role) => endingBy(role, row.member_until)),
      );
      await insistOnMore(change, roles, row.gives);
      await tx
        .updateTable('lintel_invitation')
        // Who was expected is invited from now on.
        .set({ expires_at: new Date(at.getTime() + setting.invitationDays * DAY), invited_by: actor.userId as string, expected: false })
        .where('tenant_id', '=', tenantId)
        .where('id', '=', invitation)
        .execute();
      const secret = await dispatchAgain(change, invitation);
      return { what: 'invitation sent again', event: { invitation }, ...(secret !== undefined && { secret }) };
    },
  },
  withdraw: {
    needs: () => 'member.invite',
    touches: () => ({}),
    run: async (change, { invitation }) => {
      const { tx, tenantId } = change;
      await pendingById(change, invitation);
      await tx.updateTable('lintel_invitation').set({ status: 'withdrawn' }).where('tenant_id', '=', tenantId).where('id', '=', invitation).execute();
      return { what: 'invitation withdrawn', event: { invitation } };
    },
  },
};

/** @throws LintelError `not-found`, `invitation-used` for one that is accepted, declined or withdrawn. */
async function pendingById({ tx, tenantId }: Change, id: string) {
  const row = await tx.selectFrom('lintel_invitation').selectAll().where('tenant_id', '=', tenantId).where('id', '=', id).executeTakeFirst();
  if (!row) throw new LintelError('not-found', 'There is no such invitation.', {});
  if (row.status !== 'pending') throw new LintelError('invitation-used', `This invitation is ${row.status} already; invite anew.`, { status: row.status });
  return row;
}

/** Invitations of the tenant that were sent by people of whom this standing may know, the newest first; at most 500. @throws LintelError `refused`. */
export async function listInvitations(
  setting: Setting,
  standing: Standing,
  { after, limit = 500 }: Part<Pick<Invitation, 'invitedAt' | 'id'>> = {},
): Promise<Invitation[]> {
  const known = insistOnPeople(standing);
  const rows = await setting.db
    .selectFrom('lintel_invitation as i')
    .select((eb) => [
      'i.id',
      'i.address_written',
      'i.name',
      'i.roles',
      'i.gives',
      'i.status',
      'i.expected',
      'i.invited_at',
      'i.expires_at',
      'i.member_until',
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
    .where(isKnown(known, standing.facts.tenant.id, sql.ref('i.invited_by')))
    .$if(after !== undefined, (qb) => qb.where(sql<boolean>`(i.invited_at, i.id) < (${after?.invitedAt}, ${after?.id})`))
    .orderBy('i.invited_at', 'desc')
    .orderBy('i.id', 'desc')
    .limit(limit)
    .execute();
  const charter = setting.charter.withRoles(await ownRoles(setting.db, setting.charter, standing.facts.tenant.id));
  return rows.map((row) => ({
    id: row.id,
    address: row.address_written,
    name: row.name,
    roles: rolesOf(charter, row).map((held) => ({ ...held, label: roleLabel(charter, held.role) })),
    gives: row.gives,
    status: statusAt(row, setting.now()),
    expected: row.expected,
    invitedAt: row.invited_at,
    expiresAt: row.expires_at,
    ...(row.member_until && { memberUntil: row.member_until }),
    mail: row.mail ?? 'none',
  }));
}

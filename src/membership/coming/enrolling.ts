import { type Kysely, sql, type Transaction } from 'kysely';
import { isLintelError, LintelError } from '../../base/index.js';
import { KEYHOLDER } from '../../charter/index.js';
import { everythingMet } from '../../standing/index.js';
import { type Change, changeTenant, type Handlers, insistOnApartOf, insistOnDomain, insistOnRules } from '../change/index.js';
import { endingBy, giverInTenant, insistOnGiving } from '../held/index.js';
import { assignmentRows, insistOnHolder, keyholderEnds, leaveRecords, readUntil } from '../steps/index.js';
import {
  idOfPerson,
  isSecret,
  keptAddress,
  type LintelTables,
  maskAddress,
  newToken,
  readAddress,
  readName,
  type Setting,
  splitToken,
  WITHOUT_ADDRESS,
} from '../terms/index.js';
import { keptRoles } from './invited.js';
import { insistOnPower } from './programs.js';
import { insistOnNoMore, insistOnSeat, joinTenant } from './tenants.js';

const DAY = 86_400_000;
/** Days for which what was handed over counts. */
const ACTIVATION_DAYS = 7;

/** Forged, used, replaced, run out: nothing more is said. */
const activationInvalid = () => new LintelError('activation-invalid', 'This does not count any more. Ask whoever gave it to you for a new one.', {});

/** A new way in to a kept account; the one before is dead. */
async function newActivation({ tx, tenantId, at, actor }: Change, userId: string): Promise<string> {
  const { token, hash } = newToken(tenantId, userId, 'shown');
  const row = { secret_hash: hash, made_by: actor.userId as string, expires_at: new Date(at.getTime() + ACTIVATION_DAYS * DAY) };
  await tx
    .insertInto('lintel_activation')
    .values({ tenant_id: tenantId, user_id: userId, ...row })
    .onConflict((c) => c.columns(['tenant_id', 'user_id']).doUpdateSet(row))
    .execute();
  return token;
}

export const enrollingSteps: Handlers<'enrol' | 'make-activation' | 'ask-password'> = {
  enrol: {
    needs: () => 'member.enrol',
    touches: ({ id }) => /* guard enrolled-within-power */ ({ users: id === undefined ? [] : [id] }),
    run: async (change, { id: given, address: raw, name, roles, memberUntil }) => {
      const { tx, tenantId, setting, at } = change;
      const address = readAddress(raw);
      const named = readName(name, 'the enrolled person');
      insistOnDomain(change, address.normal);
      const endsAt = readUntil(memberUntil, change);
      // guard enrolled-within-power by attack: Whoever enrols people could give them anything.
      insistOnGiving(
        change.giver,
        roles.map((role) => endingBy(role, endsAt)),
      );
      insistOnRules(change, roles);
      if (endsAt !== null && roles.some(({ role }) => role === KEYHOLDER)) throw keyholderEnds();
      const kept = keptAddress(tenantId, address.normal);
      const member = await tx
        .selectFrom('lintel_person as p')
        .innerJoin('lintel_member as m', 'm.user_id', 'p.id')
        .select('p.id')
        // guard enrol-tells-own-tenant by accounts: Whoever enrols people would hear of accounts elsewhere.
        .where('m.tenant_id', '=', tenantId)
        .where('p.address', 'in', [kept, address.normal])
        .executeTakeFirst();
      if (member) throw new LintelError('already-member', `${address.written} is a member already.`, { tenantId });
      await insistOnSeat(change);
      // Whoever was enrolled under this address before, and is no member any more, is somebody else.
      await tx
        .updateTable('lintel_person')
        .set({ address: sql`${WITHOUT_ADDRESS}::text || id` })
        .where('address', '=', kept)
        .execute();
      // The application is not told the address: whether one of its people has it already is nobody's to learn.
      const id = await idOfPerson(tx, setting, given, { name: named, isProgram: false, keptBy: tenantId });
      const made = await tx
        .insertInto('lintel_person')
        .values({ id, name: named, address: kept, address_written: address.written, kept_by: tenantId })
        .onConflict((c) => c.doNothing())
        .returning('id')
        .executeTakeFirst();
      if (!made) throw new LintelError('person-exists', `There is somebody with the id "${id}" already; each has an id of their own.`, { id });
      await joinTenant(tx, tenantId, id, at, await assignmentRows(change, roles), endsAt);
      await insistOnApartOf(change, id);
      const event = { user: id, roles: await keptRoles(change, roles), ...(endsAt && { endsAt: endsAt.toISOString() }) };
      return { what: 'member enrolled', event, words: { name: named, address: address.normal }, id, secret: await newActivation(change, id) };
    },
  },
  'make-activation': {
    needs: () => 'member.enrol',
    touches: () => ({}),
    run: async (change, { user }) => {
      const { tx, tenantId, actor } = change;
      await insistOnHolder(change, { user });
      // guard activation-for-others by accounts: Somebody could make an activation for themselves.
      if (user === actor.userId) throw new LintelError('own-power', 'Nobody makes a way in for themselves; ask another.', {});
      const { kept_by } = await tx.selectFrom('lintel_person').select('kept_by').where('id', '=', user).executeTakeFirstOrThrow();
      // guard activation-of-kept-account by accounts: A tenant could make an activation for an account that is its owner's.
      if (kept_by !== tenantId)
        throw new LintelError('not-kept', 'This account is its owner’s, and not the organisation’s: by “forgotten” they choose a new password themselves.', {});
      // guard activation-of-lesser by attack: Somebody could enter as an account that holds more than they may give.
      // guard activation-within-power by accounts: Somebody could make an activation for an account that holds more than they may give.
      await insistOnPower(change, user);
      return { what: 'activation made', event: { user }, secret: await newActivation(change, user) };
    },
  },
  'ask-password': {
    needs: () => 'member.suspend',
    touches: () => ({}),
    run: async (change, { user }) => {
      const { tx, tenantId } = change;
      await insistOnHolder(change, { user });
      await tx.updateTable('lintel_member').set({ asked_password: true }).where('tenant_id', '=', tenantId).where('user_id', '=', user).execute();
      return { what: 'password asked', event: { user } };
    },
  },
};

/** What somebody sees who was handed a way in. */
export interface ActivationView {
  readonly tenantId: string;
  readonly tenantName: string;
  readonly userId: string;
  readonly name: string;
  /** As it was given by whoever enrolled them. */
  readonly address: string;
  /** True for somebody who has come in before: they choose a new password. */
  readonly again: boolean;
  readonly expiresAt: Date;
}

type Db = Kysely<LintelTables> | Transaction<LintelTables>;

async function found(db: Db, now: number, token: unknown) {
  const [tenantId, userId, secret] = splitToken(token) ?? [];
  if (!tenantId || !userId || !secret) throw activationInvalid();
  const row = await db
    .selectFrom('lintel_activation as a')
    .innerJoin('lintel_person as p', 'p.id', 'a.user_id')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
    .innerJoin('lintel_tenant as t', 't.id', 'a.tenant_id')
    .select(['a.tenant_id', 'a.user_id', 'a.secret_hash', 'a.made_by', 'a.expires_at', 't.name as tenant', 'm.status', 'm.inactive_by', 'm.ends_at'])
    .select(['p.name', 'p.address', 'p.address_written', 'p.activated_at'])
    .where('a.tenant_id', '=', tenantId)
    .where('a.user_id', '=', userId)
    .where('t.status', '=', 'open')
    .executeTakeFirst();
  // guard activation-expires by accounts: An activation would never expire.
  if (!isSecret(`shown ${secret}`, row?.secret_hash ?? null) || !row || /* guard activation-expires */ row.expires_at.getTime() <= now)
    throw activationInvalid();
  return row;
}

/** Whose account a way in leads to; changes nothing. @throws LintelError `activation-invalid`. */
export async function lookAtActivation({ db, now }: Setting, token: string): Promise<ActivationView> {
  const row = await found(db, now(), token);
  return {
    tenantId: row.tenant_id,
    tenantName: row.tenant,
    userId: row.user_id,
    name: row.name,
    address: row.address_written,
    again: row.activated_at !== null,
    expiresAt: row.expires_at,
  };
}

/** Uses a way in up, in a change of its tenant; whoever made it has to be able to give, now, all that is held by it. */
async function use(change: Change, token: string) {
  const { tx, tenantId, setting } = change;
  const row = await found(tx, change.at.getTime(), token);
  const maker = await giverInTenant(tx, setting, { tenant: tenantId, user: row.made_by, fulfilled: everythingMet(setting.charter) });
  const mayStill =
    maker.now.may('member.enrol') &&
    (await insistOnPower({ ...change, giver: maker, actor: maker.now }, row.user_id).then(
      () => true,
      (error: unknown) => {
        if (isLintelError(error)) return false;
        throw error;
      },
    ));
  // guard activation-of-lesser
  // guard enrolled-within-power
  // guard activation-of-powerless-maker by accounts: An activation would outlive the power of whoever made it.
  if (!mayStill) throw new LintelError('activation-void', 'The person who gave you this may no longer give what it holds. Ask for a new one.', {});
  // guard activation-once by accounts: An activation could be used again.
  await tx.deleteFrom('lintel_activation').where('tenant_id', '=', tenantId).where('user_id', '=', row.user_id).execute();
  return row;
}

/** Whoever was handed a way in has used it: from now on the account is somebody's. Of several at once, one does. @throws LintelError `activation-invalid`, `activation-void`. */
export async function spendActivation(setting: Setting, token: string): Promise<{ readonly userId: string; readonly tenantId: string }> {
  const { tenant_id: tenantId } = await found(setting.db, setting.now(), token);
  return changeTenant(setting, tenantId, undefined, async (change) => {
    const { user_id: userId } = await use(change, token);
    const came = await change.tx
      .updateTable('lintel_member')
      .set({ expected: false })
      .where('tenant_id', '=', tenantId)
      .where('user_id', '=', userId)
      .where('expected', '=', true)
      .executeTakeFirst();
    // Whom a directory has named takes a seat from now on.
    if (came.numUpdatedRows > 0n) await insistOnNoMore(change);
    await change.tx.updateTable('lintel_person').set({ activated_at: change.at }).where('id', '=', userId).execute();
    return { result: { userId, tenantId }, entry: { what: 'member activated', event: { user: userId } } };
  });
}

/**
 * Somebody who has an account of their own, under the address that was enrolled, takes the place of the one that was made for them: what that holds, and what is linked to it or
 * owned by it, is theirs. The kept account is gone.
 *
 * @throws LintelError `activation-invalid`, `activation-void`; `other-address` unless they have proven that address; `already-member`, `suspended`, `no-account`, `kept-account`.
 */
export async function takePlace(setting: Setting, userId: string, token: string): Promise<{ readonly tenantId: string }> {
  const { tenant_id: tenantId } = await found(setting.db, setting.now(), token);
  return changeTenant(setting, tenantId, userId, async (change) => {
    const { tx, at, actor } = change;
    const person = await tx.selectFrom('lintel_person').selectAll().where('id', '=', userId).executeTakeFirst();
    if (!person) throw new LintelError('no-account', 'Sign in or make an account first.', {});
    const row = await use(change, token);
    const { name: tenant } = actor.facts.tenant;
    if (row.activated_at !== null) throw new LintelError('kept-account', `This account at ${tenant} has a password of its own. Choose a new one for it.`, {});
    // guard place-of-same-address by accounts: Somebody with another address could take the place.
    if (person.confirmed_at === null || keptAddress(tenantId, person.address) !== row.address) {
      const masked = maskAddress(row.address_written);
      throw new LintelError('other-address', `${tenant} knows you as ${masked}. Sign in with an account that has proven that address, or choose a password.`, {
        invited: masked,
      });
    }
    if (actor.facts.subject === 'member') throw new LintelError('already-member', `You are a member of ${tenant} already.`, { tenantId });
    if (actor.facts.subject === 'suspended' || row.status !== 'active' || row.inactive_by.length > 0)
      throw new LintelError('suspended', `Your membership of ${tenant} is suspended.`, { tenantId });
    await joinTenant(tx, tenantId, userId, at, [], row.ends_at);
    await passOn(change, row.user_id, userId);
    return { result: { tenantId }, entry: { what: 'place taken', event: { user: userId, of: row.user_id } } };
  });
}

/** Columns that name a member. Whoever never came in has made, asked and answered nothing. */
const NAMED = [
  ['lintel_assignment', 'user_id'],
  ['lintel_placement', 'user_id'],
  ['lintel_group_member', 'user_id'],
  ['lintel_opening', 'to_user'],
  ['lintel_opening_kept', 'user_id'],
  ['lintel_deputy', 'of_id'],
  ['lintel_deputy', 'to_id'],
  ['lintel_member', 'responsible_id'],
] as const;

async function passOn(change: Change, from: string, to: string): Promise<void> {
  const { tx, tenantId } = change;
  for (const [table, column] of NAMED)
    await sql`update ${sql.table(table)} set ${sql.ref(column)} = ${to} where tenant_id = ${tenantId} and ${sql.ref(column)} = ${from}`.execute(tx);
  await sql`update lintel_member m set attributes = k.attributes, asked_password = k.asked_password from lintel_member k
    where m.tenant_id = ${tenantId} and m.user_id = ${to} and k.tenant_id = ${tenantId} and k.user_id = ${from}`.execute(tx);
  await tx.deleteFrom('lintel_member').where('tenant_id', '=', tenantId).where('user_id', '=', from).execute();
  await tx.deleteFrom('lintel_person_tenant').where('tenant_id', '=', tenantId).where('person_id', '=', from).execute();
  await tx
    .updateTable('lintel_person')
    .set({ address: `${WITHOUT_ADDRESS}${from}` })
    .where('id', '=', from)
    .execute();
  await leaveRecords(change, from, to);
}

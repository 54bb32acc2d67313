import type { AuthenticationResponseJSON } from '@simplewebauthn/server';
import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import { dropLinks, lookAtLink, spendLink } from '../mail/index.js';
import { lockPerson, passwordChosen } from '../membership/index.js';
import { codeIsRight } from './factors.js';
import { type Ground, notSignedIn, signInFailed, type Tx } from './ground.js';
import type { Coming } from './options.js';
import { BY_PASSKEY, ownerByPasskey } from './passkeys.js';
import type { Session } from './sessions.js';
import type { AccountTables } from './tables.js';
import { forgive } from './tries.js';

export async function keepPassword(tx: Kysely<AccountTables>, userId: string, hash: string, now: number): Promise<void> {
  const row = { password_hash: hash, set_at: new Date(now), must_change: false };
  await tx
    .insertInto('lintel_credential')
    .values({ person_id: userId, ...row })
    .onConflict((c) => c.column('person_id').doUpdateSet(row))
    .execute();
  await passwordChosen(tx as never, userId);
}

/**
 * Sets a password, and ends every session, device and link beside it. The person is locked: whoever signs in with the password before comes in before this, and is signed out by it, or
 * not at all.
 *
 * @param but a session that goes on.
 */
export async function replacePassword({ sessions, now }: Ground, tx: Tx, userId: string, hash: string, but?: string) {
  await lockPerson(tx as never, userId);
  const person = await tx.selectFrom('lintel_person').select(['id', 'name', 'address', 'address_written']).where('id', '=', userId).executeTakeFirst();
  if (!person) throw notSignedIn();
  await keepPassword(tx, userId, hash, now);
  // guard sessions-end-with-password by accounts: Sessions would go on after the password changed.
  await sessions.end(tx, userId, { but });
  // guard devices-end-with-password by accounts: A device would stay trusted after the password changed.
  await tx.deleteFrom('lintel_device').where('person_id', '=', userId).execute();
  await dropLinks(tx, person.address);
  return { id: userId, name: person.name, address: person.address_written };
}

const hasFactor = async (ground: Ground, userId: string | undefined) => userId !== undefined && (await ground.factorsOf(userId)).length > 0;

/** By what somebody shows again who they are. */
export type Proof = { readonly password: string } | { readonly code: string } | { readonly passkey: AuthenticationResponseJSON };

export async function prove(ground: Ground, token: string, by: Proof, coming: Coming): Promise<Session> {
  const row = await ground.own(token);
  if ('passkey' in by) {
    const owner = await ownerByPasskey(ground, by.passkey);
    // guard proof-by-own-passkey by accounts: Another person's passkey would prove who one is.
    if (owner !== row.person_id) throw signInFailed();
  } else if ('code' in by) await ground.counted(`code ${row.person_id}`, () => codeIsRight(ground, row.person_id, by.code));
  else {
    // guard password-no-proof-beside-factor by accounts: The password alone would prove who one is beside a second factor.
    if (row.has_factor) throw new LintelError('code-needed', 'Your account has a second factor: give a code of it.', {});
    await ground.insistOnPassword(row, by.password, coming);
  }
  return ground.inTransaction((tx) => ground.sessions.renew(tx, row.token_hash, 'passkey' in by ? BY_PASSKEY : 'code' in by ? ['otp'] : ['pwd'], ground.now));
}

export async function changePassword(
  ground: Ground,
  token: string,
  { present, next }: { readonly present: string; readonly next: string },
  coming: Coming,
): Promise<Session> {
  const row = await ground.own(token);
  if (row.has_factor) ground.insistOnLately(row);
  await ground.insistOnPassword(row, present, coming);
  const hash = await ground.newHash(next, [row.name, row.address], coming, row.has_factor);
  return ground.inTransaction(async (tx) => {
    const person = await replacePassword(ground, tx, row.person_id, hash, row.id);
    await ground.tell(tx, 'password-changed', person);
    return ground.sessions.renew(tx, row.token_hash, ['pwd'], ground.now);
  });
}

export async function recover(ground: Ground, input: { readonly token: string; readonly password: string } & Coming): Promise<void> {
  const { address } = await lookAtLink(ground.db, 'forgotten', input.token, ground.now);
  const person = await ground.lintel.personByAddress(address);
  const hash = await ground.newHash(input.password, [person?.name ?? '', address], input, await hasFactor(ground, person?.id));
  await ground.inTransaction(async (tx) => {
    if (person) await lockPerson(tx as never, person.id);
    await spendLink(tx, 'forgotten', input.token, ground.now);
    // The address may be another's by now.
    const owner = await ground.lintel.within(tx).personByAddress(address);
    if (!person || owner?.id !== person.id || owner.confirmedAt === null) throw new LintelError('link-invalid', 'This link does not count any more.', {});
    await forgive(tx, await ground.keyOf(address));
    await ground.tell(tx, 'password-changed', await replacePassword(ground, tx, person.id, hash));
  });
}

export async function setPassword(ground: Ground, userId: string, password: string): Promise<void> {
  const person = await ground.db.selectFrom('lintel_person').select(['name', 'address']).where('id', '=', userId).executeTakeFirst();
  const hash = await ground.newHash(password, person ? [person.name, person.address] : [], {});
  await ground.inTransaction(async (tx) => {
    await replacePassword(ground, tx, userId, hash);
  });
}

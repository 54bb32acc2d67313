import type {
  AuthenticationResponseJSON,
  PublicKeyCredentialCreationOptionsJSON,
  PublicKeyCredentialRequestOptionsJSON,
  RegistrationResponseJSON,
} from '@simplewebauthn/server';
import { LintelError } from '../base/index.js';
import { lockPerson } from '../membership/index.js';
import { dropCodes, ownerOf, renewCodes, spendOwnLink } from './factors.js';
import { type Ground, type Row, signInFailed, type Tx } from './ground.js';
import type { Coming, Entered } from './options.js';
import { type Session, sha256 } from './sessions.js';

/** A passkey, as its owner sees it. */
export interface MyPasskey {
  readonly id: string;
  readonly label: string | null;
  readonly madeAt: Date;
  readonly usedAt: Date | null;
}

const CHALLENGE_MINUTES = 5;
/** Possession of a key, and a person who was verified by it: two factors in one (RFC 8176). */
export const BY_PASSKEY = ['hwk', 'mfa'] as const;

function termsOf({ options }: Ground) {
  if (!options.passkeys)
    throw new LintelError('option-missing', 'passkeys are of a domain; give Accounts passkeys: { id: "app.example", origins: ["https://app.example"] }', {});
  const { id, origins } = options.passkeys;
  return { id, origins: [...(typeof origins === 'function' ? origins() : origins)] };
}

/** Each counts once, for what it was made for, and of whoever it was made for. */
async function keepChallenge(ground: Ground, challenge: string, owner: string): Promise<void> {
  const now = new Date(ground.now);
  await ground.db.deleteFrom('lintel_challenge').where('expires_at', '<', now).execute();
  await ground.db
    .insertInto('lintel_challenge')
    .values({ hash: sha256(challenge), owner, expires_at: new Date(ground.now + CHALLENGE_MINUTES * 60_000) })
    .execute();
}

const takesChallenge = (ground: Ground, owner: string) => async (challenge: string) => {
  const taken = await ground.db
    .deleteFrom('lintel_challenge')
    .where('hash', '=', sha256(challenge))
    .where('owner', '=', owner)
    .where('expires_at', '>', new Date(ground.now))
    .executeTakeFirst();
  // guard challenge-once by accounts: The challenge of a passkey could be used again.
  if (taken.numDeletedRows !== 1n) return false;
  return true;
};

/** What is wrong with an answer of an authenticator is nobody's business outside. */
const orFailed = async <R>(work: Promise<R>): Promise<R> => {
  try {
    return await work;
  } catch {
    throw signInFailed();
  }
};

const registering = (row: Row) => `add ${row.person_id}`;

/** The first factor of an account takes the link of a letter too. */
export async function beginPasskey(ground: Ground, token: string, link: string | undefined): Promise<PublicKeyCredentialCreationOptionsJSON> {
  const row = await ground.ownLately(token);
  const { id } = termsOf(ground);
  // guard first-passkey-needs-letter by accounts: The first passkey could be added without a letter to the owner.
  if (!row.has_factor) await ground.inTransaction((tx) => spendOwnLink(ground, tx, row, link));
  const { generateRegistrationOptions } = await import('@simplewebauthn/server');
  const mine = await ground.db.selectFrom('lintel_passkey').select('id').where('person_id', '=', row.person_id).execute();
  const options = await generateRegistrationOptions({
    rpName: ground.options.name ?? 'Account',
    rpID: id,
    userName: row.address_written,
    userDisplayName: row.name,
    // Names nobody: an authenticator shows it to whoever holds it.
    userID: new Uint8Array(Buffer.from(sha256(await ground.keyOf(`passkey ${row.person_id}`)), 'hex')),
    attestationType: 'none',
    authenticatorSelection: { residentKey: 'required', userVerification: 'required' },
    excludeCredentials: mine.map((one) => ({ id: one.id })),
  });
  await keepChallenge(ground, options.challenge, registering(row));
  return options;
}

export async function addPasskey(
  ground: Ground,
  token: string,
  response: RegistrationResponseJSON,
  label: string | undefined,
): Promise<{ readonly session: Session; readonly recoveryCodes?: readonly string[] }> {
  const row = await ground.ownLately(token);
  const { id, origins } = termsOf(ground);
  const { verifyRegistrationResponse } = await import('@simplewebauthn/server');
  const expectedChallenge = takesChallenge(ground, registering(row));
  const { verified, registrationInfo } = await orFailed(
    verifyRegistrationResponse({ response, expectedChallenge, expectedOrigin: origins, expectedRPID: id, requireUserVerification: true }),
  );
  if (!verified) throw signInFailed();
  const { credential } = registrationInfo;
  return ground.inTransaction(async (tx) => {
    await lockPerson(tx as never, row.person_id);
    const added = await tx
      .insertInto('lintel_passkey')
      .values({
        id: credential.id,
        person_id: row.person_id,
        public_key: Buffer.from(credential.publicKey).toString('base64url'),
        counter: credential.counter,
        label: label?.slice(0, 100) ?? null,
        made_at: new Date(ground.now),
        used_at: null,
      })
      .onConflict((c) => c.doNothing())
      .executeTakeFirst();
    if (added.numInsertedOrUpdatedRows === 0n) throw signInFailed();
    const recoveryCodes = row.has_factor ? undefined : await renewCodes(tx, row.person_id);
    await ground.sessions.end(tx, row.person_id, { but: row.id });
    await ground.tell(tx, 'factor-added', ownerOf(row));
    const session = await ground.sessions.renew(tx, row.token_hash, BY_PASSKEY, ground.now);
    return { session, ...(recoveryCodes && { recoveryCodes }) };
  });
}

/** What a browser asks an authenticator. It lists no passkey: whoever asks learns of none. */
export async function beginPasskeySignIn(ground: Ground): Promise<PublicKeyCredentialRequestOptionsJSON> {
  const { generateAuthenticationOptions } = await import('@simplewebauthn/server');
  const options = await generateAuthenticationOptions({ rpID: termsOf(ground).id, userVerification: 'required' });
  await keepChallenge(ground, options.challenge, 'enter');
  return options;
}

/** Whose passkey answered. @throws LintelError `sign-in-failed`. */
export async function ownerByPasskey(ground: Ground, response: AuthenticationResponseJSON): Promise<string> {
  const { id, origins } = termsOf(ground);
  const kept = await ground.db.selectFrom('lintel_passkey').selectAll().where('id', '=', String(response?.id)).executeTakeFirst();
  if (!kept) throw signInFailed();
  const { verifyAuthenticationResponse } = await import('@simplewebauthn/server');
  const { verified, authenticationInfo } = await orFailed(
    verifyAuthenticationResponse({
      response,
      expectedChallenge: takesChallenge(ground, 'enter'),
      expectedOrigin: origins,
      expectedRPID: id,
      // guard passkey-verifies-user by accounts: A passkey would count without verifying its user.
      requireUserVerification: /* guard passkey-verifies-user (negated) */ true,
      credential: { id: kept.id, publicKey: new Uint8Array(Buffer.from(kept.public_key, 'base64url')), counter: Number(kept.counter) },
    }),
  );
  if (!verified) throw signInFailed();
  // A counter that does not grow was copied: of two at once one is right.
  const { newCounter } = authenticationInfo;
  const used = await ground.db
    .updateTable('lintel_passkey')
    .set({ counter: newCounter, used_at: new Date(ground.now) })
    .where('id', '=', kept.id)
    .where('counter', '=', kept.counter)
    .executeTakeFirst();
  if (used.numUpdatedRows !== 1n) throw signInFailed();
  // guard deactivated-no-passkey by accounts: A deactivated account could sign in by a passkey.
  await ground.insistOnActive(kept.person_id);
  return kept.person_id;
}

export async function signInByPasskey(ground: Ground, response: AuthenticationResponseJSON, coming: Coming): Promise<Entered> {
  const takeBack = await ground.places.count(coming.from);
  const userId = await ownerByPasskey(ground, response);
  await takeBack();
  return ground.inTransaction((tx) => ground.enter(tx, userId, BY_PASSKEY, coming));
}

export async function myPasskeys(ground: Ground, token: string): Promise<MyPasskey[]> {
  const row = await ground.own(token);
  const all = await ground.db
    .selectFrom('lintel_passkey')
    .select(['id', 'label', 'made_at', 'used_at'])
    .where('person_id', '=', row.person_id)
    .orderBy('made_at')
    .execute();
  return all.map(({ made_at, used_at, ...one }) => ({ ...one, madeAt: made_at, usedAt: used_at }));
}

export async function removePasskey(ground: Ground, token: string, id: string): Promise<void> {
  const row = await ground.ownLately(token);
  await ground.inTransaction(async (tx) => {
    await lockPerson(tx as never, row.person_id);
    const gone = await tx.deleteFrom('lintel_passkey').where('person_id', '=', row.person_id).where('id', '=', id).executeTakeFirst();
    if (gone.numDeletedRows === 0n) throw new LintelError('not-found', 'There is no such passkey.', {});
    // guard way-in-remains by accounts: An account could lose its last way in.
    await insistOnWayIn(tx, row.person_id);
    await dropCodes(tx, row.person_id);
    await ground.sessions.end(tx, row.person_id, { but: row.id });
    await ground.tell(tx, 'factor-removed', ownerOf(row));
  });
}

/** @throws LintelError `last-way-in`. */
async function insistOnWayIn(tx: Tx, userId: string): Promise<void> {
  for (const table of ['lintel_credential', 'lintel_passkey'] as const)
    if (await tx.selectFrom(table).select('person_id').where('person_id', '=', userId).limit(1).executeTakeFirst()) return;
  throw new LintelError('last-way-in', 'This is the last way by which you come in. Add another first.', {});
}

import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import { type LinkUse, lookAtLink, spendLink } from '../mail/index.js';
import type { Lintel, Signed } from '../server/index.js';
import { askFor } from './asking.js';
import { type ByConnection, enterByConnection } from './by-connection.js';
import { askForFactor, beginFactor, confirmFactor, type NewFactor, newRecoveryCodes, removeFactor } from './factors.js';
import { Ground, notSignedIn } from './ground.js';
import { choosePassword, type FirstPassword, takePlace } from './kept.js';
import { type Activation, activate, type Joining, joinByInvitation } from './letters.js';
import { met } from './obligations.js';
import type { AccountsOptions, Coming, Entered, HalfWay, SignInOnRecord } from './options.js';
import { addPasskey, beginPasskey, beginPasskeySignIn, type MyPasskey, myPasskeys, removePasskey, signInByPasskey } from './passkeys.js';
import { changePassword, type Proof, prove, recover, setPassword } from './password.js';
import { type MySession, type Session, type SignedIn, sha256, whoIs } from './sessions.js';
import { type Code, giveCode, type SignIn, signIn } from './signing-in.js';

/**
 * People's passwords, second factors and sign-in sessions, for an application that has none of its own. Secrets are given out once and kept as hashes, or sealed; whoever is not
 * signed in gets the same answers, by the same work, whether or not there is an account.
 */
export class Accounts {
  readonly #ground: Ground;

  constructor(lintel: Lintel<any>, options: AccountsOptions = {}, shared?: Pick<Ground, 'hashing' | 'places'>) {
    this.#ground = new Ground(lintel, options, shared);
  }

  /** The same inside a transaction of the application's own. */
  within(tx: Kysely<any>): Accounts {
    const { lintel, options } = this.#ground;
    return new Accounts(lintel.within(tx), options, this.#ground);
  }

  /** How many passwords were hashed or compared since the start. */
  get hashes(): number {
    return this.#ground.hashing.runs;
  }

  /** The terms that are to be accepted, if any are. */
  get terms(): AccountsOptions['terms'] {
    return this.#ground.options.terms;
  }

  // ---- Coming to an account

  /**
   * Asks for an account: a letter goes to the address, with a link by which it is made ({@link activate}). Until then there is none. Where there is one already, the letter
   * says so to its owner; whoever asks is told nothing.
   *
   * @throws LintelError `sign-up-closed`, `no-mailer`, `bad-address`, `look-alike-address`, `too-fast`.
   */
  async signUp(input: { readonly address: string } & Coming): Promise<void> {
    if (this.#ground.options.signUp === 'closed') throw new LintelError('sign-up-closed', 'Accounts are made by invitation here.', {});
    await askFor(this.#ground, 'sign-up', input);
  }

  /** To which address a link went, of {@link signUp}, {@link forgotten} or {@link askForFactor}, or one of {@link keepFactors}. Changes nothing. @throws LintelError `link-invalid`. */
  lookAtLink(what: LinkUse, token: string): Promise<{ readonly address: string }> {
    return lookAtLink(this.#ground.db, what, token, this.#ground.now);
  }

  /**
   * Makes the account whose link was followed, with a password, signs its owner in, and opens a tenant of theirs where sign-up does. An account that had the address
   * without ever proving it loses it, and nothing of it comes over.
   *
   * @throws LintelError `link-invalid`, `weak-password`, `bad-name`, `too-fast`: the link counts still.
   */
  activate(input: Activation): Promise<Entered & { readonly tenantId?: string }> {
    return activate(this.#ground, input);
  }

  /**
   * Makes an account for somebody who was invited, under the invited address, and takes them in. The mailed link proves the address.
   *
   * @throws LintelError `weak-password`, `bad-name`, `address-taken`, and those of an invitation.
   */
  joinByInvitation(input: Joining): Promise<Entered & { readonly tenantId: string }> {
    return joinByInvitation(this.#ground, input);
  }

  /**
   * Chooses the password of an account that a tenant keeps, by the way in that was handed over; it signs in to that tenant alone, at the tenant's own sign-in page
   * (`signIn({ tenant, ... })`). What they came in by before, second factors too, counts no more.
   *
   * @throws LintelError `activation-invalid`, `activation-void`; `weak-password`, `too-fast`: the way in counts still.
   */
  choosePassword(input: FirstPassword): Promise<Entered & { readonly tenantId: string }> {
    return choosePassword(this.#ground, input);
  }

  /**
   * Somebody with an account of their own, who has proven the address under which they were enrolled, takes the place of the account that was made for them.
   *
   * @throws LintelError `no-account`, `session-bound`, `prove-first`, `other-address`, `already-member`, `suspended`, `activation-invalid`, `activation-void`, `kept-account`.
   */
  takePlace(token: string, activation: string): Promise<{ readonly tenantId: string }> {
    return takePlace(this.#ground, token, activation);
  }

  // ---- Signing in

  /**
   * Signs somebody in. Wrong tries are counted by address, in the database: five are free, then each waits longer, and the tenth locks for a quarter of an hour and longer each time. A device
   * that has signed in before has a count of its own.
   *
   * @param input `device`: what {@link Entered} gave this device.
   * @returns `next: 'secondFactor'` where the account has one: then nobody is signed in before {@link giveCode}.
   * @throws LintelError `sign-in-failed`: the same for a wrong password, no such account, and too many tries; `too-fast` for too many from one place.
   */
  signIn(input: SignIn): Promise<Entered | HalfWay> {
    return signIn(this.#ground, input);
  }

  /**
   * Goes on from the password to the second factor: a code of the authenticator, or one of the ten recovery codes, each of which counts once. Wrong ones count as wrong passwords do.
   *
   * @param token of {@link signIn}.
   * @throws LintelError `sign-in-failed`.
   */
  giveCode(token: string, given: Code, coming: Coming = {}): Promise<Entered> {
    return giveCode(this.#ground, token, given, coming);
  }

  /** Starts a session for somebody whose identity the application has proven. `enters`: the tenants that it enters; absent: all of theirs. */
  startSession(
    userId: string,
    how: { readonly methods?: readonly string[]; readonly enters?: readonly string[]; readonly hours?: number } & Coming = {},
  ): Promise<Session> {
    const { methods = [], ...more } = how;
    return this.#ground.inTransaction((tx) => this.#ground.sessions.begin(tx, userId, this.#ground.now, { methods, ...more }));
  }

  /**
   * Starts the session of somebody who came by a connection of a tenant, as `lintel.arrive` has let them in. It enters that tenant alone, for 12 hours at most, touches nothing of the person, and ends
   * when the connection is turned off.
   *
   * @throws LintelError `sign-on-failed` where the connection is not on, or `within` is no session of theirs by it.
   */
  enterByConnection(given: ByConnection): Promise<Session> {
    return enterByConnection(this.#ground, given);
  }

  /** Who a session's secret belongs to; undefined when it is none, or has ended. */
  async signedIn(token: string | undefined): Promise<SignedIn | undefined> {
    const row = await this.#ground.sessions.read(this.#ground.db, token, this.#ground.now);
    return row && whoIs(row);
  }

  /**
   * Who sends a request, as `enter`, the face and middleware take it: with the tenants that the session enters, and the obligations that it meets. Hand it on whole.
   *
   * @param also obligations of the application's own that are met.
   */
  async sender(token: string | undefined, also: readonly string[] = []): Promise<(Signed & { readonly fulfilled: readonly string[] }) | undefined> {
    const row = await this.#ground.sessions.read(this.#ground.db, token, this.#ground.now);
    if (!row) return undefined;
    const { userId, enters, sessionId } = whoIs(row);
    return { user: userId, ...(enters && { enters }), session: sessionId, fulfilled: [...met(this.#ground, row), ...also] };
  }

  /**
   * Whose session it is, where they have shown lately by something of their own who they are: what binds an account to something else takes that.
   *
   * @throws LintelError `no-account`, `session-bound`, `prove-first`.
   */
  async provenLately(token: string): Promise<SignedIn> {
    return whoIs(await this.#ground.ownLately(token));
  }

  /** Ends a session. One that is none is no error. */
  async signOut(token: string): Promise<void> {
    await this.#ground.db.deleteFrom('lintel_session').where('token_hash', '=', sha256(token)).execute();
  }

  // ---- Of one's own: each takes the secret of a session, and refuses one that is bound to tenants

  /**
   * Shows again who one is, within a session: `recentSignIn` is met anew. The session goes on under another secret. Where there is a second factor it takes a code of it, which the
   * session gives from then on.
   *
   * @throws LintelError `no-account`, `session-bound`, `sign-in-failed`, `too-fast`; `code-needed` for a password where there is a second factor.
   */
  prove(token: string, by: Proof, coming: Coming = {}): Promise<Session> {
    return prove(this.#ground, token, by, coming);
  }

  /**
   * Chooses another password, by the present one. Every other session and every device ends, and the person is told.
   *
   * @returns the session, under another secret.
   * @throws LintelError `no-account`, `session-bound`, `sign-in-failed`, `weak-password`, `too-fast`; `prove-first` where there is a second factor and no code of it was given lately.
   */
  changePassword(token: string, passwords: { readonly present: string; readonly next: string }, coming: Coming = {}): Promise<Session> {
    return changePassword(this.#ground, token, passwords, coming);
  }

  /**
   * Asks for a second factor: its first takes a password that was given lately, and a letter whose link {@link beginFactor} takes.
   *
   * @throws LintelError `no-account`, `session-bound`, `prove-first`, `address-not-confirmed`, `no-mailer`, `too-fast`.
   */
  askForFactor(token: string, coming: Coming = {}): Promise<void> {
    return askForFactor(this.#ground, token, coming);
  }

  /** What an authenticator takes. It counts once {@link confirmFactor} was given its first code. @throws LintelError as {@link askForFactor}; `link-invalid`, `factor-exists`, `option-missing` without `secrets`. */
  beginFactor(token: string, link?: string): Promise<NewFactor> {
    return beginFactor(this.#ground, token, link);
  }

  /**
   * From now on signing in takes a code. Every other session ends, and the person is told.
   *
   * @returns ten recovery codes, shown once; and the session, under another secret.
   * @throws LintelError `no-account`, `session-bound`, `prove-first`, `sign-in-failed` for a wrong code.
   */
  confirmFactor(token: string, code: string): Promise<{ readonly session: Session; readonly recoveryCodes: readonly string[] }> {
    return confirmFactor(this.#ground, token, code);
  }

  /** Ten recovery codes in the place of those before. @throws LintelError `no-account`, `session-bound`, `prove-first`, `not-found` without a second factor. */
  newRecoveryCodes(token: string): Promise<readonly string[]> {
    return newRecoveryCodes(this.#ground, token);
  }

  /** From now on signing in takes the password alone; every other session ends, and the person is told. @throws LintelError as {@link newRecoveryCodes}. */
  removeFactor(token: string): Promise<void> {
    return removeFactor(this.#ground, token);
  }

  /**
   * What a browser makes a passkey of (`@simplewebauthn/browser`). The first factor of an account takes the link of {@link askForFactor} besides.
   *
   * @throws LintelError `no-account`, `session-bound`, `prove-first`, `link-needed`, `link-invalid`, `option-missing` without `passkeys`.
   */
  beginPasskey(token: string, link?: string): ReturnType<typeof beginPasskey> {
    return beginPasskey(this.#ground, token, link);
  }

  /**
   * Adds the passkey that the browser made. Every other session ends, and the person is told.
   *
   * @returns the session, under another secret; ten recovery codes, shown once, where it is the first factor.
   * @throws LintelError `no-account`, `session-bound`, `prove-first`, `sign-in-failed`.
   */
  addPasskey(token: string, response: Parameters<typeof addPasskey>[2], label?: string): ReturnType<typeof addPasskey> {
    return addPasskey(this.#ground, token, response, label);
  }

  /** What a browser asks an authenticator, to sign in or to prove. It lists no passkey. @throws LintelError `option-missing` without `passkeys`. */
  beginPasskeySignIn(): ReturnType<typeof beginPasskeySignIn> {
    return beginPasskeySignIn(this.#ground);
  }

  /** Signs somebody in by a passkey alone: it is two factors. No lock stops it. @throws LintelError `sign-in-failed`, `too-fast`. */
  signInByPasskey(response: Parameters<typeof signInByPasskey>[1], coming: Coming = {}): Promise<Entered> {
    return signInByPasskey(this.#ground, response, coming);
  }

  /** @throws LintelError `no-account`, `session-bound`. */
  myPasskeys(token: string): Promise<MyPasskey[]> {
    return myPasskeys(this.#ground, token);
  }

  /** Every other session ends, and the person is told. @throws LintelError `no-account`, `session-bound`, `prove-first`, `not-found`, `last-way-in`. */
  removePasskey(token: string, id: string): Promise<void> {
    return removePasskey(this.#ground, token, id);
  }

  /** Where one is signed in, what was used last first. @throws LintelError `no-account`, `session-bound`. */
  async mySessions(token: string): Promise<MySession[]> {
    const { person_id, id } = await this.#ground.own(token);
    return this.#ground.sessions.list(this.#ground.db, person_id, id, this.#ground.now);
  }

  /** Ends one of one's sessions. @throws LintelError `no-account`, `session-bound`; `not-found` for one that is none of theirs. */
  async endSession(token: string, id: string): Promise<void> {
    const { person_id } = await this.#ground.own(token);
    if ((await this.#ground.sessions.end(this.#ground.db, person_id, { id })) === 0) throw new LintelError('not-found', 'There is no such session.', {});
  }

  /** Ends all of one's sessions but this one, and answers how many. @throws LintelError `no-account`, `session-bound`. */
  async endOtherSessions(token: string): Promise<number> {
    const { person_id, id } = await this.#ground.own(token);
    return this.#ground.sessions.end(this.#ground.db, person_id, { but: id });
  }

  /** When and how one signed in, or somebody tried to, the latest first. @throws LintelError `no-account`, `session-bound`. */
  async mySignIns(token: string): Promise<SignInOnRecord[]> {
    const { person_id, address } = await this.#ground.own(token);
    const who = [person_id, await this.#ground.keyOf(address)];
    return this.#ground.db
      .selectFrom('lintel_sign_in')
      .select(['at', 'method', 'outcome', 'place'])
      .where('who', 'in', who)
      .orderBy('at', 'desc')
      .limit(100)
      .execute();
  }

  /** Accepts the terms, in the version that was shown; in a session that is bound to tenants, for these. @throws LintelError `no-account`; `terms-changed` where another version counts. */
  async acceptTerms(token: string, version: string): Promise<void> {
    const { db, now, options, sessions } = this.#ground;
    const row = await sessions.read(db, token, now);
    if (!row) throw notSignedIn();
    if (version !== options.terms?.version) throw new LintelError('terms-changed', 'The terms have changed since. Read them once more.', {});
    await db
      .insertInto('lintel_accepted')
      .values({ person_id: row.person_id, version, scope: row.enters?.join('\n') ?? '', at: new Date(now) })
      .onConflict((c) => c.doNothing())
      .execute();
  }

  // ---- Somebody who cannot get in

  /**
   * Asks for a new password: a letter with a link goes to the address. Whether there is an account is told in the letter alone.
   *
   * @throws LintelError `no-mailer`, `bad-address`, `look-alike-address`, `too-fast`.
   */
  async forgotten(input: { readonly address: string } & Coming): Promise<void> {
    await askFor(this.#ground, 'forgotten', input);
  }

  /**
   * Sets the password of whoever followed the link. Every session, device and link of theirs ends, and they are told; then they sign in, with the second factor where they have one.
   *
   * @throws LintelError `link-invalid`; `weak-password`, `too-fast`: the link counts still.
   */
  recover(input: { readonly token: string; readonly password: string } & Coming): Promise<void> {
    return recover(this.#ground, input);
  }

  /** Keeps the second factors that somebody of the platform was asked to remove, by the link in the letter. @throws LintelError `link-invalid`. */
  async keepFactors(token: string): Promise<void> {
    await spendLink(this.#ground.db, 'keep-factors', token, this.#ground.now);
  }

  // ---- For code of the application

  /** Sets a person's password, and ends their sessions, devices and links. They are told nothing: that is for whoever calls this. @throws LintelError `weak-password`. */
  setPassword(userId: string, password: string): Promise<void> {
    return setPassword(this.#ground, userId, password);
  }

  /** Asks somebody for another password: the obligation `choosePassword` is open until they have chosen one. */
  async askForPassword(userId: string): Promise<void> {
    await this.#ground.db.updateTable('lintel_credential').set({ must_change: true }).where('person_id', '=', userId).execute();
  }
}

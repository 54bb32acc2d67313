import type { Kysely } from 'kysely';
import { hashOf, inTransaction, isLintelError, LintelError, newId } from '../base/index.js';
import { askForLink, dropLinks, type LinkUse, lookAtLink, useLink } from '../mail/index.js';
import { lockPerson, readAddress, secretOf, tell } from '../membership/index.js';
import type { Lintel, Signed } from '../server/index.js';
import { Hashing } from './hashing.js';
import { type PasswordRules, readPassword, written } from './passwords.js';
import { type MySession, type Session, Sessions, type SessionTerms, type SignedIn, secret, sha256 } from './sessions.js';
import type { AccountTables } from './tables.js';
import { countTry, forgive, LOCKS, Places } from './tries.js';

export interface AccountsOptions {
  /** Milliseconds since 1970. Default: the system's clock. */
  readonly clock?: () => number;
  readonly sessions?: SessionTerms;
  readonly passwords?: PasswordRules;
  /**
   * What comes of a sign-up: an account with a tenant of its own (`tenant`, the default), an account alone, or nothing (`closed`): then people come by invitation.
   */
  readonly signUp?: 'tenant' | 'account' | 'closed';
  /** For so many minutes a sign-in, or a proof, is recent: the obligation `recentSignIn`. Default 15. */
  readonly recentMinutes?: number;
  /** The version of the terms that is to be accepted, and from when on: the obligation `acceptTerms`. */
  readonly terms?: { readonly version: string; readonly from: Date };
  /** For so many days it is kept when and how somebody signed in. Default 90. */
  readonly signInsDays?: number;
}

/** How a request comes in. */
export interface Coming {
  /** The client's address: tries of one place are counted, and one that sends many waits by itself. */
  readonly from?: string | undefined;
  /** What the device is called, for its owner: the browser's name. */
  readonly label?: string | undefined;
}

/** A session that somebody began by showing who they are, and what tells this device from others the next time. */
export interface Entered extends Session {
  /** For a cookie of its own, for a year: from this device its owner gets in also while others guess. It is no factor. */
  readonly device: string;
}

/** One time that somebody signed in, or was not let in. */
export interface SignInOnRecord {
  readonly at: Date;
  readonly method: string;
  readonly outcome: 'in' | 'refused';
  readonly place: string | null;
}

const DAY = 86_400_000;
/** Obligations that are worked out here; what others a charter names the application tells. */
const OBLIGATIONS = ['recentSignIn', 'secondFactor', 'choosePassword', 'acceptTerms', 'confirmAddress'] as const;

const signInFailed = () =>
  new LintelError('sign-in-failed', 'Address and password do not fit together, or there were too many tries. Wait a little, or choose a new password.', {});
const notSignedIn = () => new LintelError('no-account', 'Sign in first.', {});

/** As addresses are compared, in whatever way it is written; undefined for what is none. */
function read(address: unknown): { readonly normal: string; readonly written: string } | undefined {
  try {
    return readAddress(String(address));
  } catch (error) {
    if (isLintelError(error)) return undefined;
    throw error;
  }
}

type Row = NonNullable<Awaited<ReturnType<Sessions['read']>>>;

/**
 * People's passwords and sign-in sessions, for an application that has none of its own. Secrets are given out once and kept as hashes; whoever is not signed in gets the same
 * answers, by the same work, whether or not there is an account.
 */
export class Accounts {
  readonly #lintel: Lintel<any>;
  readonly #options: AccountsOptions;
  readonly #now: () => number;
  readonly #sessions: Sessions;
  readonly #hashing: Hashing;
  readonly #places: Places;
  #secret: Promise<string> | undefined;

  constructor(lintel: Lintel<any>, options: AccountsOptions = {}, shared?: { readonly hashing: Hashing; readonly places: Places }) {
    this.#lintel = lintel;
    this.#options = options;
    this.#now = options.clock ?? Date.now;
    this.#sessions = new Sessions(options.sessions ?? {});
    this.#hashing = shared?.hashing ?? new Hashing();
    this.#places = shared?.places ?? new Places();
  }

  /** The same inside a transaction of the application's own. */
  within(tx: Kysely<any>): Accounts {
    return new Accounts(this.#lintel.within(tx), this.#options, { hashing: this.#hashing, places: this.#places });
  }

  get #db(): Kysely<AccountTables> {
    return this.#lintel.db as unknown as Kysely<AccountTables>;
  }

  /** How many passwords were hashed or compared since the start. */
  get hashes(): number {
    return this.#hashing.runs;
  }

  // ---- Coming to an account

  /**
   * Asks for an account: a letter goes to the address, with a link by which it is made ({@link activate}). Until then there is none. Where there is one already, the letter
   * says so to its owner; whoever asks is told nothing.
   *
   * @throws LintelError `sign-up-closed`, `no-mailer`, `bad-address`, `look-alike-address`, `too-fast`.
   */
  async signUp(input: { readonly address: string } & Coming): Promise<void> {
    if (this.#options.signUp === 'closed') throw new LintelError('sign-up-closed', 'Accounts are made by invitation here.', {});
    await this.#ask('sign-up', input);
  }

  async #ask(what: LinkUse, { address, from }: { readonly address: string } & Coming): Promise<void> {
    const to = readAddress(address);
    if (!this.#lintel.hasMailer) throw new LintelError('no-mailer', 'No mail is set up, so that no address can be proven; give createLintel a mailer.', {});
    await this.#places.count(from);
    await inTransaction(this.#db, (tx) => askForLink(tx, what, to, new Date(this.#now())));
  }

  /** For which address a link of {@link signUp} or {@link forgotten} is. Changes nothing. @throws LintelError `link-invalid`. */
  lookAtLink(what: LinkUse, token: string): Promise<{ readonly address: string }> {
    return lookAtLink(this.#db, what, token, this.#now());
  }

  /**
   * Makes the account whose link was followed, with a password, signs its owner in, and opens a tenant of theirs where sign-up does. An account that had the address
   * without ever proving it loses it, and nothing of it comes over.
   *
   * @throws LintelError `link-invalid`, `weak-password`, `bad-name`, `too-fast`: the link counts still.
   */
  async activate(
    input: { readonly token: string; readonly name: string; readonly password: string; readonly tenantName?: string } & Coming,
  ): Promise<Entered & { readonly tenantId?: string }> {
    const { token, name, tenantName } = input;
    const { address } = await this.lookAtLink('sign-up', token);
    const opens = (this.#options.signUp ?? 'tenant') === 'tenant';
    const password = await this.#newHash(input.password, [name, address, tenantName ?? ''], input.from);
    return inTransaction(this.#db, async (tx) => {
      const inside = this.#lintel.within(tx);
      await useLink(tx, 'sign-up', token, this.#now());
      await inside.giveUpAddress(address);
      const userId = await inside.addPerson({ name, address, confirmedAt: new Date(this.#now()) });
      await this.#keepPassword(tx, userId, password);
      const tenantId = opens ? await inside.openTenant({ name: tenantName ?? '', keyholder: userId }) : undefined;
      return { ...(await this.#enter(tx, userId, input)), ...(tenantId !== undefined && { tenantId }) };
    });
  }

  /**
   * Makes an account for somebody who was invited, under the invited address, and takes them in. The mailed link proves the address.
   *
   * @throws LintelError `weak-password`, `bad-name`, `address-taken`, and those of an invitation.
   */
  async joinByInvitation(
    input: { readonly invitation: string; readonly name: string; readonly password: string } & Coming,
  ): Promise<Entered & { readonly tenantId: string }> {
    const { address, mailed, tenantName } = await this.#lintel.lookAtInvitation(input.invitation);
    const password = await this.#newHash(input.password, [input.name, address, tenantName], input.from);
    return inTransaction(this.#db, async (tx) => {
      const inside = this.#lintel.within(tx);
      if (mailed) await inside.giveUpAddress(address);
      const userId = await inside.addPerson({ name: input.name, address });
      await this.#keepPassword(tx, userId, password);
      const { tenantId } = await inside.acceptInvitation(userId, { token: input.invitation });
      return { ...(await this.#enter(tx, userId, input)), tenantId };
    });
  }

  // ---- Signing in

  /**
   * Signs somebody in. Wrong tries are counted by address, in the database: five are free, then each waits longer, and the tenth locks for a quarter of an hour and longer each time. A device
   * that has signed in before has a count of its own.
   *
   * @param input `device`: what {@link Entered} gave this device.
   * @throws LintelError `sign-in-failed`: the same for a wrong password, no such account, and too many tries; `too-fast` for too many from one place.
   */
  async signIn(input: { readonly address: string; readonly password: string; readonly device?: string | undefined } & Coming): Promise<Entered> {
    const { from } = input;
    const takeBack = await this.#places.count(from);
    const address = read(input.address);
    const compared = address?.normal ?? String(input.address).slice(0, 300);
    const found = await this.#db
      .selectFrom('lintel_person as p')
      .leftJoin('lintel_credential as c', 'c.person_id', 'p.id')
      .leftJoin('lintel_device as d', (join) => join.onRef('d.person_id', '=', 'p.id').on('d.token_hash', '=', sha256(String(input.device ?? ''))))
      .select(['p.id', 'c.password_hash', 'd.token_hash as device'])
      .where('p.address', '=', compared)
      .executeTakeFirst();
    const [who, key] = await Promise.all([this.#keyOf(compared), this.#keyOf(found?.device ?? compared)]);
    const wrong = await countTry(this.#db, key, this.#now());
    if (wrong === undefined) throw signInFailed();
    const kept = found?.password_hash ?? undefined;
    const password = written(input.password).slice(0, 300);
    if (!(await this.#hashing.isRight(kept, password, from)) || !found || kept === undefined) {
      await this.#refused(who, 'pwd', input, wrong >= LOCKS && found?.device == null ? address?.written : undefined);
      throw signInFailed();
    }
    await takeBack();
    const better = this.#hashing.isOld(kept) ? await this.#hashing.hash(password, from) : undefined;
    return inTransaction(this.#db, async (tx) => {
      // The password has to be theirs still.
      await lockPerson(tx as never, found.id);
      const now = await tx.selectFrom('lintel_credential').select('password_hash').where('person_id', '=', found.id).executeTakeFirst();
      if (now?.password_hash !== kept) throw signInFailed();
      if (better !== undefined) await tx.updateTable('lintel_credential').set({ password_hash: better }).where('person_id', '=', found.id).execute();
      await forgive(tx, key);
      return this.#enter(tx, found.id, input);
    });
  }

  /** Puts on record that somebody was not let in, by whatever address they typed; and at the wrong try that locks it, a letter for its owner, if it has one. */
  async #refused(who: string, method: string, { from }: Coming, locked: string | undefined): Promise<void> {
    const at = new Date(this.#now());
    await inTransaction(this.#db, async (tx) => {
      await tx
        .insertInto('lintel_sign_in')
        .values({ id: newId(), who, at, method, outcome: 'refused', place: from ?? null })
        .execute();
      if (locked !== undefined) await tell({ tx: tx as never, at, setting: this.#lintel }, '', [locked], 'sign-in-locked', { name: '' });
    });
  }

  /** Begins the session of somebody who has shown who they are, on a device that is known from then on. */
  async #enter(tx: Kysely<AccountTables>, userId: string, { label, from }: Coming): Promise<Entered> {
    const [at, device] = [new Date(this.#now()), secret()];
    await tx
      .insertInto('lintel_device')
      .values({ token_hash: sha256(device), person_id: userId, made_at: at })
      .execute();
    await tx
      .insertInto('lintel_sign_in')
      .values({ id: newId(), who: userId, at, method: 'pwd', outcome: 'in', place: from ?? null })
      .execute();
    const days = this.#options.signInsDays ?? 90;
    await tx
      .deleteFrom('lintel_sign_in')
      .where('at', '<', new Date(at.getTime() - days * DAY))
      .execute();
    return { ...(await this.#sessions.begin(tx, userId, at.getTime(), { methods: ['pwd'], label })), device };
  }

  /** A keyed hash of what was typed: whoever has the table cannot tell of whom it speaks. */
  async #keyOf(typed: string): Promise<string> {
    this.#secret ??= secretOf(this.#lintel.db);
    return hashOf([await this.#secret, '\n', typed]);
  }

  /** Starts a session for somebody whose identity the application has proven. `enters`: the tenants that it enters; absent: all of theirs. */
  startSession(
    userId: string,
    how: { readonly methods?: readonly string[]; readonly enters?: readonly string[]; readonly hours?: number } & Coming = {},
  ): Promise<Session> {
    const { methods = [], ...more } = how;
    return inTransaction(this.#db, (tx) => this.#sessions.begin(tx, userId, this.#now(), { methods, ...more }));
  }

  /** Who a session's secret belongs to; undefined when it is none, or has ended. */
  async signedIn(token: string | undefined): Promise<SignedIn | undefined> {
    const row = await this.#sessions.read(this.#db, token, this.#now());
    return row && whoIs(row);
  }

  /**
   * Who sends a request, as `enter`, the face and middleware take it: with the tenants that the session enters, and the obligations that it meets. Hand it on whole.
   *
   * @param also obligations of the application's own that are met.
   */
  async sender(token: string | undefined, also: readonly string[] = []): Promise<(Signed & { readonly fulfilled: readonly string[] }) | undefined> {
    const row = await this.#sessions.read(this.#db, token, this.#now());
    if (!row) return undefined;
    const { userId, enters } = whoIs(row);
    return { user: userId, ...(enters && { enters }), fulfilled: [...OBLIGATIONS.filter((one) => this.#meets(row, one)), ...also] };
  }

  #meets(row: Row, obligation: (typeof OBLIGATIONS)[number]): boolean {
    const { recentMinutes = 15, terms } = this.#options;
    switch (obligation) {
      case 'recentSignIn':
        return row.proven_at.getTime() > this.#now() - recentMinutes * 60_000;
      case 'secondFactor':
        // What this session gave counts, and not what the account has.
        return row.methods.includes('otp') || row.methods.includes('hwk');
      case 'choosePassword':
        return row.must_change !== true;
      case 'acceptTerms':
        return terms === undefined || terms.from.getTime() > this.#now() || row.accepted.includes(terms.version);
      case 'confirmAddress':
        return row.confirmed_at !== null;
    }
  }

  /** Ends a session. One that is none is no error. */
  async signOut(token: string): Promise<void> {
    await this.#db.deleteFrom('lintel_session').where('token_hash', '=', sha256(token)).execute();
  }

  // ---- Of one's own

  /** @throws LintelError `no-account` for nobody; `session-bound` for a session that is bound to tenants: it touches nothing of the person. */
  async #own(token: string): Promise<Row & { readonly token: string }> {
    const row = await this.#sessions.read(this.#db, token, this.#now());
    if (!row) throw notSignedIn();
    if (row.enters !== null)
      throw new LintelError('session-bound', 'You are signed in by your organisation, and for it alone. Sign in with a password or a passkey of your own.', {});
    return { ...row, token };
  }

  /** Compares the password of whoever is signed in; wrong ones count as they do for signing in. @throws LintelError `sign-in-failed`, `too-fast`. */
  async #insistOnPassword(row: Row, password: string, { from }: Coming): Promise<void> {
    const key = await this.#keyOf(`session ${row.id}`);
    if ((await countTry(this.#db, key, this.#now())) === undefined) throw signInFailed();
    if (!(await this.#hashing.isRight(row.password_hash ?? undefined, written(password).slice(0, 300), from))) throw signInFailed();
    await forgive(this.#db, key);
  }

  /**
   * Shows again who one is, within a session: `recentSignIn` is met anew. The session goes on under another secret.
   *
   * @throws LintelError `no-account`, `session-bound`, `sign-in-failed`, `too-fast`.
   */
  async prove(token: string, password: string, coming: Coming = {}): Promise<Session> {
    const row = await this.#own(token);
    await this.#insistOnPassword(row, password, coming);
    return inTransaction(this.#db, (tx) => this.#sessions.renew(tx, row.token_hash, 'pwd', this.#now()));
  }

  /**
   * Chooses another password, by the present one. Every other session and every device ends, and the person is told.
   *
   * @returns the session, under another secret.
   * @throws LintelError `no-account`, `session-bound`, `sign-in-failed`, `weak-password`, `too-fast`.
   */
  async changePassword(token: string, { present, next }: { readonly present: string; readonly next: string }, coming: Coming = {}): Promise<Session> {
    const row = await this.#own(token);
    await this.#insistOnPassword(row, present, coming);
    const password = await this.#newHash(next, [row.name, row.address], coming.from);
    return inTransaction(this.#db, async (tx) => {
      await lockPerson(tx as never, row.person_id);
      const session = await this.#sessions.renew(tx, row.token_hash, 'pwd', this.#now());
      await this.#tellOf(tx, row.person_id, await this.#replacePassword(tx, row.person_id, password, row.id));
      return session;
    });
  }

  /** Where one is signed in, what was used last first. @throws LintelError `no-account`, `session-bound`. */
  async mySessions(token: string): Promise<MySession[]> {
    const { person_id, id } = await this.#own(token);
    return this.#sessions.list(this.#db, person_id, id, this.#now());
  }

  /** Ends one of one's sessions. @throws LintelError `no-account`, `session-bound`; `not-found` for one that is none of theirs. */
  async endSession(token: string, id: string): Promise<void> {
    const { person_id } = await this.#own(token);
    if ((await this.#sessions.end(this.#db, person_id, { id })) === 0) throw new LintelError('not-found', 'There is no such session.', {});
  }

  /** Ends all of one's sessions but this one, and answers how many. @throws LintelError `no-account`, `session-bound`. */
  async endOtherSessions(token: string): Promise<number> {
    const { person_id, id } = await this.#own(token);
    return this.#sessions.end(this.#db, person_id, { but: id });
  }

  /** When and how one signed in, or somebody tried to, the latest first. @throws LintelError `no-account`, `session-bound`. */
  async mySignIns(token: string): Promise<SignInOnRecord[]> {
    const { person_id, address } = await this.#own(token);
    const who = [person_id, await this.#keyOf(address)];
    const rows = await this.#db
      .selectFrom('lintel_sign_in')
      .select(['at', 'method', 'outcome', 'place'])
      .where('who', 'in', who)
      .orderBy('at', 'desc')
      .limit(100)
      .execute();
    return rows;
  }

  /** Accepts the terms, in the version that was shown; in a session that is bound to tenants, for these. @throws LintelError `no-account`; `terms-changed` where another version counts. */
  async acceptTerms(token: string, version: string): Promise<void> {
    const row = await this.#sessions.read(this.#db, token, this.#now());
    if (!row) throw notSignedIn();
    if (version !== this.#options.terms?.version) throw new LintelError('terms-changed', 'The terms have changed since. Read them once more.', {});
    await this.#db
      .insertInto('lintel_accepted')
      .values({ person_id: row.person_id, version, scope: row.enters?.join('\n') ?? '', at: new Date(this.#now()) })
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
    await this.#ask('forgotten', input);
  }

  /**
   * Sets the password of whoever followed the link. Every session, device and link of theirs ends, and they are told; then they sign in.
   *
   * @throws LintelError `link-invalid`; `weak-password`, `too-fast`: the link counts still.
   */
  async recover(input: { readonly token: string; readonly password: string } & Coming): Promise<void> {
    const { address } = await this.lookAtLink('forgotten', input.token);
    const person = await this.#lintel.personByAddress(address);
    const password = await this.#newHash(input.password, [person?.name ?? '', address], input.from);
    await inTransaction(this.#db, async (tx) => {
      if (person) await lockPerson(tx as never, person.id);
      await useLink(tx, 'forgotten', input.token, this.#now());
      // The address may be another's by now.
      const owner = await this.#lintel.within(tx).personByAddress(address);
      if (!person || owner?.id !== person.id || owner.confirmedAt === null) throw new LintelError('link-invalid', 'This link does not count any more.', {});
      await dropLinks(tx, address);
      await forgive(tx, await this.#keyOf(address));
      await this.#tellOf(tx, person.id, await this.#replacePassword(tx, person.id, password, undefined));
    });
  }

  // ---- For code of the application

  /** Sets a person's password, and ends their sessions, devices and links. They are told nothing: that is for whoever calls this. @throws LintelError `weak-password`. */
  async setPassword(userId: string, password: string): Promise<void> {
    const person = await this.#db.selectFrom('lintel_person').select(['name', 'address']).where('id', '=', userId).executeTakeFirst();
    const fresh = await this.#newHash(password, person ? [person.name, person.address] : [], undefined);
    await inTransaction(this.#db, async (tx) => {
      await lockPerson(tx as never, userId);
      await this.#replacePassword(tx, userId, fresh, undefined);
    });
  }

  /** Asks somebody for another password: the obligation `choosePassword` is open until they have chosen one. */
  async askForPassword(userId: string): Promise<void> {
    await this.#db.updateTable('lintel_credential').set({ must_change: true }).where('person_id', '=', userId).execute();
  }

  async #newHash(password: string, near: readonly string[], from: string | undefined): Promise<string> {
    return this.#hashing.hash(await readPassword(password, this.#options.passwords ?? {}, near), from);
  }

  async #keepPassword(tx: Kysely<AccountTables>, userId: string, hash: string): Promise<void> {
    const row = { password_hash: hash, set_at: new Date(this.#now()), must_change: false };
    await tx
      .insertInto('lintel_credential')
      .values({ person_id: userId, ...row })
      .onConflict((c) => c.column('person_id').doUpdateSet(row))
      .execute();
  }

  async #tellOf(
    tx: Kysely<AccountTables>,
    userId: string,
    { name, address_written }: { readonly name: string; readonly address_written: string },
  ): Promise<void> {
    await tell({ tx: tx as never, at: new Date(this.#now()), setting: this.#lintel }, userId, [address_written], 'password-changed', { name });
  }

  /** The person is locked: whoever signs in with the password before comes in before this, and is signed out by it, or not at all. */
  async #replacePassword(tx: Kysely<AccountTables>, userId: string, hash: string, but: string | undefined) {
    await this.#keepPassword(tx, userId, hash);
    await this.#sessions.end(tx, userId, { but });
    await tx.deleteFrom('lintel_device').where('person_id', '=', userId).execute();
    const person = await tx.selectFrom('lintel_person').select(['name', 'address', 'address_written']).where('id', '=', userId).executeTakeFirst();
    if (!person) throw notSignedIn();
    await dropLinks(tx, person.address);
    return person;
  }
}

function whoIs(row: Row): SignedIn {
  const { id, person_id, name, address_written, started_at, proven_at, methods, enters } = row;
  const common = { userId: person_id, name, address: address_written, sessionId: id, signedInAt: started_at, provenAt: proven_at, methods };
  return { ...common, ...(enters !== null && { enters }) };
}

import { type Kysely, sql, type Transaction } from 'kysely';
import { hashOf, inTransaction, LintelError, newId, randomSecret } from '../base/index.js';
import { type NoticeName, secretOf, tell } from '../membership/index.js';
import { type Lintel, proveFirst, sessionBound } from '../server/index.js';
import { Hashing } from './hashing.js';
import type { AccountsOptions, Coming, Entered } from './options.js';
import { readPassword, written } from './passwords.js';
import { Sessions, sha256 } from './sessions.js';
import type { AccountTables } from './tables.js';
import { countTry, forgive, Places } from './tries.js';

const DAY = 86_400_000;
/** So many devices are known of a person. */
const DEVICES = 20;

export const signInFailed = () =>
  new LintelError('sign-in-failed', 'Address and password do not fit together, or there were too many tries. Wait a little, or choose a new password.', {});
export const notSignedIn = () => new LintelError('no-account', 'Sign in first.', {});

/** A session as it is read, with whose it is. */
export type Row = NonNullable<Awaited<ReturnType<Sessions['read']>>>;
export type Tx = Transaction<AccountTables>;

/** True where this session has given a second factor. */
export const hasGivenFactor = ({ methods }: Pick<Row, 'methods'>): boolean => methods.includes('otp') || methods.includes('mfa');

/** What all that is done with accounts stands on. */
export class Ground {
  readonly lintel: Lintel<any>;
  readonly options: AccountsOptions;
  readonly sessions: Sessions;
  readonly hashing: Hashing;
  readonly places: Places;
  #secret: Promise<string> | undefined;

  constructor(lintel: Lintel<any>, options: AccountsOptions, shared?: Pick<Ground, 'hashing' | 'places'>) {
    this.lintel = lintel;
    this.options = options;
    this.sessions = new Sessions(options.sessions ?? {});
    this.hashing = shared?.hashing ?? new Hashing();
    this.places = shared?.places ?? new Places();
  }

  get db(): Kysely<AccountTables> {
    return this.lintel.db as unknown as Kysely<AccountTables>;
  }

  get now(): number {
    return (this.options.clock ?? Date.now)();
  }

  get recentSince(): number {
    return this.now - (this.options.recentMinutes ?? 15) * 60_000;
  }

  inTransaction<R>(work: (tx: Tx) => Promise<R>): Promise<R> {
    return inTransaction(this.db, work);
  }

  /** A keyed hash of what was typed: whoever has the table cannot tell of whom it speaks. */
  async keyOf(typed: string): Promise<string> {
    this.#secret ??= secretOf(this.lintel.db);
    return hashOf([await this.#secret, '\n', typed]);
  }

  /** @throws LintelError `weak-password`, `too-fast`. */
  async newHash(password: string, near: readonly string[], { from }: Coming, besideFactor = false): Promise<string> {
    return this.hashing.hash(await readPassword(password, this.options.passwords ?? {}, near, besideFactor), from);
  }

  /** @throws LintelError `sign-in-failed` for an account that the platform has deactivated. */
  async insistOnActive(userId: string): Promise<void> {
    const person = await this.db.selectFrom('lintel_person').select('deactivated_at').where('id', '=', userId).executeTakeFirst();
    if (!person || person.deactivated_at !== null) throw signInFailed();
  }

  /** By what somebody gives a second factor. */
  async factorsOf(userId: string): Promise<('code' | 'passkey')[]> {
    const { rows } = await sql<{ code: boolean; passkey: boolean }>`
      select exists (select from lintel_factor where person_id = ${userId} and confirmed_at is not null) as code, exists (select from lintel_passkey where person_id = ${userId}) as passkey`.execute(
      this.db,
    );
    return (['code', 'passkey'] as const).filter((one) => rows[0]?.[one]);
  }

  /**
   * The session of somebody who asks for something of their own. One that is bound to tenants touches nothing of the person; but what belongs to an account that a tenant keeps is
   * of that tenant alone, as its sessions are.
   *
   * @throws LintelError `no-account`, `session-bound`.
   */
  async own(token: string): Promise<Row> {
    const row = await this.sessions.read(this.db, token, this.now);
    if (!row) throw notSignedIn();
    // guard bound-session-keeps-off-person by accounts: A session bound to one tenant could change the person.
    // guard provider-session-keeps-off-person by arrival: A session by an identity provider could change the person.
    if (/* guard provider-session-keeps-off-person */ row.connection !== null || (row.enters !== null && row.kept_by === null)) throw sessionBound();
    return row;
  }

  /** The same, of somebody who has shown lately who they are, with the second factor where they have one. @throws LintelError and `prove-first`. */
  async ownLately(token: string): Promise<Row> {
    const row = await this.own(token);
    this.insistOnLately(row);
    return row;
  }

  /** @throws LintelError `prove-first`. */
  insistOnLately(row: Row): void {
    // guard credential-change-needs-proof by accounts: A credential could be changed without proving again who one is.
    if (/* guard credential-change-needs-proof */ row.proven_at.getTime() > this.recentSince && (!row.has_factor || hasGivenFactor(row))) return;
    throw proveFirst();
  }

  /** Does work that is right or wrong, under a count of wrong ones. @throws LintelError `sign-in-failed`. */
  async counted(key: string, isRight: () => Promise<boolean>): Promise<void> {
    const hashed = await this.keyOf(key);
    const wrong = await countTry(this.db, hashed, this.now);
    // guard wrong-codes-counted by accounts: Wrong codes would be free, and a code could be guessed.
    if (wrong === undefined) throw signInFailed();
    if (!(await isRight())) throw signInFailed();
    await forgive(this.db, hashed);
  }

  /** Compares the password of whoever is signed in. @throws LintelError `sign-in-failed`, `too-fast`. */
  insistOnPassword(row: Row, password: string, { from }: Coming): Promise<void> {
    return this.counted(`session ${row.id}`, () => this.hashing.isRight(row.password_hash ?? undefined, written(password).slice(0, 300), from));
  }

  /** True of an account that a tenant keeps. */
  async isKept(db: Kysely<AccountTables>, userId: string): Promise<boolean> {
    const person = await db.selectFrom('lintel_person').select('kept_by').where('id', '=', userId).executeTakeFirst();
    return person !== undefined && person.kept_by !== null;
  }

  /** Begins the session of somebody who has shown who they are, on a device that is known from then on. */
  async enter(tx: Tx, userId: string, methods: readonly string[], coming: Coming): Promise<Entered> {
    const [now, device] = [this.now, randomSecret()];
    await tx
      .insertInto('lintel_device')
      .values({ token_hash: sha256(device), person_id: userId, made_at: new Date(now) })
      .execute();
    await this.onRecord(tx, userId, methods.join(' '), 'in', coming);
    await this.#tidy(tx, userId, now);
    return { ...(await this.sessions.begin(tx, userId, now, { methods, label: coming.label })), device };
  }

  /** What is over is not kept: of the person, and of whoever tried. */
  async #tidy(tx: Tx, userId: string, now: number): Promise<void> {
    const before = (days: number) => new Date(now - days * DAY);
    await tx
      .deleteFrom('lintel_sign_in')
      .where('at', '<', before(this.options.signInsDays ?? 90))
      .execute();
    await tx.deleteFrom('lintel_try').where('at', '<', before(2)).execute();
    await sql`delete from lintel_device where person_id = ${userId} and (made_at < ${before(365)}
      or token_hash not in (select token_hash from lintel_device where person_id = ${userId} order by made_at desc limit ${sql.lit(DEVICES)}))`.execute(tx);
    await this.sessions.tidy(tx, userId, now);
  }

  /** @param who the person; or of whoever was refused the keyed hash of what they typed. */
  async onRecord(tx: Tx, who: string, method: string, outcome: 'in' | 'refused', { from }: Coming): Promise<void> {
    await tx
      .insertInto('lintel_sign_in')
      .values({ id: newId(), who, at: new Date(this.now), method, outcome, place: from ?? null })
      .execute();
  }

  /** Tells somebody of something by which they sign in; who has an account that a tenant keeps has proven no address. */
  async tell(
    tx: Tx,
    notice: NoticeName,
    person: { readonly id: string; readonly name: string; readonly address: string },
    of: Readonly<Record<string, string>> = {},
  ): Promise<void> {
    const telling = { tx: tx as never, at: new Date(this.now), setting: this.lintel };
    if (await this.isKept(tx, person.id)) return;
    await tell(telling, person.id, [person.address], notice, { name: person.name, ...of } as never);
  }
}

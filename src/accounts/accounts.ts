import { createHash, randomBytes } from 'node:crypto';
import { hash, verify } from '@node-rs/argon2';
import type { Kysely } from 'kysely';
import { inTransaction, isLintelError, LintelError } from '../base/index.js';
import { holdPerson, lockPerson, readAddress } from '../membership/index.js';
import type { Lintel, LintelTables } from '../server/index.js';
import { Tries } from './tries.js';

interface AccountTables extends LintelTables {
  lintel_credential: { person_id: string; password_hash: string };
  lintel_session: { token_hash: string; person_id: string; started_at: Date; expires_at: Date };
}

export interface AccountsOptions {
  /** Milliseconds since 1970. Default: the system's clock. */
  readonly clock?: () => number;
  /** How long somebody stays signed in. Default 14 days. */
  readonly sessionDays?: number;
}

/** A sign-in session: the secret for the cookie, which is kept nowhere else, and until when it counts. */
export interface Session {
  readonly userId: string;
  readonly token: string;
  readonly expiresAt: Date;
}

export interface SignedIn {
  readonly userId: string;
  readonly name: string;
  readonly address: string;
  readonly signedInAt: Date;
}

export type SignUp = { readonly name: string; readonly password: string } & (
  | { readonly address: string; readonly tenantName: string }
  /** By invitation: the address is the invited one, and no tenant is made. */
  | { readonly invitation: string }
);

const DAY = 86_400_000;
const sha256 = (text: string) => createHash('sha256').update(text).digest('hex');
/** Checked when there is no such account, so that the answer takes as long. */
const nobody = hash(randomBytes(16).toString('hex'));

/** Length limits: NIST SP 800-63B, section 5.1.1.2, asks for at least 8; the upper one bounds the work of hashing. */
function checkPassword(password: unknown): string {
  if (typeof password !== 'string' || password.length < 10) throw new LintelError('weak-password', 'A password has at least 10 characters.', {});
  if (password.length > 256) throw new LintelError('weak-password', 'A password has at most 256 characters.', {});
  return password;
}

async function keepPassword(tx: Kysely<AccountTables>, userId: string, passwordHash: string): Promise<void> {
  await tx
    .insertInto('lintel_credential')
    .values({ person_id: userId, password_hash: passwordHash })
    .onConflict((c) => c.column('person_id').doUpdateSet({ password_hash: passwordHash }))
    .execute();
}

/** As addresses are compared, in whatever way it is written; undefined for what is none. */
function comparedAs(address: string): string | undefined {
  try {
    return readAddress(address).normal;
  } catch (error) {
    if (isLintelError(error)) return undefined;
    throw error;
  }
}

const signInFailed = () => new LintelError('sign-in-failed', 'Address and password do not fit together.', {});

/** People's passwords and sign-in sessions: a small beginning for an application that has none of its own. */
export class Accounts {
  readonly #lintel: Lintel<any>;
  readonly #now: () => number;
  readonly #days: number;
  readonly #tries = new Tries();

  constructor(lintel: Lintel<any>, options: AccountsOptions = {}) {
    this.#lintel = lintel;
    this.#now = options.clock ?? Date.now;
    this.#days = options.sessionDays ?? 14;
  }

  get #db(): Kysely<AccountTables> {
    return this.#lintel.db as unknown as Kysely<AccountTables>;
  }

  /**
   * Makes an account and, in the same transaction, either a tenant that the person runs or, by an invitation, the membership
   * they were invited to.
   *
   * @throws LintelError `weak-password`, `bad-name`, `bad-address`, `look-alike-address`, `address-taken`, and those of an invitation.
   */
  async signUp(input: SignUp): Promise<{ readonly userId: string; readonly tenantId: string }> {
    const passwordHash = await hash(checkPassword(input.password));
    return inTransaction(this.#db, async (tx) => {
      const inside = this.#lintel.within(tx);
      if (!('invitation' in input)) {
        const userId = await inside.addPerson({ name: input.name, address: input.address });
        await keepPassword(tx, userId, passwordHash);
        return { userId, tenantId: await inside.openTenant({ name: input.tenantName, keyholder: userId }) };
      }
      const { address, mailed } = await inside.lookAtInvitation(input.invitation);
      const userId = await this.#invited(inside, input.name, address, mailed);
      await keepPassword(tx, userId, passwordHash);
      return { userId, ...(await inside.acceptInvitation(userId, { token: input.invitation })) };
    });
  }

  /** The account of somebody who came by an invitation: a new one. The mailed link proves the address, so an account that bears it unproven loses it, and nothing else. */
  async #invited(inside: Lintel<any>, name: string, address: string, mailed: boolean): Promise<string> {
    if (mailed) await inside.giveUpAddress(address);
    return inside.addPerson({ name, address });
  }

  /** Sets a person's password, and ends their sessions. @throws LintelError `weak-password`. */
  async setPassword(userId: string, password: string): Promise<void> {
    const passwordHash = await hash(checkPassword(password));
    await inTransaction(this.#db, async (tx) => {
      // Whoever signs in with the one before comes in before this, and is signed out by it, or not at all.
      await lockPerson(tx as never, userId);
      await keepPassword(tx, userId, passwordHash);
      await tx.deleteFrom('lintel_session').where('person_id', '=', userId).execute();
    });
  }

  /**
   * Signs somebody in. Wrong tries of one address are bounded to ten in a quarter of an hour from one place, and a hundred from all.
   *
   * @param input `from`: whence it comes, the client's address. Without it only the bound for all places holds.
   * @throws LintelError `sign-in-failed`: the same for a wrong password and for no such account; `too-fast`, with `seconds` to wait, before anything is compared.
   */
  async signIn(input: { readonly address: string; readonly password: string; readonly from?: string | undefined }): Promise<Session> {
    const address = comparedAs(String(input.address));
    const takeBack = await this.#tries.count(address ?? '', input.from);
    const person = address === undefined ? undefined : await this.#lintel.personByAddress(address);
    const kept = person && (await this.#db.selectFrom('lintel_credential').select('password_hash').where('person_id', '=', person.id).executeTakeFirst());
    const right = await verify(kept?.password_hash ?? (await nobody), String(input.password).slice(0, 256));
    if (!person || !kept || !right) throw signInFailed();
    await takeBack();
    return this.#session(person.id, kept.password_hash);
  }

  /** Starts a session for somebody whose identity was proven. */
  startSession(userId: string): Promise<Session> {
    return this.#session(userId, undefined);
  }

  /** @param proven the hash of the password that was right: it has to be the person's still. */
  async #session(userId: string, proven: string | undefined): Promise<Session> {
    const token = randomBytes(32).toString('base64url');
    const [startedAt, expiresAt] = [new Date(this.#now()), new Date(this.#now() + this.#days * DAY)];
    await inTransaction(this.#db, async (tx) => {
      await holdPerson(tx as never, userId);
      if (proven !== undefined) {
        const kept = await tx.selectFrom('lintel_credential').select('password_hash').where('person_id', '=', userId).executeTakeFirst();
        if (kept?.password_hash !== proven) throw signInFailed();
      }
      await tx
        .insertInto('lintel_session')
        .values({ token_hash: sha256(token), person_id: userId, started_at: startedAt, expires_at: expiresAt })
        .execute();
    });
    return { userId, token, expiresAt };
  }

  /** Who a session's secret belongs to; undefined when it is none, or has ended. */
  async signedIn(token: string | undefined): Promise<SignedIn | undefined> {
    if (!token || token.length > 200) return undefined;
    const row = await this.#db
      .selectFrom('lintel_session as s')
      .innerJoin('lintel_person as p', 'p.id', 's.person_id')
      .select(['p.id', 'p.name', 'p.address_written', 's.started_at'])
      .where('s.token_hash', '=', sha256(token))
      .where('s.expires_at', '>', new Date(this.#now()))
      .executeTakeFirst();
    return row && { userId: row.id, name: row.name, address: row.address_written, signedInAt: row.started_at };
  }

  /** Ends a session. One that is none is no error. */
  async signOut(token: string): Promise<void> {
    await this.#db.deleteFrom('lintel_session').where('token_hash', '=', sha256(token)).execute();
  }
}

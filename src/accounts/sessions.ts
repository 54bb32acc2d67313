import { type Kysely, sql } from 'kysely';
import { hashOf, LintelError, newId, PREPARED, randomSecret } from '../base/index.js';
import { holdPerson } from '../membership/index.js';
import type { AccountTables } from './tables.js';

/** How long a session lasts, in days: since it was last used, and in all. */
export interface SessionTerms {
  /** Default 14. */
  readonly idleDays?: number;
  /** Default 90. */
  readonly days?: number;
}

/** A sign-in session: the secret for the cookie, which is kept nowhere else, and until when it counts at most. */
export interface Session {
  readonly userId: string;
  readonly token: string;
  readonly expiresAt: Date;
}

/** Who is signed in, and what their session is good for. */
export interface SignedIn {
  readonly userId: string;
  readonly name: string;
  readonly address: string;
  /** Of the session, to name it in a list: no secret. */
  readonly sessionId: string;
  readonly signedInAt: Date;
  /** When they last showed who they are. */
  readonly provenAt: Date;
  /** By what they showed it (RFC 8176): `pwd`, `otp`. */
  readonly methods: readonly string[];
  /** Their account asks for a second factor. */
  readonly hasFactor: boolean;
  /** The tenants that the session enters; absent: all of theirs. */
  readonly enters?: readonly string[];
  /** The tenant that keeps the account, if one does. */
  readonly keptBy?: string;
  /** The connection by which they came in; absent: by something of their own. */
  readonly connection?: string;
}

/** A device on which somebody is signed in. */
export interface MySession {
  readonly id: string;
  readonly label: string | null;
  readonly startedAt: Date;
  readonly seenAt: Date;
  readonly isThis: boolean;
}

const DAY = 86_400_000;
/** When a session was last used is written at most so often. */
const SEEN_MINUTES = 5;
/** For so long a second factor may follow the password. */
const HALF_MINUTES = 10;
export const sha256 = (text: string): string => hashOf([text]);

/** The sessions of people, in the database: one that was ended counts nowhere from the next request on. */
export class Sessions {
  readonly #idle: number;
  readonly #most: number;

  constructor({ idleDays = 14, days = 90 }: SessionTerms) {
    [this.#idle, this.#most] = [idleDays * DAY, days * DAY];
  }

  /** @param how `enters`: the tenants that it enters, and for how long at most. */
  async begin(
    tx: Kysely<AccountTables>,
    userId: string,
    now: number,
    how: {
      readonly methods: readonly string[];
      readonly label?: string | undefined;
      readonly enters?: readonly string[] | undefined;
      readonly hours?: number;
      readonly isHalf?: boolean;
    },
  ): Promise<Session> {
    await holdPerson(tx as never, userId);
    const person = await tx.selectFrom('lintel_person').select(['address', 'kept_by']).where('id', '=', userId).executeTakeFirstOrThrow();
    // An account that a tenant keeps enters that one, whoever begins its session.
    // guard kept-account-enters-keeper by accounts: An account kept by a tenant could enter another.
    const enters = person.kept_by === null ? how.enters : /* guard kept-account-enters-keeper */ [person.kept_by];
    const token = randomSecret();
    const at = new Date(now);
    const span = how.isHalf ? HALF_MINUTES * 60_000 : how.hours === undefined ? this.#most : how.hours * 3_600_000;
    const expiresAt = new Date(now + Math.min(this.#most, span));
    const row = {
      id: newId(),
      token_hash: sha256(token),
      person_id: userId,
      address: person.address,
      started_at: at,
      seen_at: at,
      proven_at: at,
      expires_at: expiresAt,
    };
    await tx
      .insertInto('lintel_session')
      .values({
        ...row,
        methods: [...how.methods],
        enters: enters ? [...enters].sort() : null,
        label: how.label?.slice(0, 200) ?? null,
        is_half: how.isHalf ?? false,
      })
      .execute();
    return { userId, token, expiresAt };
  }

  /**
   * The session of somebody who came by a connection, with its line among the sign-ins, in one statement; undefined where the connection is not on any more. Whoever turns it off meanwhile waits, and then
   * ends this session too.
   */
  async beginBy(
    db: Kysely<AccountTables>,
    connection: { readonly tenantId: string; readonly id: string },
    userId: string,
    now: number,
    how: {
      readonly methods: readonly string[];
      readonly label?: string | undefined;
      readonly hours: number;
      readonly provenAt: number;
      readonly place?: string | undefined;
    },
  ): Promise<Session | undefined> {
    const token = randomSecret();
    const at = new Date(now);
    const expiresAt = new Date(now + Math.min(this.#most, how.hours * 3_600_000));
    // guard provider-session-one-tenant by arrival: A session by an identity provider could enter other tenants.
    const { rows } = await sql`
      with c as (select from lintel_connection where tenant_id = ${connection.tenantId} and id = ${connection.id} and state = 'on' for share),
      p as (select id, address from lintel_person where id = ${userId} and deactivated_at is null for key share),
      s as (insert into lintel_session (id, token_hash, person_id, address, started_at, seen_at, proven_at, expires_at, methods, enters, label, is_half, connection)
        select ${newId()}, ${sha256(token)}, p.id, p.address, ${at}, ${at}, ${new Date(how.provenAt)}, ${expiresAt}, ${[...how.methods]}::text[], ${/* guard provider-session-one-tenant (replaced) */ [connection.tenantId]}::text[],
          ${how.label?.slice(0, 200) ?? null}, false, ${connection.id} from c, p returning person_id),
      r as (insert into lintel_sign_in (id, who, at, method, outcome, place) select ${newId()}, s.person_id, ${at}, 'connection', 'in', ${how.place ?? null} from s)
      select from s${sql.raw(PREPARED)}`.execute(db);
    return rows.length === 0 ? undefined : { userId, token, expiresAt };
  }

  /** The session of a secret, with whose it is and what they have done; undefined when it is none, or has ended. */
  async read(db: Kysely<AccountTables>, token: unknown, now: number) {
    if (typeof token !== 'string' || token === '' || token.length > 200) return undefined;
    const row = await db
      .selectFrom('lintel_session as s')
      .innerJoin('lintel_person as p', 'p.id', 's.person_id')
      .leftJoin('lintel_credential as c', 'c.person_id', 's.person_id')
      .select(['s.id', 's.person_id', 's.token_hash', 's.started_at', 's.seen_at', 's.proven_at', 's.methods', 's.enters', 's.connection'])
      .select(['p.name', 'p.address', 'p.address_written', 'p.confirmed_at', 'p.kept_by', 'c.password_hash', 'c.must_change'])
      .select(
        sql<
          string[]
        >`array(select version from lintel_accepted a where a.person_id = p.id and a.scope in ('', coalesce(array_to_string(s.enters, chr(10)), '')))`.as(
          'accepted',
        ),
      )
      .select(
        sql<boolean>`exists (select from lintel_factor f where f.person_id = p.id and f.confirmed_at is not null) or exists (select from lintel_passkey k where k.person_id = p.id)`.as(
          'has_factor',
        ),
      )
      .where('s.token_hash', '=', sha256(token))
      // guard half-session-is-none by accounts: The password alone would be a whole session.
      .where('s.is_half', '=', false)
      // guard sessions-end-with-address by accounts: Sessions would go on after the address changed.
      .whereRef('s.address', '=', 'p.address')
      // guard deactivated-signed-out by accounts: A deactivated account would stay signed in.
      .where('p.deactivated_at', 'is', null)
      .where('s.expires_at', '>', new Date(now))
      // guard sessions-end-idle by accounts: An idle session would never end.
      .where('s.seen_at', '>', new Date(now - this.#idle))
      .modifyEnd(sql.raw(PREPARED))
      .executeTakeFirst();
    if (row && row.seen_at.getTime() < now - SEEN_MINUTES * 60_000)
      await db
        .updateTable('lintel_session')
        .set({ seen_at: new Date(now) })
        .where('token_hash', '=', row.token_hash)
        .execute();
    return row;
  }

  /** Of somebody whose second factor is still to come; undefined when it is none, or its time is over. */
  async readHalf(db: Kysely<AccountTables>, token: unknown, now: number) {
    if (typeof token !== 'string' || token === '' || token.length > 200) return undefined;
    return db
      .selectFrom('lintel_session')
      .select(['id', 'person_id', 'label'])
      .where('token_hash', '=', sha256(token))
      .where('is_half', '=', true)
      .where('expires_at', '>', new Date(now))
      .executeTakeFirst();
  }

  /** Somebody has shown again who they are: the session goes on under another secret. @throws LintelError `no-account` where it was ended meanwhile. */
  async renew(tx: Kysely<AccountTables>, tokenHash: string, methods: readonly string[], now: number, provenAt = now): Promise<Session> {
    const token = randomSecret();
    const { rows } = await sql<{ person_id: string; expires_at: Date }>`
      update lintel_session set token_hash = ${sha256(token)}, proven_at = ${new Date(provenAt)}, seen_at = ${new Date(now)},
        methods = array(select distinct m from unnest(methods || ${[...methods]}::text[]) m order by m)
      where token_hash = ${tokenHash} returning person_id, expires_at`.execute(tx);
    const [row] = rows;
    if (!row) throw new LintelError('no-account', 'Sign in first.', {});
    return { userId: row.person_id, token, expiresAt: row.expires_at };
  }

  async list(db: Kysely<AccountTables>, userId: string, thisOne: string, now: number): Promise<MySession[]> {
    const rows = await db
      .selectFrom('lintel_session')
      .select(['id', 'label', 'started_at', 'seen_at'])
      .where('person_id', '=', userId)
      .where('is_half', '=', false)
      .where('expires_at', '>', new Date(now))
      .where('seen_at', '>', new Date(now - this.#idle))
      .orderBy('seen_at', 'desc')
      .orderBy('id')
      .execute();
    return rows.map(({ id, label, started_at, seen_at }) => ({ id, label, startedAt: started_at, seenAt: seen_at, isThis: id === thisOne }));
  }

  /** Sessions of somebody that are over. */
  async tidy(tx: Kysely<AccountTables>, userId: string, now: number): Promise<void> {
    await tx
      .deleteFrom('lintel_session')
      .where('person_id', '=', userId)
      .where((eb) => eb.or([eb('expires_at', '<=', new Date(now)), eb('seen_at', '<=', new Date(now - this.#idle))]))
      .execute();
  }

  /** Ends sessions of somebody: the one of this id, or all but that. Answers how many. */
  async end(tx: Kysely<AccountTables>, userId: string, which: { readonly id: string } | { readonly but: string | undefined }): Promise<number> {
    let query = tx.deleteFrom('lintel_session').where('person_id', '=', userId);
    if ('id' in which) query = query.where('id', '=', which.id);
    else if (which.but !== undefined) query = query.where('id', '!=', which.but);
    return Number((await query.executeTakeFirst()).numDeletedRows);
  }
}

export function whoIs(row: NonNullable<Awaited<ReturnType<Sessions['read']>>>): SignedIn {
  const { id, person_id, name, address_written, started_at, proven_at, methods, enters, has_factor, kept_by, connection } = row;
  const common = {
    userId: person_id,
    name,
    address: address_written,
    sessionId: id,
    signedInAt: started_at,
    provenAt: proven_at,
    methods,
    hasFactor: has_factor,
  };
  return { ...common, ...(enters !== null && { enters }), ...(kept_by !== null && { keptBy: kept_by }), ...(connection !== null && { connection }) };
}

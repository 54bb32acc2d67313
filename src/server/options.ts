import type { Kysely } from 'kysely';
import type { Charter, CharterTypes } from '../charter/index.js';
import type { Delivery, InvitationMail, Mailer, MailWords } from '../mail/index.js';
import type * as membership from '../membership/index.js';
import type { Words } from '../standing/index.js';
import type { Database } from '../store/index.js';
import type { ReadsFrom } from './copies.js';
import type { PlatformFace } from './platform.js';
import type { ServerStanding } from './server-standing.js';
import type { Signed } from './signed.js';

/** What the library is made from. */
export interface LintelOptions<T extends CharterTypes> {
  /** As `defineCharter` gives it. */
  readonly charter: Charter<T>;
  /** A `pg` pool, a PGlite, or a Kysely over either. */
  readonly db: Database;
  /** Where the application's records are, if not in that database: a Kysely over another, also of SQLite or MariaDB. */
  readonly records?: Kysely<any>;
  /**
   * Instead of `records`: several databases by name, of which each tenant names one when it is opened, for good: for where data has to reside, or for more than one machine. One that cannot be
   * reached is an error of its tenants alone (`place-away`).
   */
  readonly places?: Readonly<Record<string, Database>>;
  /**
   * A copy of the records (with `places`: of each that has one) from which `find`, `choices` and selects through {@link ServerStanding.scope | scope()} read, unless this person has written
   * within the time that it may be behind: whoever has changed something sees it, in whatever process. Decisions, and whatever is in a transaction, read where is written.
   */
  readonly readsFrom?: ReadsFrom | Readonly<Record<string, ReadsFrom>>;
  /** Sends messages. Without one, invitations give a link to hand over, and say so. */
  readonly mailer?: Mailer;
  /** The address of the page that an invitation opens. Needed with a mailer. */
  readonly invitationLink?: (token: string) => string;
  /** Milliseconds since 1970. Default: the system's clock. */
  readonly clock?: () => number;
  /** How long an invitation can be accepted. Default 14 days. */
  readonly invitationDays?: number;
  /** How many messages may go out in 24 hours: by one tenant (default 1000), and to one address whatever the tenant (default 5; more wait). */
  readonly sending?: { readonly byTenant?: number; readonly toAddress?: number };
  /**
   * Keeps what was read of a standing for so many seconds, at most, and for less where something in it ends before: within that time a change made
   * elsewhere is not seen. Changes of the membership read afresh all the same. Default: nothing is kept.
   */
  readonly cache?: { readonly seconds: number };
  /**
   * Of a `pg` pool: whether what is asked again and again is prepared once a connection. Default `auto`: unless something stands between that lends connections for one
   * transaction at a time, such as PgBouncer.
   */
  readonly prepare?: boolean | 'auto';
  /** Words that decisions say to people, where they are to differ. */
  readonly words?: Partial<Words>;
  /** Tables that are no kind and that everybody may read whole through scope: countries, currencies. */
  readonly openTables?: readonly string[];
  /**
   * Pieces of SQL that queries through scope may use as functions of these names, with `$1`, `$2`, ... where the arguments go:
   * `{ year: 'extract(year from $1)' }` and then `eb.fn('year', ['held_at'])`. What they look at besides their arguments is yours to answer for.
   */
  readonly fragments?: Readonly<Record<string, string>>;
  /** Words of the invitation's message. */
  readonly invitationWords?: (mail: InvitationMail) => MailWords;
  /** The address of the page on which somebody proves a new address of theirs. Without one, such messages are not sent. */
  readonly addressLink?: (token: string) => string;
  /** The pages that letters of `warm-lintel/accounts` open: to make an account (`sign-up`), to choose a new password (`forgotten`). Without one, such letters fail and wait. */
  readonly accountLinks?: Delivery['accountLinks'];
  /** Words of the other messages: a new address, somebody looks after an organisation, an answer to who asked to be let in. */
  readonly noticeWords?: Delivery['noticeWords'];
  /**
   * Makes a person where the application keeps them itself, and answers the id: called, in the transaction, where the library takes somebody in without being given one, and
   * for each program. Needed where ids of people are numbers. `address` is absent for a program.
   */
  readonly newPerson?: membership.PersonMaker;
  /** The tenant that is the platform: whoever holds `platform.*` there opens, closes and looks after tenants. The charter says `platform: true`. */
  readonly platform?: membership.Id;
}

/** Who comes in, and where to. The application has verified the id. */
export interface Entry extends Partial<Signed> {
  /** Absent for a visitor who is not signed in. In a tenant that the session does not enter, somebody is a visitor too. */
  readonly user?: membership.Id | undefined;
  readonly tenant: membership.Id;
  /** Reads afresh, also where what was read is kept for a while. */
  readonly fresh?: boolean;
  /** Obligations that this person has met. */
  readonly fulfilled?: readonly string[];
  /** Facts about the request, set by the server only. */
  readonly context?: Readonly<Record<string, unknown>>;
  /** By which way in the application was asked, of those that the charter names. */
  readonly channel?: string;
  /** Of somebody who looks after this tenant: what {@link PlatformFace.beginCare} answered. */
  readonly care?: string;
  /** Of somebody who looks as another: what `standing.lookAs` answered. */
  readonly look?: string;
}

import type { Kysely } from 'kysely';
import type { Standing } from '../standing/index.js';
import type { Fragment } from './fragment.js';

/** What the membership knows and a field may name. */
export type Registered = 'person' | 'unit' | 'group';

export const isRegistered = (role: string | undefined): role is Registered => role === 'person' || role === 'unit' || role === 'group';

/** What scope has to ask of the membership when a write names people, units or groups. */
export interface ScopeSupport {
  /** The standing of an active member of this tenant, else undefined; asked on the connection that the write is made on. */
  readonly standingOf: (userId: string, db: Kysely<any>) => Promise<Standing | undefined>;
  /** Conditions on a column: it names an active member, a unit or a group of the tenant. Absent where the membership is kept in another database. */
  readonly conditions?: Readonly<Record<Registered, (column: Fragment) => Fragment>>;
  /** Keeps the membership of the tenant as it is until the transaction ends. Absent likewise. */
  readonly keepMembership?: Fragment;
  /** Where they are elsewhere: does work while the membership of the tenant stays as it is, with the same support asked in that. */
  readonly holding?: <R>(work: (support: ScopeSupport) => Promise<R>) => Promise<R>;
  /** Kinds of which triggers put down what is written, as far as is known. */
  readonly triggered?: ReadonlySet<string>;
  /** Tables that are no kind and that everybody may read whole. */
  readonly openTables?: readonly string[];
  /** Pieces of SQL that queries may use by name, with $1, $2, ... where their arguments go. */
  readonly fragments?: Readonly<Record<string, string>>;
  /** Under the row policies: signs what is asked of the wall for somebody else, in the transaction that is open. */
  readonly signed?: (question: string, db: Kysely<any>) => Promise<string>;
  /** Which of these are active members, units or groups of the tenant: asked before a write where there are no conditions. */
  readonly existing: (what: Registered, ids: readonly string[]) => Promise<readonly string[]>;
}

import { type Kysely, type RawBuilder, type Selectable, sql, type Transaction } from 'kysely';
import { inTransaction } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import type { Facts, Look } from '../../standing/index.js';
import type { PersonMaker } from './ids.js';
import type { LintelTables } from './tables.js';

/** In whose name somebody is inactive whose account the platform has deactivated. No other source is called so. */
export const PLATFORM_SOURCE = 'platform';

/** In whose name somebody holds what came by a connection. */
export const connectionSource = (id: string): string => `connection:${id}`;

/** In whose name somebody holds what a directory says; it is a program. */
export const directorySource = (program: string): string => `directory:${program}`;

/** True of a source that goes on saying what it says, so that people leave alone what it gives. Names of the others have no colon. */
export const isLasting = (source: string): boolean => source.includes(':');

/** The same in a statement. */
// guard source-keeps-its-gifts by arrival: A change by a person would take what an identity provider gave.
export const isLastingIn = (source: string): RawBuilder<boolean> => /* guard source-keeps-its-gifts (replaced) */ sql<boolean>`${sql.ref(source)} like '%:%'`;

/** What the rules of change take from outside. */
export interface Setting {
  readonly db: Kysely<LintelTables>;
  readonly charter: Charter;
  /** Milliseconds since 1970. */
  readonly now: () => number;
  /** How long an invitation can be accepted, in days. */
  readonly invitationDays: number;
  /** Messages that may be sent in 24 hours: by one tenant, and to one address by whatever tenants. */
  readonly sending: { readonly byTenant: number; readonly toAddress: number };
  /** True if messages can be sent; without, an invitation gives its link to hand over. */
  readonly hasMailer: boolean;
  /** True where the application's records, and the people linked to them, are in another database. */
  readonly recordsElsewhere: boolean;
  /** Where the records of a tenant are; absent where they are beside the membership. @throws LintelError `no-place`, `place-away`. */
  readonly recordsOf?: (tenantId: string) => Promise<Kysely<any>>;
  /** Called when a change holds after which records elsewhere still name who has left. It does not fail. */
  readonly afterLeaving?: () => Promise<void>;
  /** The places that a tenant may name, where records are in several. */
  readonly places?: readonly string[];
  /** Obligations that the person who acts has met. */
  readonly fulfilled: readonly string[];
  /** In a trial: as whom it is tried, and who looks; such a person does what both may. */
  readonly tried?: { readonly user: string; readonly look: Look };
  /** Makes somebody where the application keeps its people itself. */
  readonly newPerson?: PersonMaker;
  /** The tenant that is the platform, if there is one. */
  readonly platform?: string;
  /** Takes what somebody wrote out of the journal of records, wherever that is. */
  readonly eraseJournal?: (tx: Kysely<any>, userId: string) => Promise<void>;
  /** Gives what one member owns of a kind to another, by the rules of scope for whoever does it as they stand then; absent where the records are in another database. */
  readonly handOver?: (tx: Kysely<any>, actor: Facts, kind: string, from: string, to: string) => Promise<{ readonly handed: number; readonly left: number }>;
}

/** Does work in a transaction, as {@link inTransaction}, and takes back whatever it has written: only its result is left. */
export function takenBack<R>(db: Kysely<LintelTables>, work: (tx: Transaction<LintelTables>) => Promise<R>): Promise<R> {
  return inTransaction(db, async (tx) => {
    await sql`savepoint lintel_taken_back`.execute(tx);
    try {
      return await work(tx);
    } finally {
      await sql`rollback to savepoint lintel_taken_back`.execute(tx);
      await sql`release savepoint lintel_taken_back`.execute(tx);
    }
  });
}

/** Rows that name the same columns, by one statement whose text does not depend on how many they are; what all have alike is sent once. Columns of JSON take what they hold. */
export async function insertMany<T extends keyof LintelTables>(
  tx: Kysely<LintelTables>,
  table: T,
  rows: readonly Partial<Selectable<LintelTables[T]>>[],
  alike: Partial<Selectable<LintelTables[T]>> = {},
): Promise<void> {
  if (rows.length === 0) return;
  const into = sql.table(table);
  const columns = sql.join([...Object.keys(alike), ...Object.keys(rows[0] as object)].map((column) => sql.ref(column)));
  const base = sql`jsonb_populate_record(null::${into}, ${JSON.stringify(alike)})`;
  await sql`insert into ${into} (${columns}) select ${columns} from jsonb_populate_recordset(${base}, ${JSON.stringify(rows)})`.execute(tx);
}

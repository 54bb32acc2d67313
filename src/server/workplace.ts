import type { Kysely } from 'kysely';
import type { Setting } from '../membership/index.js';
import type { ReachWriter, ScopeSupport, WallKey } from '../scoping/index.js';

/** What a server standing works with. */
export interface Workplace {
  readonly setting: Setting;
  /** Where the records of the tenant are. @throws LintelError `no-place`, `place-away` where it is asked for. */
  readonly db: Kysely<unknown>;
  /** Where several places are: only that of the tenant will do. @throws LintelError `other-place`. */
  readonly insistOnHere?: (db: Kysely<any>) => void;
  /** A copy that may be read from, for somebody; undefined where it may be behind for them. */
  readonly copyFor?: ((user: string | undefined) => Promise<Kysely<unknown> | undefined>) | undefined;
  /** Somebody has written. */
  readonly noteWritten?: (user: string | undefined) => Promise<void>;
  /** Set in a trial: the database that `db` is a part of, in a transaction that is taken back. */
  readonly trialOf?: Kysely<unknown>;
  readonly support: (tenantId: string, db: Kysely<any>) => ScopeSupport;
  /** Read once. */
  readonly wallKey: () => Promise<WallKey>;
  readonly wall: () => ReachWriter;
}

import type { Kysely } from 'kysely';
import type { Setting } from '../membership/index.js';
import type { ReachWriter, ScopeSupport, WallKey } from '../scoping/index.js';

/** What a server standing works with. */
export interface Workplace {
  readonly setting: Setting;
  /** Where the application's records are. */
  readonly db: Kysely<unknown>;
  /** Set in a trial: the database that `db` is a part of, in a transaction that is taken back. */
  readonly trialOf?: Kysely<unknown>;
  readonly support: (tenantId: string, db: Kysely<any>) => ScopeSupport;
  /** Read once. */
  readonly wallKey: () => Promise<WallKey>;
  readonly wall: () => ReachWriter;
}

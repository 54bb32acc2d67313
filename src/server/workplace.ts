import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import type { Setting } from '../membership/index.js';
import type { ReachWriter, ScopeSupport, WallKey } from '../scoping/index.js';
import { type ReadsFrom, Wrote } from './copies.js';

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

/** How the records of one tenant are read and written. */
interface Ways {
  /** The copy of its records, where there is one. Absent where there are none at all. */
  readonly copyOf?: () => Promise<ReadsFrom | undefined>;
  /** Its place is one of several, and no other will do. */
  readonly isOneOfSeveral: boolean;
}

/** What a standing works with whose tenant has its records there. @param records throws where they cannot be had. */
export function workplaceAt(work: Omit<Workplace, 'db'>, tenant: string, records: () => Kysely<any>, { copyOf, isOneOfSeveral }: Ways): Workplace {
  const wrote = new Wrote(work.setting.db, work.setting.now);
  return {
    ...work,
    get db() {
      return records();
    },
    ...(isOneOfSeveral && {
      insistOnHere: (db: Kysely<any>) => {
        // Whatever comes of a Kysely, a transaction or another with plugins, has its adapter.
        if (db.getExecutor().adapter !== records().getExecutor().adapter)
          throw new LintelError('other-place', 'these records are in another place; give the Kysely that recordsOf answers, or a transaction of it', {});
      },
    }),
    ...(copyOf && {
      copyFor: async (user: string | undefined) => {
        const copy = await copyOf();
        return copy && !(user !== undefined && (await wrote.isRecent({ tenant, user }, copy.behind))) ? copy.db : undefined;
      },
      noteWritten: async (user: string | undefined) => {
        if (user !== undefined && (await copyOf())) await wrote.note({ tenant, user });
      },
    }),
  };
}

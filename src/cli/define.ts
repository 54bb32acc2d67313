import type { Kysely } from 'kysely';
import type { Charter } from '../charter/index.js';
import type { AppMember, ProbeTarget } from '../rehearsal/index.js';
import type { Database } from '../store/index.js';

/** What `lintel.config.ts` exports as its default. */
export interface LintelConfig {
  /** As `defineCharter` gives it. */
  readonly charter: Charter<any>;
  /** Opens the database to look at. It is opened only by commands that need it. */
  readonly database?: () => Promise<Database> | Database;
  /** Opens the records, where they are in another database than the membership: a Kysely, also of SQLite or MariaDB. Default: they are in `database`. */
  readonly records?: () => Promise<Kysely<any>> | Kysely<any>;
  /** Instead of `records`: opens each of several places, by name. `lintel probe` takes one of them. */
  readonly places?: () => Promise<Readonly<Record<string, Database>>> | Readonly<Record<string, Database>>;
  /**
   * The people of an application that keeps them itself, each with what they hold: they are copied into a database in memory, and that is looked at. Nothing is
   * written to the application's database, and what changes a membership is left to the application. They are read from the database that is given: `records`, where those are
   * configured; with `changes --earlier` another than the configured one. Needs the package `@electric-sql/pglite`.
   */
  readonly people?: (db: Kysely<any>) => Promise<readonly AppMember[]> | readonly AppMember[];
  /** The application that works on this database, for `lintel probe`. */
  readonly probe?: (db: Database) => Promise<ProbeTarget> | ProbeTarget;
  /** Findings of `lintel review` and `lintel probe` that are meant so: the code and the place, and why. */
  readonly accepted?: Readonly<Record<string, string>>;
}

/** Types the configuration file. */
export function defineConfig(config: LintelConfig): LintelConfig {
  return config;
}

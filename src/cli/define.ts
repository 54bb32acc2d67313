import type { Charter } from '../charter/index.js';
import type { ProbeTarget } from '../rehearsal/index.js';
import type { Database } from '../store/index.js';

/** What `lintel.config.ts` exports as its default. */
export interface LintelConfig {
  readonly charter: Charter<any>;
  /** Opens the database to look at. It is opened only by commands that need it. */
  readonly database?: () => Promise<Database> | Database;
  /** The application that works on this database, for `lintel probe`. */
  readonly probe?: (db: Database) => Promise<ProbeTarget> | ProbeTarget;
  /** Findings of `lintel review` and `lintel probe` that are meant so: the code and the place, and why. */
  readonly accepted?: Readonly<Record<string, string>>;
}

/** Types the configuration file. */
export function defineConfig(config: LintelConfig): LintelConfig {
  return config;
}

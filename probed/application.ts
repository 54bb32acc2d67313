import type pg from 'pg';
import type { Charter } from 'warm-lintel';
import type { ProbeTarget } from 'warm-lintel/rehearsal';

/** An application of another hand, sound and with faults that can be planted in it. */
export interface Application {
  readonly name: string;
  readonly charter: Charter<any>;
  /** Its tables with what is in them. */
  readonly schema: string;
  /** Tables that are to be as they were, after all was tried. */
  readonly tables: readonly string[];
  /** Starts it, on a port that is free or as a function of a request. */
  start(pool: pg.Pool, faults: ReadonlySet<string>): Promise<{ readonly app: ProbeTarget['app']; close(): Promise<void> }>;
  /** How it is tried. */
  target(pool: pg.Pool, app: ProbeTarget['app']): Promise<ProbeTarget>;
  /** Each with what is wrong then. */
  readonly faults: readonly (readonly [name: string, what: string])[];
}

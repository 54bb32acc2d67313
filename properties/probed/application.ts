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

export type Rows = (query: string, values?: readonly unknown[]) => Promise<any[]>;

/** Work in one transaction; with a key, one after the other for all who give the same. */
export async function inTurn<T>(pool: pg.Pool, key: string | undefined, work: (rows: Rows) => Promise<T>): Promise<T> {
  const client = await pool.connect();
  const rows: Rows = async (query, values = []) => (await client.query(query, [...values])).rows;
  try {
    await rows('begin');
    if (key !== undefined) await rows('select pg_advisory_xact_lock(hashtext($1))', [key]);
    const done = await work(rows);
    await rows('commit');
    return done;
  } catch (error) {
    await rows('rollback');
    throw error;
  } finally {
    client.release();
  }
}

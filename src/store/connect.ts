import { Kysely, PostgresDialect, type PostgresPool } from 'kysely';
import { LintelError } from '../base/index.js';
import type { Prepare } from './prepare.js';
import { SteadyPool } from './steady.js';

/** The few methods of an embedded PGlite that are used. */
export interface PgliteLike {
  query(text: string, values?: unknown[]): Promise<{ rows: unknown[]; affectedRows?: number }>;
  readonly waitReady: Promise<void>;
}

/**
 * What an application may hand over as its database: a `pg` pool, a PGlite, or a Kysely over either. A PGlite is one connection, lent to one caller at a time whoever
 * connects to it; what is asked of it directly (`pglite.query`) while a transaction is open is part of that transaction, and is lost if that is rolled back.
 */
export type Database = Kysely<any> | PostgresPool | PgliteLike;

const isKysely = (db: Database): db is Kysely<any> => 'getExecutor' in db;
const isPglite = (db: Database): db is PgliteLike => 'waitReady' in db;

/** How long a call waits for the one connection of an embedded database before it says what is the matter. */
const PATIENCE_MS = 10_000;

/** When the latest caller of each embedded database gives it back. */
const lent = new WeakMap<PgliteLike, Promise<void>>();

/** PGlite is one connection: this lends it to one caller at a time, as a pool of one. */
class PoolOfOne implements PostgresPool {
  readonly #pglite: PgliteLike;

  constructor(pglite: PgliteLike) {
    this.#pglite = pglite;
  }

  async connect(): ReturnType<PostgresPool['connect']> {
    const before = lent.get(this.#pglite) ?? Promise.resolve();
    let release = (): void => {};
    lent.set(
      this.#pglite,
      new Promise((resolve) => {
        release = resolve;
      }),
    );
    await inTime(before).catch((error: unknown) => {
      // Whoever waits behind this call must still get their turn.
      void before.then(release);
      throw error;
    });
    const query = async (text: string, values: readonly unknown[]) => {
      const { rows, affectedRows } = await this.#pglite.query(text, [...values]);
      return {
        rows: rows as never[],
        rowCount: affectedRows ?? rows.length,
        command: /^\s*(insert|update|delete)/i.test(text) ? ('UPDATE' as const) : ('SELECT' as const),
      };
    };
    return { query: query as never, release };
  }

  async end(): Promise<void> {}
}

async function inTime(turn: Promise<void>): Promise<void> {
  let timer: ReturnType<typeof setTimeout> | undefined;
  const late = new Promise<never>((_resolve, reject) => {
    timer = setTimeout(
      () =>
        reject(
          new LintelError(
            'one-connection',
            'The embedded database has one connection, and it is in use by an open transaction. Pass that transaction on instead of starting another query beside it.',
            {},
          ),
        ),
      PATIENCE_MS,
    );
  });
  await Promise.race([turn, late]).finally(() => clearTimeout(timer));
}

/**
 * A Kysely over whatever the application has. One that it already has is used as it is.
 *
 * @param prepare of a `pg` pool: whether what is asked again and again is prepared once a connection. `auto` (default): unless something stands between that lends
 *   connections for a transaction at a time, such as PgBouncer.
 * @param away of a `pg` pool: makes what is thrown where no connection is to be had.
 */
export function connect<DB = unknown>(db: Database, prepare: Prepare = 'auto', away?: (error: unknown) => Error): Kysely<DB> {
  if (isKysely(db)) return db as Kysely<DB>;
  return new Kysely<DB>({ dialect: new PostgresDialect({ pool: isPglite(db) ? new PoolOfOne(db) : new SteadyPool(db, prepare, away) }) });
}

import { Kysely, PostgresDialect, type PostgresPool } from 'kysely';
import { CLEANING, hashOf, LintelError, PREPARED } from '../base/index.js';

/** The few methods of an embedded PGlite that are used. */
export interface PgliteLike {
  query(text: string, values?: unknown[]): Promise<{ rows: unknown[]; affectedRows?: number }>;
  readonly waitReady: Promise<void>;
}

/** What an application may hand over as its database: a `pg` pool, a PGlite, or a Kysely over either. */
export type Database = Kysely<any> | PostgresPool | PgliteLike;

const isKysely = (db: Database): db is Kysely<any> => 'getExecutor' in db;
const isPglite = (db: Database): db is PgliteLike => 'waitReady' in db;

/** How long a call waits for the one connection of an embedded database before it says what is the matter. */
const PATIENCE_MS = 10_000;

/** PGlite is one connection: this lends it to one caller at a time, as a pool of one. */
class PoolOfOne implements PostgresPool {
  readonly #pglite: PgliteLike;
  #lent: Promise<void> = Promise.resolve();

  constructor(pglite: PgliteLike) {
    this.#pglite = pglite;
  }

  async connect(): ReturnType<PostgresPool['connect']> {
    const before = this.#lent;
    let release = (): void => {};
    this.#lent = new Promise((resolve) => {
      release = resolve;
    });
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

type Client = Awaited<ReturnType<PostgresPool['connect']>>;

/** So many statements are prepared at most, so that a connection does not fill up. */
const MOST_PREPARED = 200;

/**
 * A `pg` pool in which the statements that are asked again and again are prepared once a connection, under names that come of their text. Where row policies are
 * carried nothing has a name: whoever had the connection before could have put something else under it.
 */
class PreparingPool implements PostgresPool {
  readonly #pool: PostgresPool;
  readonly #clients = new WeakMap<Client, Client>();
  /** By text; undefined for one that is not prepared any more. */
  readonly #names = new Map<unknown, string | undefined>();

  constructor(pool: PostgresPool) {
    this.#pool = pool;
  }

  async connect(): Promise<Client> {
    const client = await this.#pool.connect();
    const known = this.#clients.get(client) ?? this.#preparing(client);
    this.#clients.set(client, known);
    return known;
  }

  end(): Promise<void> {
    return this.#pool.end();
  }

  #nameOf(statement: string): string | undefined {
    if (!this.#names.has(statement) && this.#names.size < MOST_PREPARED) this.#names.set(statement, `lintel_${hashOf([String(statement)]).slice(0, 32)}`);
    return this.#names.get(statement);
  }

  #preparing(client: Client): Client {
    const ask = client.query.bind(client) as (statement: unknown, values?: unknown) => Promise<unknown>;
    let carrying = false;
    // What was prepared before the connection was cleaned is there no more, whatever the driver remembers.
    let cleaned = 0;
    const query = (statement: unknown, values?: unknown) => {
      const isText = typeof statement === 'string';
      const cleans = isText && statement.endsWith(CLEANING);
      if (cleans) cleaned += 1;
      carrying = cleans || (carrying && !(isText && ENDS.test(statement)));
      const known = isText && !carrying && statement.endsWith(PREPARED) ? this.#nameOf(statement) : undefined;
      const name = known && cleaned > 0 ? `${known}_${cleaned}` : known;
      if (name === undefined) return ask(statement, values);
      return ask({ name, text: statement, values }).catch((error: { code?: unknown }) => {
        if (error.code !== COLUMNS_CHANGED) throw error;
        this.#names.set(statement, undefined);
        // Within a transaction it is too late for this one.
        return ask(statement, values).catch(() => {
          throw error;
        });
      });
    };
    return { query: query as Client['query'], release: () => client.release() };
  }
}

const ENDS = /^\s*(commit|rollback)\s*$/i;

/** Of a prepared statement whose columns have another type since (SQLSTATE `feature_not_supported`). */
const COLUMNS_CHANGED = '0A000';

/** A Kysely over whatever the application has. One that it already has is used as it is. */
export function connect<DB = unknown>(db: Database): Kysely<DB> {
  if (isKysely(db)) return db as Kysely<DB>;
  return new Kysely<DB>({ dialect: new PostgresDialect({ pool: isPglite(db) ? new PoolOfOne(db) : new PreparingPool(db) }) });
}

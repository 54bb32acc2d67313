import type { PostgresPool } from 'kysely';
import { CLEANING, hashOf, LintelError, PREPARED } from '../base/index.js';

/** Whether statements are prepared: `auto` finds out whether the connections are our own. */
export type Prepare = boolean | 'auto';

export type Client = Awaited<ReturnType<PostgresPool['connect']>>;
/** Asks a connection. */
export type Ask = (statement: unknown, values?: unknown) => Promise<unknown>;

/** So many statements are prepared at most, so that a connection does not fill up. */
const MOST_PREPARED = 200;

/** Of a prepared statement whose columns have another type since (SQLSTATE `feature_not_supported`). */
const COLUMNS_CHANGED = '0A000';
/** Of one that another client of the same connection made, or did not (`duplicate_prepared_statement`, `invalid_sql_statement_name`). */
const LENT = new Set<unknown>(['42P05', '26000']);
/** The transaction is over already (`in_failed_sql_transaction`). */
const FAILED = '25P02';

const ENDS = /^\s*(commit|rollback)\s*$/i;

/** What a pool prepares: the statements that are asked again and again, once a connection, under names that come of their text. */
export class Prepared {
  /** By text; undefined for one that is not prepared any more. */
  readonly #names = new Map<unknown, string | undefined>();
  /** Whether the connections are our own; a promise once it was asked. */
  #ours: boolean | Promise<boolean> | undefined;

  readonly #finds: boolean;

  constructor(prepare: Prepare) {
    this.#finds = prepare === 'auto';
    this.#ours = prepare === 'auto' ? undefined : prepare;
  }

  #nameOf(statement: string): string | undefined {
    if (!this.#names.has(statement) && this.#names.size < MOST_PREPARED) this.#names.set(statement, `lintel_${hashOf([String(statement)]).slice(0, 32)}`);
    return this.#names.get(statement);
  }

  /** Whoever lends out the connections of a server gives each client a number of its own: then it is not that of the server's process. */
  #areOurs(ask: Ask, processID: number | null | undefined): boolean | Promise<boolean> {
    if (this.#ours !== undefined) return this.#ours;
    if (typeof processID !== 'number') return true;
    this.#ours = ask('select pg_backend_pid() as pid').then(
      (answer) => {
        this.#ours = (answer as { rows: { pid: number }[] }).rows[0]?.pid === processID;
        return this.#ours;
      },
      () => {
        this.#ours = undefined;
        return false;
      },
    );
    return this.#ours;
  }

  /**
   * A connection as it is asked, with what is asked often prepared. Where row policies are carried nothing has a name: whoever had the connection before could have put
   * something else under it.
   */
  asking(client: Client, ask: Ask): Ask {
    const { processID } = client as { readonly processID?: number | null };
    let carrying = false;
    // What was prepared before the connection was cleaned is there no more, whatever the driver remembers.
    let cleaned = 0;
    return async (statement, values) => {
      const isText = typeof statement === 'string';
      const cleans = isText && statement.endsWith(CLEANING);
      if (cleans) cleaned += 1;
      carrying = cleans || (carrying && !(isText && ENDS.test(statement)));
      const known = isText && !carrying && statement.endsWith(PREPARED) && (await this.#areOurs(ask, processID)) ? this.#nameOf(statement) : undefined;
      const name = known && cleaned > 0 ? `${known}_${cleaned}` : known;
      if (name === undefined) return ask(statement, values);
      return ask({ name, text: statement, values }).catch((error: { code?: unknown }) => {
        const isLent = LENT.has(error.code) && this.#finds;
        if (isLent) this.#ours = false;
        else if (error.code === COLUMNS_CHANGED) this.#names.set(statement, undefined);
        else throw error;
        return ask(statement, values).catch((second: { code?: unknown }) => {
          if (second.code !== FAILED) throw second;
          throw new LintelError(
            'try-again',
            'A statement was prepared for a table or a connection that is another now. Begin the transaction anew.',
            {},
            { cause: error },
          );
        });
      });
    };
  }
}

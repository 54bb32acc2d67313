import { type Kysely, QueryCreator } from 'kysely';
import type { Boundary } from './boundary.js';
import { type Beside, ScopedExecutor } from './executor.js';
import { refuse } from './read/refuse.js';

/**
 * The application's own Kysely, narrowed to one standing: `selectFrom`, `insertInto`, `updateTable`, `deleteFrom`, `with` and
 * `transaction`. What could get past it (raw SQL, schema, compiled queries, bare connections) is not there to be called.
 */
export class ScopedDb<DB> extends QueryCreator<DB> {
  readonly #db: Kysely<DB>;
  readonly #boundary: Boundary;
  readonly #beside: Beside;

  /** @param beside of a database that is not in a transaction: what else is read from, and told. */
  constructor(db: Kysely<DB>, boundary: Boundary, beside: Beside = {}) {
    super({ executor: new ScopedExecutor(db, boundary, db.getExecutor(), beside) });
    this.#db = db;
    this.#boundary = boundary;
    this.#beside = beside;
  }

  /** @deprecated Refused: read, then insert, update or delete. */
  override mergeInto(): never {
    return refuse('a merge', 'read first, then insert, update or delete');
  }

  /** @deprecated Refused: write an upsert. */
  override replaceInto(): never {
    return refuse('a replace', 'write an upsert: insertInto(...).onConflict(...)');
  }

  /** Runs work in one transaction, narrowed in the same way. It is undone as a whole when the work throws. */
  transaction(): { execute<R>(work: (trx: ScopedDb<DB>) => Promise<R>): Promise<R> } {
    return {
      execute: async (work) => {
        let hasWritten = false;
        const written = async () => {
          hasWritten = true;
        };
        const result = await this.#db.transaction().execute((trx) => work(new ScopedDb(trx, this.#boundary, { written })));
        if (hasWritten) await this.#beside.written?.();
        return result;
      },
    };
  }
}

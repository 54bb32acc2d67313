import { type Kysely, QueryCreator } from 'kysely';
import type { Boundary } from './boundary.js';
import { ScopedExecutor } from './executor.js';
import { refuse } from './read/refuse.js';

/**
 * The application's own Kysely, narrowed to one standing: `selectFrom`, `insertInto`, `updateTable`, `deleteFrom`, `with` and
 * `transaction`. What could get past it (raw SQL, schema, compiled queries, bare connections) is not there to be called.
 */
export class ScopedDb<DB> extends QueryCreator<DB> {
  readonly #db: Kysely<DB>;
  readonly #boundary: Boundary;

  constructor(db: Kysely<DB>, boundary: Boundary) {
    super({ executor: new ScopedExecutor(db, boundary) });
    this.#db = db;
    this.#boundary = boundary;
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
    return { execute: (work) => this.#db.transaction().execute((trx) => work(new ScopedDb(trx, this.#boundary))) };
  }
}

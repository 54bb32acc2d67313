import type { Kysely, Transaction } from 'kysely';
import { isLintelError, LintelError } from './error.js';

/** SQLSTATE of a transaction that the database took back since it and another ran into each other: `serialization_failure`, `deadlock_detected`. */
const GAVE_WAY = new Set<unknown>(['40001', '40P01']);
/** The same of MariaDB: `ER_LOCK_WAIT_TIMEOUT`, `ER_LOCK_DEADLOCK`, `ER_CHECKREAD`. */
const GAVE_WAY_IN_MARIADB = new Set<unknown>([1205, 1213, 1020]);
/** SQLSTATE of a row of ours that was there, or was gone, by what another did since we looked: `unique_violation`, `foreign_key_violation`. Looked at again, it is told as what it is. */
// guard overtaken-begun-again by races: A race that another won would be shown as an error of the database.
const OVERTAKEN = new Set<unknown>(/* guard overtaken-begun-again */ ['23505', '23503']);

/** True if nothing of a transaction holds, and the same work may be done again. */
function canBeTriedAgain(error: unknown): boolean {
  if (isLintelError(error)) return error.code === 'try-again';
  const { code, errno, table } = (error ?? {}) as { readonly code?: unknown; readonly errno?: unknown; readonly table?: unknown };
  return GAVE_WAY.has(code) || GAVE_WAY_IN_MARIADB.has(errno) || (OVERTAKEN.has(code) && String(table).startsWith('lintel_'));
}

/** So often work is begun in all. */
const MOST = 6;
/** Until the next try, in milliseconds at most: so that two do not meet again and again. */
const APART_MS = 20;

/**
 * Does work in the application's own transaction if that is what we were given, else in one of ours. Ours sees what is committed before each of its statements, whatever
 * the server's default is, and is begun again a few times if the database takes it back for another's sake.
 *
 * @throws LintelError `try-again` where it was taken back: each time; or once, in a transaction of the application's own, which has to be begun anew by whoever began it.
 */
export async function inTransaction<DB, R>(db: Kysely<DB>, work: (tx: Transaction<DB>) => Promise<R>): Promise<R> {
  if (db.isTransaction) {
    return work(db as Transaction<DB>).catch((error: unknown) => {
      // guard own-transaction-told (negated) by races: An application's own transaction would get the error of the database.
      if (!canBeTriedAgain(error) || isLintelError(error)) throw error;
      throw new LintelError('try-again', 'Somebody else was faster. Nothing of this transaction holds; begin it anew.', {}, { cause: error });
    });
  }
  for (let begun = 1; ; begun++) {
    try {
      return await db.transaction().setIsolationLevel('read committed').execute(work);
    } catch (error) {
      if (!canBeTriedAgain(error)) throw error;
      // guard begun-again (negated) by races: A transaction that gave way would not be begun again.
      if (begun === MOST) throw new LintelError('try-again', 'Others were faster each time. Nothing was done; try again.', {}, { cause: error });
      await new Promise((resolve) => setTimeout(resolve, Math.random() * APART_MS * begun));
    }
  }
}

/**
 * Ends a statement of ours that is asked again and again and whose plan does not turn on its values: a pool of `pg` has it planned once a
 * connection and not once a request. To a database it is a comment.
 */
export const PREPARED = ' /* lintel: prepared */';

/** Ends a statement after which no statement of that connection is prepared any more: what was under a name is gone, and nothing comes under one until the transaction ends. */
export const CLEANING = ' /* lintel: cleaning */';

/** Ends a statement of which nothing is awaited but that it was done before the next: it may go to the database with that, and with a transaction that begins in between. */
export const HELD = ' /* lintel: with the next */';

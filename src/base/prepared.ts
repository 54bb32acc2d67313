/**
 * Ends a statement of ours that is asked again and again and whose plan does not turn on its values: a pool of `pg` has it planned once a
 * connection and not once a request. To a database it is a comment.
 */
export const PREPARED = ' /* lintel: prepared */';

/** The same, of the statement that lets a transaction carry a standing: so are the reads that follow it until the transaction ends, whoever wrote them. */
export const CARRYING = ` /* lintel: carrying */${PREPARED}`;

import { LintelError } from '../../base/index.js';

/** Begins the sign of a failed check in the database's error. */
export const MARK = 'lintel:';

/** SQLSTATE `feature_not_supported`: of a partitioned table it cannot be asked which rows of an upsert were there. */
const NOT_ASKED = '0A000';

/** Reads which check failed out of the database's error, or answers undefined when it was another error. */
export function failedCheck(error: unknown): LintelError | undefined {
  if ((error as { code?: unknown } | null)?.code === NOT_ASKED && /system column/.test(String(error)))
    return new LintelError(
      'scope-refused',
      'an upsert into a partitioned table with a journal cannot be written through scope, since it does not tell which rows were there; read first, then insert or update',
      {},
      { cause: error },
    );
  const sign = error instanceof Error ? /"lintel:([\w ]+):/.exec(error.message)?.[1] : undefined;
  return sign === undefined ? undefined : checkFailure(sign, error);
}

/** What a failed check means to the writer. */
export function checkFailure(sign: string, error?: unknown): LintelError {
  const [cause, kind, field] = sign.split(' ');
  if (cause === 'reach')
    return new LintelError('write-out-of-reach', `the ${kind} as it would become is out of your reach; nothing was written`, { kind }, { cause: error });
  if (cause === 'again')
    return new LintelError('try-again', `Somebody made a ${kind} in the same moment. Nothing was written; try again.`, { kind }, { cause: error });
  if (cause === 'make')
    return new LintelError(
      'write-out-of-reach',
      `${kind}.create does not reach such a ${kind}: it is given to you for others; nothing was written`,
      { kind },
      { cause: error },
    );
  if (cause === 'guard')
    return new LintelError(
      'guarded-field',
      `to set ${field} of a new ${kind} takes an action that you do not have on it; nothing was written`,
      { kind, field },
      { cause: error },
    );
  if (cause === 'fit')
    return new LintelError('bad-value', `${field} of a ${kind} does not take what came of the write; nothing was written`, { kind, field }, { cause: error });
  return new LintelError(
    'no-such-value',
    `${field} of the ${kind} names nothing that there is for you; nothing was written`,
    { kind, field },
    { cause: error },
  );
}

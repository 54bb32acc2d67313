import { LintelError } from './error.js';

/**
 * Loads a package that is needed for one thing alone, when that is done: whoever does without it need not install it.
 *
 * @throws LintelError `option-missing` where it is not installed.
 */
export const needed = <M>(what: string, name: string, load: () => Promise<M>): Promise<M> =>
  load().catch((cause: unknown) => {
    throw new LintelError('option-missing', `${what} takes the package ${name}, which is not installed: npm install ${name}`, {}, { cause });
  });

import { LintelError } from '../../base/index.js';

/** Names longer than this are cut off by PostgreSQL, so that two different ones could become one. */
const MAX_NAME = 63;

/** @throws LintelError `scope-refused` with what to write instead. */
export function refuse(what: string, instead: string): never {
  throw new LintelError('scope-refused', `${what} cannot be used through scope; ${instead}`);
}

/** Our own conditions go by such names: a query that used one could step in between. */
export function insistOnFree(name: string): void {
  if (/^lintel/i.test(name)) refuse(`the name "${name}"`, 'names that begin with lintel are ours; choose another');
}

export function insistOnLength(name: string): void {
  // At most three bytes for each of its UTF-16 units.
  if (name.length * 3 > MAX_NAME && new TextEncoder().encode(name).length > MAX_NAME) refuse(`a name of more than ${MAX_NAME} bytes`, 'shorten it');
}

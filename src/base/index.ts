export { entryOf } from './entry.js';
export { isLintelError, LintelError } from './error.js';
export { frozen } from './frozen.js';
export { didYouMean } from './nearest.js';
export { inParts } from './parts.js';
export { CLEANING, PREPARED } from './prepared.js';
export { fromBase64url, hashOf, newId, randomHex, randomSecret, toBase64url, toHex } from './secret.js';
export { sha256 } from './sha256.js';
export { inTransaction } from './transaction.js';

export { isLintelError, LintelError } from './error.js';
export { didYouMean } from './nearest.js';
export { CARRYING, PREPARED } from './prepared.js';

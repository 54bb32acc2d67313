export { isLintelError, LintelError } from './error.js';
export { didYouMean, nearest } from './nearest.js';

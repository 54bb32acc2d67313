export { type Problem, problemOf, problemResponse } from './problem.js';

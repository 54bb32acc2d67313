export { type Comparison, compare, whose } from './compare.js';
export { type Giver, giversOf } from './gives.js';
export { type Around, type ExplainedGrant, type Explanation, explain, pathWords, peopleIn, reachBy } from './why.js';

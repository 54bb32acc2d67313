export { isLintelError, LintelError } from './base/index.js';
export {
  Charter, type CharterData, type CharterTypes, decimal, defineCharter, defineKinds, flag, id, instant, integer, KEYHOLDER, maker, oneOf, owner, parent, people, person, readCharter, tenant, text, type TypesIn, unit,
} from './charter/index.js';
export { and, not, or, type Predicate, print } from './predicate/index.js';
export {
  type Anchor, type Assignment, type Decision, ENGLISH, type Facts, type FieldAccess, openStanding, type RecordOf, type Snapshot, Standing, type Words,
} from './standing/index.js';

export {
  context,
  type Fact,
  type Me,
  me,
  type ParentTerm,
  type PeopleTerm,
  type PersonTerm,
  recordOf,
  type ScalarTerm,
  type UnitTerm,
} from './build.js';
export { checkPredicate, normalise, type Problem } from './check.js';
export { blame, compile, type RecordData, type Test, type Verdict } from './evaluate.js';
export { ALWAYS, and, type Comparison, NEVER, not, or, ownFields, type Predicate, takesList } from './predicate.js';
export { fieldWords, print, valueWords } from './print.js';
export { type Answer, disjoint, type Example, implies, unsatisfiable } from './reason.js';
export { type FieldShape, type KindShape, type LinkTable, ofTenant, type Shapes } from './shape.js';
export { type Bias, type Knowledge, specialise } from './specialise.js';
export { anyOf, forOneOf, isShort } from './union.js';
export { compareValues, readEach, readValue, type Scalar, VALUE_TYPES, type ValueType } from './value.js';

export {
  type Comparable,
  context,
  type Fact,
  type Me,
  me,
  type ParentTerm,
  type PeopleTerm,
  recordOf,
  type ScalarTerm,
  type UnitTerm,
} from './build.js';
export { checkPredicate, normalise, type Problem } from './check.js';
export { type Blame, blame, compile, type RecordData, type Test, type Verdict } from './evaluate.js';
export { ALWAYS, and, type Comparison, NEVER, not, type Operand, or, type Predicate } from './predicate.js';
export { fieldWords, print } from './print.js';
export type { FieldShape, KindShape, LinkTable, Shapes } from './shape.js';
export { type Bias, type Knowledge, specialise } from './specialise.js';
export { readValue, type Scalar, VALUE_TYPES, type ValueType } from './value.js';

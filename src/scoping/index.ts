export { BesideDb, type ReportDifference, type ScopeDifference } from './beside.js';
export { Boundary } from './boundary.js';
export { type ChangeAnswer, change, handOver } from './change.js';
export { type SqlCondition, type SqlTag, sqlCondition } from './condition.js';
export { countRecords, fewRecords, someRecords } from './count.js';
export { writerFor } from './dialect.js';
export { type Choice, choices, type FindOptions, find, isAnywhere, loadEach, loadParents, loadRaw, merged } from './find.js';
export { type Fragment, joinFragments, name, sqlText } from './fragment.js';
export { groupRecords, type RecordGroup } from './groups.js';
export { journaledKinds } from './journal/image.js';
export { eraseFromJournal, trimJournal } from './journal/keep.js';
export { type FieldChange, type JournalLine, linesSince, readJournal } from './journal/read.js';
export { triggeredKinds } from './journal/triggers.js';
export { claimLinks, dropLinks, passOnRecords } from './links.js';
export { BINARY } from './mariadb.js';
export {
  CARRIED_CONDITIONS,
  carryInto,
  carryStanding,
  checkPolicies,
  dropStatements,
  type PolicyFinding,
  type PolicyOptions,
  policyStatements,
  ReachWriter,
  type RunStatement,
  readWallKey,
  signQuestion,
  type WallKey,
} from './policies/index.js';
export { ScopedDb } from './scope.js';
export { SeveralBoundaries } from './several.js';
export type { Registered, ScopeSupport } from './support.js';
export { countCrowded, tallyRecords } from './tally.js';
export { recordsThere } from './there.js';
export { isMariaDb } from './tongue.js';

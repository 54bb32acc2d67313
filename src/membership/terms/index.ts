export { type Address, domainOf, keptAddress, maskAddress, readAddress, readDomain, readName, readWords, WITHOUT_ADDRESS } from './address.js';
export {
  type AdmissionGives,
  type AdmissionRule,
  type AdmittedAnchor,
  type Claim,
  type ClaimNames,
  type ConnectionTerms,
  type Named,
  namedIn,
} from './admission.js';
export {
  type Id,
  idOfComer,
  idOfOwn,
  idOfPerson,
  idOfTenant,
  inOneSpelling,
  insistOnId,
  madeUpId,
  NOBODY,
  type PersonMaker,
  recordId,
  spelled,
  withOurIds,
} from './ids.js';
export { holdPerson, lockPerson, lockTenants } from './locks.js';
export { connectionSource, directorySource, insertMany, isLasting, isLastingIn, PLATFORM_SOURCE, type Setting, takenBack } from './setting.js';
export type { Done, Gives, Handed, Holder, Joining, RoleInput, Step, StepOf, Touched } from './step.js';
export type { AssignmentRow, InvitationRow, InvitedRole, JoiningRow, LintelTables } from './tables.js';
export { howHanded, identityMark, invalid, isSecret, newKey, newToken, readKey, readToken, renewToken, secretOf, splitToken } from './token.js';

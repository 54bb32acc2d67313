export { accept, decline, type InvitationView, lookAtInvitation, myInvitations } from './accepting.js';
export { maskAddress, readAddress } from './address.js';
export {
  type Appeal,
  type AppealStatus,
  answerAppeal,
  appealsOf,
  appealsToAnswer,
  appealToAnswer,
  raiseAppeal,
  withdrawAppeal,
} from './appeals.js';
export { type GroupView, listGroups, listRoles, listUnits, type RoleHolder, type RoleView, type UnitView } from './arrangement.js';
export { attemptEach, someKeyholder } from './attempt.js';
export { type AuditEvent, type AuditVerdict, exportAudit, listAudit, verifyAudit } from './audit.js';
export { beginCare, careFacts, endCare, type NewCare, onPlatform } from './care.js';
export { type Carrying, carryOut } from './carry-out.js';
export { inTransaction, latestChange, type RoleToGive, recordDoor, rolesToGive, type Setting, standingInTenant } from './change.js';
export { erasePerson } from './erase.js';
export { existing, readFacts, standingsOf } from './facts.js';
export { type HeldThen, heldThen, keepCharter, standingThen } from './history.js';
export { type Id, idOfComer, inOneSpelling, NOBODY, type PersonMaker, recordId, spelled } from './ids.js';
export { type Invitation, type InviteAnswer, invite, listInvitations, type NewInvitation } from './invitations.js';
export { askToJoin, type JoinRequest, listRequests, readRules, stopAsking } from './joining.js';
export { type MembershipEvent, passOn } from './listening.js';
export { listMembers, type Member, type Part, roleLabel } from './members.js';
export type { NoticeName } from './notices.js';
export { once } from './once.js';
export { addPerson, changeAddress, type NewPerson, personByAddress, proofToken, proveAddress, renamePerson } from './people.js';
export { listPrograms, type Program, programOfKey } from './programs.js';
export { type Effect, type PermissionEffect, type Proposal, type Proposed, proposeEach, type Reached, type RecordsReached } from './proposal.js';
export type { Done, Handed, Holder, Joining, RoleInput, Step } from './step.js';
export type { LintelTables } from './tables.js';
export { closeTenant, myTenants, type NewTenant, openTenant, type Plan, type PlanEffect, reopenTenant, setPlan } from './tenants.js';
export { renewToken } from './token.js';
export { beginView, endView, type LookAs, viewedFacts } from './views.js';
export { insistOnAll, insistOnKnown, knowsOf } from './visible.js';

export { accept, decline, expectedUnder, type InvitationView, lookAtInvitation, myInvitations, takeUp } from './accepting.js';
export { asIfAccepted } from './ahead.js';
export { type Appeal, type AppealStatus, answerAppeal, appealsOf, appealsToAnswer, appealToAnswer, raiseAppeal, withdrawAppeal } from './appeals.js';
export { beginCare, careFacts, endCare, type NewCare, onPlatform } from './care.js';
export { setDeactivated, tenantsOfPerson } from './deactivating.js';
export { type ActivationView, enrollingSteps, lookAtActivation, spendActivation, takePlace } from './enrolling.js';
export { erasePerson, tenantsToErase } from './erase.js';
export {
  type Intake,
  type IntakeCount,
  type IntakeMember,
  type IntakeOptions,
  type IntakePerson,
  type IntakeRefusal,
  type IntakeReport,
  type IntakeTenant,
  intake,
} from './intake/index.js';
export { type Invitation, type InviteAnswer, invitationSteps, invite, listInvitations } from './invitations.js';
export type { NewInvitation } from './invited.js';
export { askToJoin, type JoinRequest, joiningSteps, listRequests, readRules, stopAsking } from './joining.js';
export { beginLook, endLook, type LookAs, lookedFacts, putOutcome, putTrial } from './looks.js';
export { addPerson, changeAddress, giveUpAddress, type NewPerson, passwordChosen, personByAddress, proofToken, proveAddress, renamePerson } from './people.js';
export { listPrograms, type Program, programOfKey, programSteps } from './programs.js';
export {
  closeTenant,
  insistOnSeat,
  joinTenant,
  myTenants,
  type NewTenant,
  openTenant,
  type Plan,
  type PlanEffect,
  placeTenant,
  readPlace,
  reopenTenant,
  setPlan,
  tenantSteps,
} from './tenants.js';

export type {
  Appeal,
  AppealStatus,
  AuditEvent,
  AuditVerdict,
  BringOptions,
  BringReport,
  Done,
  Effect,
  Gives,
  GroupView,
  Handed,
  HeldThen,
  Holder,
  Intake,
  IntakeCount,
  IntakeMember,
  IntakeOptions,
  IntakePerson,
  IntakeRefusal,
  IntakeReport,
  IntakeTenant,
  Invitation,
  InvitationView,
  InviteAnswer,
  Joining,
  JoinRequest,
  LintelTables,
  LookAs,
  Member,
  MembershipEvent,
  NewCare,
  NewInvitation,
  NewPerson,
  NewTenant,
  PermissionEffect,
  Plan,
  PlanEffect,
  Program,
  Proposal,
  RecordsReached,
  RoleHolder,
  RoleInput,
  RoleToGive,
  RoleView,
  Step,
  UnitView,
} from '../membership/index.js';
export { maskAddress } from '../membership/index.js';
export {
  type ChangeAnswer,
  type Choice,
  checkPolicies,
  dropStatements,
  type FindOptions,
  type PolicyFinding,
  type PolicyOptions,
  policyStatements,
  type ReportDifference,
  type RunStatement,
  type ScopeDifference,
  type ScopedDb,
  type SqlCondition,
  type SqlTag,
} from '../scoping/index.js';
export { connect, type Database, type Survey, survey } from '../store/index.js';
export type { AppealToAnswer } from './appeals.js';
export { createLintel, Lintel } from './lintel.js';
export type { Entry, LintelOptions } from './options.js';
export type { PlatformFace } from './platform.js';
export type { Remedies, Remedy } from './remedies.js';
export { type MayDo, ServerStanding } from './server-standing.js';
export { SeveralStandings } from './several.js';
export { type Asker, proveFirst, type Signed, sessionBound } from './signed.js';

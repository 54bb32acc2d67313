export {
  type Account,
  type Letter,
  type MyFactors,
  type MySessions,
  type MyTenants,
  type Proving,
  type SigningIn,
  useAccount,
  useLetter,
  useMyFactors,
  useMySessions,
  useMyTenants,
  useProof,
  useSignIn,
} from './account.js';
export {
  type AppealItem,
  type AppealRemedies,
  type Appeals,
  type AuditItem,
  type JournalAbout,
  type JournalItem,
  type MyAppealItem,
  type Readable,
  type Reasons,
  useAppeals,
  useAudit,
  useJournal,
  useRead,
  useWhy,
} from './asked.js';
export { type Change, type DoneItem, type ProposalItem, useChange } from './change.js';
export type { Doing } from './doing.js';
export { type List, type Loaded, type Page, useFresh, useList } from './loading.js';
export {
  type Changing,
  type GroupItem,
  type GroupList,
  type InvitationItem,
  type InvitationList,
  type InvitedItem,
  type May,
  type MemberItem,
  type MemberList,
  type RoleItem,
  type RoleList,
  type RoleToGiveItem,
  type UnitItem,
  type UnitList,
  useGroups,
  useInvitations,
  useMembers,
  useRoles,
  useRolesToGive,
  useUnits,
} from './membership.js';
export { ClientProvider, type PasskeyCeremonies, useChanged, useClient } from './place.js';
export { IfAllowed, StandingProvider, useDecision, useStanding, useTenant } from './standing.js';

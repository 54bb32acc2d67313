export {
  type Doing,
  useAccount,
  useLetter,
  useMyFactors,
  useMySessions,
  useMyTenants,
  useProof,
  useSignIn,
} from './account.js';
export { type JournalAbout, type Readable, useAppeals, useAudit, useJournal, useRead, useWhy } from './asked.js';
export { type Change, useChange } from './change.js';
export { type List, type Loaded, useFresh, useList } from './loading.js';
export { type May, useGroups, useInvitations, useMembers, useRoles, useRolesToGive, useUnits } from './membership.js';
export { ClientProvider, type PasskeyCeremonies, useChanged, useClient } from './place.js';
export { IfAllowed, StandingProvider, useDecision, useStanding, useTenant } from './standing.js';

export type { Admission, Claims } from './admit.js';
export { type Arrival, type Arrived, arrive, arriveIn, bindIdentity } from './arrive.js';
export {
  type Connection,
  connectionOf,
  connectionSteps,
  keepSealed,
  listConnections,
  listRefused,
  listSources,
  type OpenConnection,
  openConnections,
  type RefusedArrival,
  readTerms,
  triedMark,
} from './connections.js';
export {
  type Directory,
  type DirectoryGroup,
  type DirectoryUser,
  directoryGroups,
  directoryMembers,
  directoryUsers,
  type KeptGroup,
  type KeptUser,
} from './directory.js';
export { bringGroup, changeGroup, dropGroup } from './directory-groups.js';
export { type DirectoryReport, listDirectories, noteUnknown } from './directory-report.js';
export { bringUser, changeUser, dropUser } from './directory-users.js';
export {
  type Domain,
  type DomainToSee,
  domainSeen,
  domainSteps,
  domainsToSee,
  giveDomain,
  holderOf,
  listDomains,
  proveDomain,
  recordOf,
  type Seen,
} from './domains.js';
export { checkRules } from './rules.js';

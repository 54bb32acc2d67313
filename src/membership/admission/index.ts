export type { Admission, Claims } from './admit.js';
export { type Arrival, type Arrived, arrive, arriveIn } from './arrive.js';
export {
  type Connection,
  connectionOf,
  connectionSteps,
  insistOnSetter,
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

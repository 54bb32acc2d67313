export type { Admission, Claims, Given } from './admit.js';
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
export { checkRules } from './rules.js';

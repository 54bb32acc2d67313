export { heldTogether, rolesIn } from './apart.js';
export type { Could, Decision, FieldAccess, HeldPermission, LookedAt, Outcome } from './decision.js';
export { DEMAND_HOURS, type Demands, everythingMet, meeting, OWN_SIGN_IN, obligationOf, openDemands, signedInWithin } from './demands.js';
export {
  type Anchor,
  type Assignment,
  anchorWords,
  charterOf,
  type DirectPermission,
  type Facts,
  type Held,
  type Look,
  type OpenedRecords,
  openingKey,
  type Snapshot,
  type StandingIn,
  type Through,
  type Way,
} from './facts.js';
export { fromRole, type Grant, grantsOf, type Path, reachWord, ruleOf, wayWords } from './grants.js';
export { KnowingStanding } from './knowing.js';
export { type PeopleReach, peopleReach } from './people.js';
export { type DecideOptions, type KindOf, openStanding, type RecordOf, Standing, type StandingOptions, throwIfRefused } from './standing.js';
export { aKeyholder, ENGLISH, inSentence, say, type Words } from './words.js';

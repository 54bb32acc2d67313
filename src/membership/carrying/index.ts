export { attemptEach, someKeyholder } from './attempt.js';
export { type BringOptions, type BringReport, bring } from './bringing.js';
export { type Carrying, carryOut } from './carry-out.js';
export { once } from './once.js';
export { type Effect, type PermissionEffect, type Proposal, type Proposed, proposeEach, type Reached, type RecordsReached } from './proposal.js';
export { type Trial, tryArrival } from './trial.js';

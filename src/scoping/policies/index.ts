export { CARRIED_CONDITIONS, carryInto, carryStanding, type RunStatement, readWallKey, signQuestion, type WallKey } from './carry.js';
export { checkPolicies, type PolicyFinding } from './check.js';
export { dropStatements, type PolicyOptions, policyStatements } from './ddl.js';
export { ReachWriter } from './reach.js';

export { CARRIED_CONDITIONS, carryStanding, readWallKey, type WallKey } from './carry.js';
export { dropStatements, type PolicyOptions, policyStatements, tablesUnderPolicies, wallOf } from './ddl.js';
export type { RuleWriter } from './rule.js';

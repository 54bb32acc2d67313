export { attributeSteps, readAttributes } from './attributes.js';
export { deputySteps } from './deputies.js';
export { groupSteps } from './groups.js';
export { handingSteps } from './handing.js';
export { assignmentRows, holderSteps, insistOnHolder, keyholderEnds, peopleOfHolders, readUntil, rolesOnRecord } from './holders.js';
export { endMembership, memberSteps } from './members.js';
export { openingSteps } from './openings.js';
export { roleSteps } from './roles.js';
export { unitSteps } from './units.js';

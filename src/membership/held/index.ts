export { giverInTenant, ownRoles, type RoleToGive, rolesToGive, standingInTenant } from './afresh.js';
export { type GroupView, listGroups, listRoles, listUnits, type RoleHolder, type RoleView, type UnitView } from './arrangement.js';
export { changesOf, type PersonChange } from './effects.js';
export { anchorColumns, anchorOf, assignmentOf, existing, isActive, readCourses, readFacts, SAID_BY, standingsOf } from './facts.js';
export { endingBy, Giver, givesByCharter, insistOnGiving, mayGive } from './giving.js';
export { listMark } from './lists.js';
export { keyholdersOf, listMembers, type Member, type Part, roleLabel } from './members.js';
export { courseDiffers, gainsAhead, type Holding, insistOnGains, momentsOf, type Reading } from './power.js';
export { insistOnAll, insistOnKnown, insistOnPeople, isKnown, knownTo, knowsOf, toldPeople } from './visible.js';

export { type Begun, begin } from './begin.js';
export { type Framework, type NewFile, type Project, projectFiles, type Where } from './project.js';
export type { Proposed } from './proposal.js';
export type { MemberTable, PeopleTable, Said, TenantTable } from './tables.js';

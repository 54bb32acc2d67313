export {
  type Around,
  type Comparison,
  compare,
  type ExplainedGrant,
  type Explanation,
  explain,
  type Giver,
  giversOf,
  pathWords,
  peopleIn,
  reachBy,
  whose,
} from '../explaining/index.js';
export type { Colours } from '../terminal/index.js';
export { writeAccessFile } from './access-out.js';
export { type AccessChange, accessChanges, alike, type Changing } from './changes.js';
export { type AppMember, copyMembers, intakeOf, ONLOOKER } from './copy-members.js';
export { type Populated, type Population, populate } from './populate.js';
export { escapeMarkdown, explanationMarkdown, printExplanation, printTable, strayLines, tableMarkdown } from './print.js';
export {
  asCurl,
  asTest,
  PROBE_CODES,
  type ProbeFinding,
  type ProbePerson,
  type ProbeProgress,
  type ProbeReport,
  type ProbeRoute,
  type ProbeTarget,
  probe,
  routesIn,
  type Send,
} from './probe/index.js';
export { printProposal, proposalMarkdown } from './proposal.js';
export { recordScript } from './record.js';
export { type Outcome, rehearse, type Stage } from './rehearse.js';
export { type ReviewFinding, reviewCharter } from './review.js';
export { REVIEW_CODES } from './review-codes.js';
export { type ReviewedTenant, reviewTenant, TENANT_CODES } from './review-tenant.js';
export { type Actor, type ExpectedAnswer, type ExpectedReach, readScript, type Script } from './script.js';
export { type AccessTable, accessTable, type Cell, madeUpFacts, openSubjects, peopleSubjects, roleSubjects, type Section, type Subject } from './table.js';
export { type TriedAs, tryAs } from './try-as.js';
export { rehearseAtWall, type WallStage } from './wall.js';

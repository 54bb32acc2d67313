export { type AccessChange, accessChanges, type Changing } from './changes.js';
export { type Comparison, compare, whose } from './compare.js';
export { type Colours, escapeMarkdown, explanationMarkdown, printExplanation, printTable, tableMarkdown } from './print.js';
export { printProposal, proposalMarkdown } from './proposal.js';
export { recordScript } from './record.js';
export { type Outcome, rehearse, type Stage } from './rehearse.js';
export { type Actor, type ExpectedAnswer, type ExpectedReach, readScript, type Script } from './script.js';
export { type AccessTable, accessTable, type Cell, madeUpFacts, peopleSubjects, roleSubjects, type Section, type Subject } from './table.js';
export { type ExplainedGrant, type Explanation, explain } from './why.js';

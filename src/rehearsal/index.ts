export { type Colours, escapeMarkdown, explanationMarkdown, printExplanation, printTable, tableMarkdown } from './print.js';
export { printProposal, proposalMarkdown } from './proposal.js';
export { type AccessTable, accessTable, type Cell, madeUpFacts, peopleSubjects, roleSubjects, type Section, type Subject } from './table.js';
export { type ExplainedGrant, type Explanation, explain } from './why.js';

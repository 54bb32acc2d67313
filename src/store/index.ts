export { checkSchema } from './check.js';
export { connect, type Database } from './connect.js';
export { prepareJournal } from './journal.js';
export { migrate } from './migrations/index.js';
export { TRIAL_MS, undone } from './undone.js';

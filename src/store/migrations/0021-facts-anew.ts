import type { Migration } from './migration.js';

/** What took this function's place is made anew in 0024. */
export const STEP_0021: Migration = {
  name: '0021 the facts of a standing, a list of each sort at once',
  sql: 'drop function if exists lintel_facts (text, text[], boolean, timestamptz)',
};

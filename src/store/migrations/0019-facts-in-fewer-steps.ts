import type { Migration } from './migration.js';

/** What took this function's place is made anew in 0024. */
export const STEP_0019: Migration = {
  name: '0019 the facts of a standing in fewer steps',
  sql: 'drop function lintel_facts (text, text[], boolean, timestamptz)',
};

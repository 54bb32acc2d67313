import type { Migration } from './migration.js';

export const STEP_0017: Migration = {
  name: '0017 looks as somebody else, and what is tried in them',
  sql: `
alter table lintel_view rename to lintel_look;
alter table lintel_look add column tries boolean not null default false`,
};

import type { Migration } from './migration.js';

export const STEP_0012: Migration = {
  name: '0012 what a source has brought',
  sql: `
create table lintel_brought (
  source text collate "C" not null,
  what text not null check (what in ('person', 'tenant', 'member')),
  tenant_id text collate "C" not null,
  id text collate "C" not null,
  mark text not null,
  waits boolean not null default false,
  primary key (source, what, tenant_id, id)
);
create index lintel_brought_waits on lintel_brought (source, id) where waits;
create index lintel_brought_id on lintel_brought (id);`,
};

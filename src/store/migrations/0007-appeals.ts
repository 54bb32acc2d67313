import type { Migration } from './migration.js';

export const STEP_0007: Migration = {
  name: '0007 appeals',
  sql: `
create table lintel_appeal (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  user_id text collate "C" not null,
  action text not null,
  record_id text not null,
  words text,
  status text not null check (status in ('open', 'agreed', 'declined', 'withdrawn')),
  raised_at timestamptz not null,
  expires_at timestamptz not null,
  answered_by text collate "C",
  answered_at timestamptz,
  reason text,
  primary key (tenant_id, id)
);
create index lintel_appeal_user on lintel_appeal (tenant_id, user_id, raised_at);
create index lintel_appeal_open on lintel_appeal (tenant_id, raised_at) where status = 'open'`,
};

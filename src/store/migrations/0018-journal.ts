import type { Migration } from './migration.js';

export const STEP_0018: Migration = {
  name: '0018 the journal of records',
  sql: `
create table lintel_journal (
  tenant_id text collate "C" not null,
  number bigint generated always as identity,
  id uuid not null default gen_random_uuid(),
  kind text collate "C" not null,
  record_id text collate "C" not null,
  at timestamptz not null default statement_timestamp(),
  actor text collate "C",
  way jsonb,
  actions jsonb,
  was jsonb,
  became jsonb,
  erased jsonb,
  primary key (tenant_id, number),
  check (num_nonnulls(was, became) > 0)
);
create index lintel_journal_record on lintel_journal (tenant_id, kind, record_id, number);
create index lintel_journal_actor on lintel_journal (tenant_id, actor, number);
create index lintel_journal_id on lintel_journal (tenant_id, id);
create index lintel_journal_at on lintel_journal (kind, at)`,
};

import type { Migration } from './migration.js';

export const STEP_0005: Migration = {
  name: '0005 charters, programs with keys, ends in invitations, what was sent',
  sql: `
create table lintel_charter (
  at timestamptz primary key,
  hash text collate "C" not null,
  data jsonb not null
);
alter table lintel_member add column responsible_id text collate "C";
create index lintel_member_responsible on lintel_member (tenant_id, responsible_id) where responsible_id is not null;
create table lintel_key (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  program_id text collate "C" not null,
  label text not null,
  secret_hash text collate "C" not null,
  made_by text collate "C" not null,
  made_at timestamptz not null,
  ends_at timestamptz not null,
  last_used_at timestamptz,
  primary key (tenant_id, id),
  foreign key (tenant_id, program_id) references lintel_member (tenant_id, user_id) on delete cascade
);
create index lintel_key_program on lintel_key (tenant_id, program_id);
alter table lintel_invitation add column member_until timestamptz, add column earlier_hashes jsonb not null default '[]';
alter table lintel_outbox add column queued_at timestamptz not null default now();
create index lintel_outbox_queued on lintel_outbox (tenant_id, queued_at);
create table lintel_mailed (
  address text collate "C" not null,
  at timestamptz not null,
  id text collate "C" not null,
  primary key (address, at, id)
);
alter table lintel_tenant add column seats integer check (seats > 0);
create table lintel_answer (
  tenant_id text collate "C" not null references lintel_tenant (id),
  actor text collate "C" not null,
  key text collate "C" not null,
  request text not null,
  answer jsonb,
  at timestamptz not null,
  primary key (tenant_id, actor, key)
)`,
};

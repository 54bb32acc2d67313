import type { Migration } from './migration.js';

export const STEP_0016: Migration = {
  name: '0016 connections, identities, domains, directories, answers that were used',
  sql: `
create table lintel_connection (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  name text not null,
  state text not null check (state in ('draft', 'on', 'off')),
  terms jsonb not null,
  sealed text,
  claims jsonb not null default '{}',
  rules json not null default '[]',
  by_id text collate "C" not null,
  tried text,
  primary key (tenant_id, id)
);
create table lintel_identity (
  tenant_id text collate "C" not null,
  connection_id text collate "C" not null,
  subject text collate "C" not null,
  user_id text collate "C",
  address text not null default '',
  name text not null default '',
  said jsonb,
  at timestamptz not null,
  primary key (tenant_id, connection_id, subject),
  foreign key (tenant_id, connection_id) references lintel_connection (tenant_id, id) on delete cascade
);
create index lintel_identity_user on lintel_identity (tenant_id, user_id) where user_id is not null;
create index lintel_identity_refused on lintel_identity (tenant_id, connection_id, at) where user_id is null;
create table lintel_identity_bar (
  tenant_id text collate "C" not null references lintel_tenant (id),
  mark text collate "C" not null,
  user_id text collate "C",
  primary key (tenant_id, mark)
);
create table lintel_domain (
  tenant_id text collate "C" not null references lintel_tenant (id),
  domain text collate "C" not null,
  challenge text not null,
  connection_id text collate "C",
  proven_at timestamptz,
  proven_by text check (proven_by in ('dns', 'platform')),
  seen_at timestamptz,
  looked_at timestamptz,
  lapsed_at timestamptz,
  primary key (tenant_id, domain),
  foreign key (tenant_id, connection_id) references lintel_connection (tenant_id, id)
);
create table lintel_domain_holder (
  domain text collate "C" primary key,
  tenant_id text collate "C" not null
);
alter table lintel_invitation add column expected boolean not null default false;
alter table lintel_member add column expected boolean not null default false;
create table lintel_directory_user (
  tenant_id text collate "C" not null,
  program_id text collate "C" not null,
  user_id text collate "C" not null,
  user_name text collate "C" not null,
  external_id text collate "C",
  resource jsonb not null,
  version integer not null default 1,
  made_at timestamptz not null,
  changed_at timestamptz not null,
  primary key (tenant_id, program_id, user_id),
  foreign key (tenant_id, user_id) references lintel_member (tenant_id, user_id) on delete cascade
);
create unique index lintel_directory_user_name on lintel_directory_user (tenant_id, program_id, user_name);
create index lintel_directory_user_external on lintel_directory_user (tenant_id, external_id) where external_id is not null;
create table lintel_directory_group (
  tenant_id text collate "C" not null,
  program_id text collate "C" not null,
  group_id text collate "C" not null,
  external_id text collate "C",
  version integer not null default 1,
  made_at timestamptz not null,
  changed_at timestamptz not null,
  primary key (tenant_id, program_id, group_id),
  foreign key (tenant_id, group_id) references lintel_group (tenant_id, id) on delete cascade
);
create table lintel_directory_unknown (
  tenant_id text collate "C" not null,
  program_id text collate "C" not null,
  what text collate "C" not null,
  at timestamptz not null,
  primary key (tenant_id, program_id, what)
);
create table lintel_used (
  mark text collate "C" primary key,
  until timestamptz not null
);
create index lintel_used_until on lintel_used (until);
alter table lintel_session add column connection text collate "C";
alter table lintel_key add column for_directory boolean not null default false`,
};

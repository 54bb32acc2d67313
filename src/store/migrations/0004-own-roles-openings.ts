import type { Migration } from './migration.js';

export const STEP_0004: Migration = {
  name: '0004 roles of a tenant, groups and units that hold, ends, openings',
  sql: `
create function lintel_is_active(status text, suspended_until timestamptz, ends_at timestamptz, at timestamptz) returns boolean language sql immutable
as $$ select (status = 'active' or coalesce(suspended_until <= at, false)) and (ends_at is null or ends_at > at) $$;
alter table lintel_member add column suspended_until timestamptz, add column ends_at timestamptz;
create table lintel_role (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  data jsonb not null,
  included jsonb not null default '[]',
  primary key (tenant_id, id)
);
alter table lintel_assignment drop constraint lintel_assignment_pkey;
alter table lintel_assignment alter column user_id drop not null;
alter table lintel_assignment alter column role drop not null;
alter table lintel_assignment
  add column group_id text collate "C",
  add column unit_id text collate "C",
  add column permission text collate "C",
  add column reach text collate "C",
  add column until timestamptz,
  add column without jsonb not null default '[]',
  add column holder_on text generated always as (case when user_id is not null then 'user' when group_id is not null then 'group' else 'unit' end) stored,
  add column holder_id text collate "C" generated always as (coalesce(user_id, group_id, unit_id)) stored,
  add foreign key (tenant_id, group_id) references lintel_group (tenant_id, id),
  add foreign key (tenant_id, unit_id) references lintel_unit (tenant_id, id),
  add check (num_nonnulls(user_id, group_id, unit_id) = 1),
  add check (num_nonnulls(role, permission) = 1 and (permission is null) = (reach is null)),
  add check (role <> 'keyholder' or (user_id is not null and until is null and without = '[]'));
create unique index lintel_assignment_once on lintel_assignment (tenant_id, user_id, group_id, unit_id, role, permission, reach, anchor, anchor_id) nulls not distinct;
create index lintel_assignment_holder on lintel_assignment (tenant_id, holder_id, holder_on);
create table lintel_opening (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  group_id text collate "C" not null,
  to_user text collate "C",
  to_group text collate "C",
  to_unit text collate "C",
  to_on text generated always as (case when to_user is not null then 'user' when to_group is not null then 'group' else 'unit' end) stored,
  to_id text collate "C" generated always as (coalesce(to_user, to_group, to_unit)) stored,
  kind text collate "C" not null,
  actions jsonb not null,
  until timestamptz,
  keeps boolean not null,
  primary key (tenant_id, id),
  foreign key (tenant_id, group_id) references lintel_group (tenant_id, id),
  foreign key (tenant_id, to_user) references lintel_member (tenant_id, user_id),
  foreign key (tenant_id, to_group) references lintel_group (tenant_id, id),
  foreign key (tenant_id, to_unit) references lintel_unit (tenant_id, id),
  check (num_nonnulls(to_user, to_group, to_unit) = 1)
);
create index lintel_opening_to on lintel_opening (tenant_id, to_id, to_on);
create table lintel_opening_kept (
  tenant_id text collate "C" not null,
  opening_id text collate "C" not null,
  user_id text collate "C" not null,
  primary key (tenant_id, opening_id, user_id),
  foreign key (tenant_id, opening_id) references lintel_opening (tenant_id, id)
)`,
};

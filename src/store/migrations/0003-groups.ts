import type { Migration } from './migration.js';

export const STEP_0003: Migration = {
  name: '0003 groups, roles on one record',
  sql: `
create table lintel_group (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  name text not null,
  primary key (tenant_id, id)
);
create table lintel_group_member (
  tenant_id text collate "C" not null,
  group_id text collate "C" not null,
  user_id text collate "C" not null,
  primary key (tenant_id, group_id, user_id),
  foreign key (tenant_id, group_id) references lintel_group (tenant_id, id),
  foreign key (tenant_id, user_id) references lintel_member (tenant_id, user_id)
);
create index lintel_group_member_user on lintel_group_member (tenant_id, user_id);
alter table lintel_assignment drop constraint lintel_assignment_anchor_check;
alter table lintel_assignment add constraint lintel_assignment_anchor_check check (anchor in ('tenant', 'unit', 'record'))`,
};

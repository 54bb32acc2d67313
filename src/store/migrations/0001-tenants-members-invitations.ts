import type { Migration } from './migration.js';

export const STEP_0001: Migration = {
  name: '0001 tenants, members, invitations',
  sql: `
create table lintel_person (
  id text collate "C" primary key,
  name text not null,
  address text collate "C" not null unique,
  address_written text not null,
  confirmed_at timestamptz
);
create table lintel_person_tenant (
  person_id text collate "C" not null,
  tenant_id text collate "C" not null,
  primary key (person_id, tenant_id)
);
create table lintel_tenant (
  id text collate "C" primary key,
  name text not null,
  status text not null check (status in ('open', 'closed')),
  contact text,
  features jsonb not null default '[]',
  last_number bigint not null default 0,
  last_hash text not null default ''
);
create table lintel_member (
  tenant_id text collate "C" not null references lintel_tenant (id),
  user_id text collate "C" not null,
  status text not null check (status in ('active', 'suspended')),
  since timestamptz not null,
  attributes jsonb not null default '{}',
  primary key (tenant_id, user_id)
);
create table lintel_unit (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  parent_id text collate "C",
  name text not null,
  primary key (tenant_id, id),
  foreign key (tenant_id, parent_id) references lintel_unit (tenant_id, id)
);
create table lintel_unit_below (
  tenant_id text collate "C" not null,
  above_id text collate "C" not null,
  below_id text collate "C" not null,
  primary key (tenant_id, above_id, below_id),
  foreign key (tenant_id, above_id) references lintel_unit (tenant_id, id),
  foreign key (tenant_id, below_id) references lintel_unit (tenant_id, id)
);
create index lintel_unit_above on lintel_unit_below (tenant_id, below_id);
create table lintel_placement (
  tenant_id text collate "C" not null,
  user_id text collate "C" not null,
  unit_id text collate "C" not null,
  primary key (tenant_id, user_id, unit_id),
  foreign key (tenant_id, user_id) references lintel_member (tenant_id, user_id),
  foreign key (tenant_id, unit_id) references lintel_unit (tenant_id, id)
);
create table lintel_assignment (
  tenant_id text collate "C" not null,
  user_id text collate "C" not null,
  role text collate "C" not null,
  anchor text not null check (anchor in ('tenant', 'unit')),
  anchor_id text collate "C" not null,
  primary key (tenant_id, user_id, role, anchor, anchor_id),
  foreign key (tenant_id, user_id) references lintel_member (tenant_id, user_id),
  check (anchor <> 'tenant' or anchor_id = tenant_id),
  check (role <> 'keyholder' or anchor = 'tenant')
);
create index lintel_assignment_role on lintel_assignment (tenant_id, role);
create table lintel_invitation (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  address text collate "C" not null,
  address_written text not null,
  name text,
  roles jsonb not null,
  status text not null check (status in ('pending', 'accepted', 'declined', 'withdrawn', 'expired')),
  token_hash text collate "C",
  invited_by text collate "C" not null,
  invited_at timestamptz not null,
  expires_at timestamptz not null,
  accepted_by text collate "C",
  primary key (tenant_id, id)
);
create unique index lintel_invitation_pending on lintel_invitation (tenant_id, address) where status = 'pending';
create index lintel_invitation_address on lintel_invitation (address);
create table lintel_outbox (
  tenant_id text collate "C" not null,
  number bigint not null,
  invitation_id text collate "C" not null,
  state text not null default 'waiting' check (state in ('waiting', 'sent', 'given up')),
  tries integer not null default 0,
  next_at timestamptz not null,
  last_error text,
  primary key (tenant_id, number),
  foreign key (tenant_id, invitation_id) references lintel_invitation (tenant_id, id)
);
create index lintel_outbox_waiting on lintel_outbox (next_at) where state = 'waiting';
create index lintel_outbox_invitation on lintel_outbox (tenant_id, invitation_id);
create table lintel_audit (
  tenant_id text collate "C" not null,
  number bigint not null,
  at timestamptz not null,
  actor text collate "C",
  what text not null,
  event jsonb not null,
  commitment text not null,
  previous_hash text not null,
  hash text not null,
  primary key (tenant_id, number)
);
create table lintel_audit_words (
  tenant_id text collate "C" not null,
  number bigint not null,
  salt text not null,
  words jsonb not null,
  primary key (tenant_id, number)
);
create function lintel_append_only() returns trigger language plpgsql as $$
begin
  raise exception 'lintel_audit is append-only';
end $$;
create trigger lintel_audit_append_only before update or delete on lintel_audit for each row execute function lintel_append_only();
create trigger lintel_audit_no_truncate before truncate on lintel_audit for each statement execute function lintel_append_only()`,
};

import type { Migration } from './migration.js';

export const STEP_0014: Migration = {
  name: '0014 sign-in: sessions, tries, links, devices, factors',
  sql: `
alter table lintel_credential add column set_at timestamptz not null default now(), add column must_change boolean not null default false;
delete from lintel_session;
alter table lintel_session
  add column id text collate "C" not null,
  add column address text collate "C" not null,
  add column seen_at timestamptz not null,
  add column proven_at timestamptz not null,
  add column methods text[] not null,
  add column enters text[] collate "C",
  add column label text,
  add column is_half boolean not null default false;
create unique index lintel_session_id on lintel_session (id);
create table lintel_link (
  id text collate "C" primary key,
  what text not null,
  address text collate "C" not null,
  secret_hash text,
  asked_at timestamptz not null,
  expires_at timestamptz,
  unique (what, address)
);
create index lintel_link_address on lintel_link (address);
alter table lintel_mailed add column is_link boolean not null default false;
create index lintel_outbox_letter on lintel_outbox (to_address, notice) where state = 'waiting' and notice is not null;
create table lintel_try (
  key text collate "C" primary key,
  wrong integer not null,
  open_at timestamptz not null,
  at timestamptz not null
);
create index lintel_try_at on lintel_try (at);
create table lintel_device (
  token_hash text collate "C" primary key,
  person_id text collate "C" not null references lintel_person (id),
  made_at timestamptz not null
);
create index lintel_device_person on lintel_device (person_id);
create table lintel_sign_in (
  id text collate "C" primary key,
  who text collate "C" not null,
  at timestamptz not null,
  method text not null,
  outcome text not null check (outcome in ('in', 'refused')),
  place text
);
create index lintel_sign_in_who on lintel_sign_in (who, at);
create index lintel_sign_in_at on lintel_sign_in (at);
create table lintel_factor (
  person_id text collate "C" primary key references lintel_person (id),
  sealed text not null,
  made_at timestamptz not null,
  confirmed_at timestamptz,
  last_step bigint not null default 0
);
create table lintel_recovery_code (
  person_id text collate "C" not null references lintel_person (id),
  code_hash text collate "C" not null,
  primary key (person_id, code_hash)
);
create table lintel_passkey (
  id text collate "C" primary key,
  person_id text collate "C" not null references lintel_person (id),
  public_key text not null,
  counter bigint not null,
  label text,
  made_at timestamptz not null,
  used_at timestamptz
);
create index lintel_passkey_person on lintel_passkey (person_id);
create table lintel_challenge (
  hash text collate "C" primary key,
  owner text collate "C" not null,
  expires_at timestamptz not null
);
create index lintel_challenge_expires on lintel_challenge (expires_at);
create table lintel_accepted (
  person_id text collate "C" not null references lintel_person (id),
  version text collate "C" not null,
  scope text collate "C" not null,
  at timestamptz not null,
  primary key (person_id, version, scope)
)`,
};

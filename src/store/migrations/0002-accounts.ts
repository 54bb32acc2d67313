import type { Migration } from './migration.js';

export const STEP_0002: Migration = {
  name: '0002 accounts',
  sql: `
create table lintel_credential (
  person_id text collate "C" primary key references lintel_person (id),
  password_hash text not null
);
create table lintel_session (
  token_hash text collate "C" primary key,
  person_id text collate "C" not null references lintel_person (id),
  started_at timestamptz not null,
  expires_at timestamptz not null
);
create index lintel_session_person on lintel_session (person_id)`,
};

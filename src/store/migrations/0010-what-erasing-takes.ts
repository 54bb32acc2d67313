import type { Migration } from './migration.js';

export const STEP_0010: Migration = {
  name: '0010 ids that were used, addresses that were held, whom a message is about, a secret for marks',
  sql: `
create table lintel_erased (
  person_id text collate "C" primary key
);
create table lintel_address_held (
  person_id text collate "C" not null references lintel_person (id) on delete cascade,
  address text collate "C" not null,
  until timestamptz not null,
  primary key (person_id, address, until)
);
alter table lintel_outbox add column about_id text collate "C";
create table lintel_secret (
  name text primary key,
  value text not null
);
insert into lintel_secret select 'marks', replace(gen_random_uuid()::text || gen_random_uuid()::text, '-', '');`,
};

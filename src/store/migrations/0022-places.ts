import type { Migration } from './migration.js';

export const STEP_0022: Migration = {
  name: '0022 places of records, what is still to be taken off them, and who wrote there last',
  sql: `
alter table lintel_tenant add column place text collate "C";
-- Whoever has left, while records in another database still name them.
create table lintel_leaving (
  tenant_id text collate "C" not null,
  user_id text collate "C" not null,
  -- Who takes their place there.
  passed_to text collate "C",
  since timestamptz not null,
  primary key (tenant_id, user_id)
);
create table lintel_wrote (
  tenant_id text collate "C" not null,
  user_id text collate "C" not null,
  at timestamptz not null,
  primary key (tenant_id, user_id)
);
create or replace function lintel_member_named () returns trigger language plpgsql as $$
begin
  -- What they were linked to would be theirs again.
  if exists (select 1 from lintel_leaving l where l.tenant_id = new.tenant_id and l.user_id = new.user_id) then
    raise exception 'somebody who is still leaving does not come in' using errcode = 'WL001';
  end if;
  new.name := coalesce((select p.name from lintel_person p where p.id = new.user_id), '');
  return new;
end $$;
`,
};

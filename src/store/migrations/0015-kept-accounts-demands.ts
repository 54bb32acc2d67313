import { STEP_0013 } from './0013-by-what-each-came.js';
import type { Migration } from './migration.js';

/** The function of the step before last, in which these are other: what stands there ran once and is not changed. */
function facts(edits: readonly (readonly [from: string, to: string])[]): string {
  const before = STEP_0013.sql.slice(STEP_0013.sql.indexOf('drop function if exists lintel_facts'));
  return edits.reduce((text, [from, to]) => {
    if (text.split(from).length !== 2) throw new Error(`lintel_facts has not one “${from}”`);
    return text.replace(from, () => to);
  }, before);
}

export const STEP_0015: Migration = {
  name: '0015 accounts that a tenant keeps, what a tenant demands, when somebody last came in',
  sql: `
alter table lintel_person add column kept_by text collate "C", add column activated_at timestamptz;
create table lintel_activation (
  tenant_id text collate "C" not null references lintel_tenant (id),
  user_id text collate "C" not null,
  secret_hash text not null,
  made_by text collate "C" not null,
  expires_at timestamptz not null,
  primary key (tenant_id, user_id)
);
create function lintel_kept_stays() returns trigger language plpgsql as $$
begin
  if exists (select from lintel_person p where p.id = new.person_id and p.kept_by <> new.tenant_id) then
    raise exception using errcode = '23514', message = 'lintel: an account that an organisation keeps is a member of no other';
  end if;
  return new;
end $$;
create trigger lintel_kept_stays before insert or update on lintel_person_tenant for each row execute function lintel_kept_stays();
alter table lintel_invitation add column gives jsonb not null default '{}';
alter table lintel_tenant add column demands jsonb not null default '{}';
alter table lintel_member add column asked_password boolean not null default false;
create table lintel_entered (
  tenant_id text collate "C" not null references lintel_tenant (id),
  user_id text collate "C" not null,
  at timestamptz not null,
  primary key (tenant_id, user_id)
);
${facts([
  ['drop function if exists lintel_facts(text, text[], boolean, timestamptz)', 'drop function lintel_facts(text, text[], boolean, timestamptz)'],
  ['program boolean, deactivated boolean)', 'program boolean, deactivated boolean, demands jsonb, asked_password boolean)'],
  ['program := false; deactivated := false;', 'program := false; deactivated := false; demands := t.demands; asked_password := false;'],
  ['m.responsible_id, case when', 'm.responsible_id, m.asked_password as asked, case when'],
  ['program := p.responsible_id is not null;', 'program := p.responsible_id is not null; asked_password := coalesce(p.asked, false);'],
])}`,
};

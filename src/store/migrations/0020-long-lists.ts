import type { Migration } from './migration.js';

export const STEP_0020: Migration = {
  name: '0020 long lists: members by name and by what they are searched by, events by whom and about whom',
  sql: `
alter table lintel_member add column name text not null default '';
create table lintel_member_word (
  tenant_id text collate "C" not null,
  word text collate "C" not null,
  user_id text collate "C" not null,
  primary key (tenant_id, word, user_id),
  foreign key (tenant_id, user_id) references lintel_member (tenant_id, user_id) on delete cascade
);
create index lintel_member_word_of on lintel_member_word (tenant_id, user_id);
create function lintel_words (name text, address text) returns setof text language sql immutable as $$
  -- What somebody is found by: the words of their name and of their address.
  select distinct w from regexp_split_to_table(lower(name || ' ' || address), '[^[:alnum:]]+') w where w <> ''
$$;
create function lintel_member_named () returns trigger language plpgsql as $$
begin
  new.name := coalesce((select p.name from lintel_person p where p.id = new.user_id), '');
  return new;
end $$;
create trigger lintel_member_named before insert on lintel_member for each row execute function lintel_member_named();
create function lintel_member_found () returns trigger language plpgsql as $$
begin
  insert into lintel_member_word (tenant_id, word, user_id)
  select m.tenant_id, w, m.user_id from made m join lintel_person p on p.id = m.user_id, lintel_words(p.name, p.address_written) w on conflict do nothing;
  return null;
end $$;
create trigger lintel_member_found after insert on lintel_member referencing new table as made for each statement execute function lintel_member_found();
create function lintel_person_named () returns trigger language plpgsql as $$
declare t text;
begin
  for t in select pt.tenant_id from lintel_person_tenant pt where pt.person_id = new.id order by 1 loop
    update lintel_member m set name = new.name where m.tenant_id = t and m.user_id = new.id;
    delete from lintel_member_word w where w.tenant_id = t and w.user_id = new.id;
    insert into lintel_member_word (tenant_id, word, user_id) select t, w, new.id from lintel_words(new.name, new.address_written) w
      where exists (select from lintel_member m where m.tenant_id = t and m.user_id = new.id);
  end loop;
  return null;
end $$;
create trigger lintel_person_named after update of name, address_written on lintel_person for each row
  when (old.name is distinct from new.name or old.address_written is distinct from new.address_written) execute function lintel_person_named();
update lintel_member m set name = p.name from lintel_person p where p.id = m.user_id;
insert into lintel_member_word (tenant_id, word, user_id) select m.tenant_id, w, m.user_id from lintel_member m join lintel_person p on p.id = m.user_id, lintel_words(p.name, p.address_written) w on conflict do nothing;
create index lintel_member_by_name on lintel_member (tenant_id, name, user_id) where responsible_id is null;
create index lintel_member_by_since on lintel_member (tenant_id, since, user_id) where responsible_id is null;
create index lintel_assignment_at_unit on lintel_assignment (tenant_id, anchor_id) where anchor = 'unit';
create index lintel_audit_hash on lintel_audit (tenant_id, "left"(hash, 12));
create index lintel_audit_by on lintel_audit (tenant_id, actor, number);
create index lintel_audit_about on lintel_audit (tenant_id, (event ->> 'user'), number) where event ->> 'user' is not null;
`,
};

import { type Kysely, sql } from 'kysely';

/**
 * The library's tables, as steps that are each run once. Keys of a tenant's tables begin with the tenant and no foreign key
 * crosses tenants, so that they can be distributed by tenant; `lintel_person` and `lintel_person_tenant` are keyed by person.
 */
const STEPS: readonly { readonly name: string; readonly sql: string }[] = [
  {
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
  },
  {
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
  },
  {
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
  },
  {
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
  },
  {
    name: '0005 charters, programs with keys, ends in invitations, what was sent',
    sql: `
create table lintel_charter (
  at timestamptz primary key,
  hash text collate "C" not null,
  data jsonb not null
);
alter table lintel_member add column responsible_id text collate "C";
create index lintel_member_responsible on lintel_member (tenant_id, responsible_id) where responsible_id is not null;
create table lintel_key (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  program_id text collate "C" not null,
  label text not null,
  secret_hash text collate "C" not null,
  made_by text collate "C" not null,
  made_at timestamptz not null,
  ends_at timestamptz not null,
  last_used_at timestamptz,
  primary key (tenant_id, id),
  foreign key (tenant_id, program_id) references lintel_member (tenant_id, user_id) on delete cascade
);
create index lintel_key_program on lintel_key (tenant_id, program_id);
alter table lintel_invitation add column member_until timestamptz, add column earlier_hashes jsonb not null default '[]';
alter table lintel_outbox add column queued_at timestamptz not null default now();
create index lintel_outbox_queued on lintel_outbox (tenant_id, queued_at);
create table lintel_mailed (
  address text collate "C" not null,
  at timestamptz not null,
  id text collate "C" not null,
  primary key (address, at, id)
);
alter table lintel_tenant add column seats integer check (seats > 0);
create table lintel_answer (
  tenant_id text collate "C" not null references lintel_tenant (id),
  actor text collate "C" not null,
  key text collate "C" not null,
  request text not null,
  answer jsonb,
  at timestamptz not null,
  primary key (tenant_id, actor, key)
)`,
  },
  {
    name: '0006 rules of a tenant, requests, views, care, addresses that are to be proven, notices',
    sql: `
alter table lintel_tenant add column one_role boolean not null default false, add column joining jsonb not null default '{}', add column bases jsonb not null default '{}';
create table lintel_request (
  tenant_id text collate "C" not null references lintel_tenant (id),
  user_id text collate "C" not null,
  words text,
  asked_at timestamptz not null,
  expires_at timestamptz not null,
  primary key (tenant_id, user_id)
);
create table lintel_view (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  by_id text collate "C" not null,
  care_id text collate "C",
  user_id text collate "C",
  facts jsonb,
  until timestamptz not null,
  primary key (tenant_id, id),
  check (num_nonnulls(user_id, facts) = 1)
);
create table lintel_deputy (
  tenant_id text collate "C" not null references lintel_tenant (id),
  of_id text collate "C" not null,
  to_id text collate "C" not null,
  permissions jsonb not null,
  since timestamptz not null,
  until timestamptz not null,
  primary key (tenant_id, of_id, to_id),
  foreign key (tenant_id, of_id) references lintel_member (tenant_id, user_id),
  foreign key (tenant_id, to_id) references lintel_member (tenant_id, user_id),
  check (of_id <> to_id and since < until)
);
create index lintel_deputy_to on lintel_deputy (tenant_id, to_id);
create table lintel_care (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  person_id text collate "C" not null,
  may jsonb not null,
  since timestamptz not null,
  until timestamptz not null,
  primary key (tenant_id, id)
);
create table lintel_address_proof (
  person_id text collate "C" primary key references lintel_person (id),
  address text collate "C" not null,
  address_written text not null,
  secret_hash text collate "C",
  expires_at timestamptz not null
);
alter table lintel_outbox drop constraint lintel_outbox_pkey;
alter table lintel_outbox alter column invitation_id drop not null;
alter table lintel_outbox
  add column part integer not null default 0,
  add column notice text,
  add column to_address text,
  add column of jsonb not null default '{}',
  add primary key (tenant_id, number, part),
  add check (num_nonnulls(invitation_id, notice) = 1 and (notice is null) = (to_address is null));
create sequence lintel_notice_number;
create table lintel_listener (
  tenant_id text collate "C" not null references lintel_tenant (id),
  name text collate "C" not null,
  number bigint not null default 0,
  tries integer not null default 0,
  next_at timestamptz not null,
  primary key (tenant_id, name)
);
create table lintel_unheard (
  tenant_id text collate "C" not null references lintel_tenant (id),
  name text collate "C" not null,
  number bigint not null,
  error text not null,
  at timestamptz not null,
  primary key (tenant_id, name, number)
);
drop function if exists lintel_facts(text, text[], boolean, timestamptz);
create function lintel_facts(of_tenant text, of_people text[], with_people boolean, at timestamptz)
returns table (name text, status text, contact text, features jsonb, bases jsonb, person_id text, person text, known boolean, attributes jsonb, ends_at timestamptz, active boolean,
  held json, units json, groups json, opened json, roles json, names json, stands_for json, program boolean)
language plpgsql stable set plan_cache_mode = force_generic_plan as $$
#variable_conflict use_column
declare
  t lintel_tenant;
  p record;
  in_groups text[];
  placed_at text[];
  in_units text[];
  own_roles text[];
  last_own text[];
  last_roles json;
  at_units text[];
  principals text[];
begin
  -- What they rest on, person by person, those for whom one of them is a deputy among them; and what somebody has none of is not looked for: the tenant, the membership, groups, units, roles and direct
  -- permissions with their anchors by whatever way they come, openings, own roles, and what groups and units are called.
  select * into t from lintel_tenant where id = of_tenant;
  if not found then return; end if;
  name := t.name; status := t.status; contact := t.contact; features := t.features; bases := t.bases; known := false; program := false;
  principals := array(select d.of_id from lintel_deputy d where d.tenant_id = of_tenant and d.to_id = any(of_people) and d.since <= at and d.until > at);
  for p in
    select i.id, i.name, m.user_id, m.attributes, m.ends_at, m.responsible_id, lintel_is_active(m.status, m.suspended_until, m.ends_at, at) as active
    from lintel_person i left join lintel_member m on m.tenant_id = of_tenant and m.user_id = i.id where i.id = any(of_people || principals)
  loop
    person_id := p.id; person := p.name; known := p.user_id is not null; attributes := p.attributes; ends_at := p.ends_at; active := p.active;
    held := null; units := null; groups := null; opened := null; roles := null; names := null; stands_for := null; program := p.responsible_id is not null;
    if known then
      if program and active then
        active := exists (select 1 from lintel_member r where r.tenant_id = of_tenant and r.user_id = p.responsible_id and lintel_is_active(r.status, r.suspended_until, r.ends_at, at));
      end if;
      in_groups := array(select g.group_id from lintel_group_member g where g.tenant_id = of_tenant and g.user_id = p.id order by 1);
      placed_at := array(select l.unit_id from lintel_placement l where l.tenant_id = of_tenant and l.user_id = p.id);
      in_units := '{}';
      if cardinality(placed_at) > 0 then
        in_units := array(select distinct b.above_id from lintel_unit_below b where b.tenant_id = of_tenant and b.below_id = any(placed_at));
      end if;
      select json_agg(json_build_array(a.holder_on, a.holder_id, a.role, a.permission, a.reach, a.anchor, a.anchor_id, a.until, a.without)
          order by a.holder_on desc, a.holder_id, a.role, a.permission, a.reach, a.anchor, a.anchor_id),
        array_agg(a.role) filter (where a.role like 'own-%'), array_agg(a.anchor_id) filter (where a.anchor = 'unit')
      into held, own_roles, at_units from lintel_assignment a
      where a.tenant_id = of_tenant and a.holder_id = any(p.id || in_groups || in_units) and (a.until is null or a.until > at)
        and case a.holder_on when 'user' then a.holder_id = p.id when 'group' then a.holder_id = any(in_groups) else a.holder_id = any(in_units) end;
      if cardinality(placed_at) > 0 or at_units is not null then
        units := (select json_agg(json_build_array(w.placed, b.above_id, b.below_id) order by b.above_id, b.below_id, w.placed)
          from (select unnest(placed_at) as id, true as placed union select unnest(at_units), false) w join lintel_unit_below b on b.tenant_id = of_tenant and b.above_id = w.id);
      end if;
      if cardinality(in_groups) > 0 then
        groups := (select json_agg(json_build_array(g.id, case when with_people then (
          select json_agg(o.user_id order by o.user_id) from lintel_group_member o where o.tenant_id = of_tenant and o.group_id = g.id) end) order by g.id) from unnest(in_groups) g (id));
      end if;
      if cardinality(in_groups) > 0 or cardinality(in_units) > 0 or at_units is not null then
        names := (select json_agg(json_build_array(n.via, n.id, n.name) order by n.via, n.id) from (
          select 'group' as via, g.id, g.name from lintel_group g where g.tenant_id = of_tenant and g.id = any(in_groups)
          union all select 'unit', u.id, u.name from lintel_unit u where u.tenant_id = of_tenant and u.id = any(in_units || at_units)) n);
      end if;
      if exists (select 1 from lintel_opening o where o.tenant_id = of_tenant and o.to_id = any(p.id || in_groups || in_units)) then
        opened := (select json_agg(json_build_array(o.id, o.kind, o.actions, g.id, g.name, o.to_on, o.to_id, o.until, (
            select json_agg(s.user_id order by s.user_id) from (select gm.user_id from lintel_group_member gm where gm.tenant_id = of_tenant and gm.group_id = g.id
              union select k.user_id from lintel_opening_kept k where k.tenant_id = of_tenant and k.opening_id = o.id) s)) order by o.id, o.to_on desc, o.to_id)
          from lintel_opening o join lintel_group g on g.tenant_id = of_tenant and g.id = o.group_id
          where o.tenant_id = of_tenant and o.to_id = any(p.id || in_groups || in_units) and (o.until is null or o.until > at)
            and case o.to_on when 'user' then o.to_id = p.id when 'group' then o.to_id = any(in_groups) else o.to_id = any(in_units) end);
      end if;
      if cardinality(principals) > 0 and p.id = any(of_people) then
        stands_for := (select json_agg(json_build_array(d.of_id, d.permissions, d.until) order by d.of_id) from lintel_deputy d
          where d.tenant_id = of_tenant and d.to_id = p.id and d.since <= at and d.until > at);
      end if;
      if own_roles is not null then
        -- Often the next one holds the same.
        if own_roles is distinct from last_own then
          last_own := own_roles;
          last_roles := (select json_object_agg(r.id, r.data) from lintel_role r where r.tenant_id = of_tenant and r.id in (
            select unnest(own_roles) union select jsonb_array_elements_text(i.included) from lintel_role i where i.tenant_id = of_tenant and i.id = any(own_roles)));
        end if;
        roles := last_roles;
      end if;
    end if;
    return next;
  end loop;
  if not found then return next; end if;
end $$;`,
  },
  {
    name: '0007 appeals',
    sql: `
create table lintel_appeal (
  tenant_id text collate "C" not null references lintel_tenant (id),
  id text collate "C" not null,
  user_id text collate "C" not null,
  action text not null,
  record_id text not null,
  words text,
  status text not null check (status in ('open', 'agreed', 'declined', 'withdrawn')),
  raised_at timestamptz not null,
  expires_at timestamptz not null,
  answered_by text collate "C",
  answered_at timestamptz,
  reason text,
  primary key (tenant_id, id)
);
create index lintel_appeal_user on lintel_appeal (tenant_id, user_id, raised_at);
create index lintel_appeal_open on lintel_appeal (tenant_id, raised_at) where status = 'open'`,
  },
  {
    name: '0008 which people are programs',
    sql: `
alter table lintel_person add column is_program boolean not null default false;
update lintel_person p set is_program = true where exists (select 1 from lintel_member m where m.user_id = p.id and m.responsible_id is not null)`,
  },
];

/** Brings the library's tables up to date. Can be run again, and by several processes at once. */
export async function migrate(db: Kysely<never>): Promise<string[]> {
  return db.transaction().execute(async (tx) => {
    await sql`select pg_advisory_xact_lock(7741203118)`.execute(tx);
    await sql`create table if not exists lintel_migration (name text primary key, at timestamptz not null default now())`.execute(tx);
    const { rows } = await sql<{ name: string }>`select name from lintel_migration`.execute(tx);
    const done = new Set(rows.map((row) => row.name));
    const run: string[] = [];
    for (const step of STEPS) {
      if (done.has(step.name)) continue;
      for (const statement of statements(step.sql)) await sql.raw(statement).execute(tx);
      await sql`insert into lintel_migration (name) values (${step.name})`.execute(tx);
      run.push(step.name);
    }
    return run;
  });
}

/** One statement at a time: what a prepared query of every driver takes. A function's body is one piece. */
function statements(text: string): string[] {
  return text.split(/;\n/).reduce<string[]>((all, piece) => {
    const last = all.at(-1);
    if (last !== undefined && (last.split('$$').length - 1) % 2 === 1) all[all.length - 1] = `${last};\n${piece}`;
    else if (piece.trim() !== '') all.push(piece.trim());
    return all;
  }, []);
}

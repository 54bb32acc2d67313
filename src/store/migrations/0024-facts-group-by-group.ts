import type { Migration } from './migration.js';

export const STEP_0024: Migration = {
  name: '0024 the facts of a standing, people group by group',
  sql: `
drop function if exists lintel_facts (text, text[], boolean, timestamptz);
create function lintel_facts (of_tenant text, of_people text[], with_people boolean, at timestamptz) returns setof json language plpgsql stable set plan_cache_mode = force_generic_plan as $$
declare
  t record;
  p record;
  in_groups text[];
  placed_at text[];
  in_units text[];
  held json;
  by_source boolean;
  own_roles text[];
  last_own text[];
  last_roles json;
  at_units text[];
  below json;
  people json;
  opened json;
  roles json;
  group_names json;
  unit_names json;
  stands_for json;
  other_bar json;
  told text[] := '{}';
  untold text[];
begin
  -- What they rest on, person by person, those for whom one of them is a deputy among them; and what somebody has none of is not looked for: the tenant, the membership, groups, units, roles and direct
  -- permissions with their anchors by whatever way they come, openings, own roles, and what groups and units are called. Also what begins only later is told, and what bars them and until when.
  -- The people of a group stand in the first row that asks for them and nowhere else: a list of all, in the row of each, would be their square.
  -- A row is one array in a fixed order: that is half of what an object with names takes, in the database and where it is read. What needs no order has none.
  select l.name, l.status, l.contact, l.features, l.bases, l.demands, array(select d.of_id from lintel_deputy d where d.tenant_id = of_tenant and d.to_id = any(of_people) and d.until > at) as principals
  into t from lintel_tenant l where l.id = of_tenant;
  if not found then return; end if;
  for p in
    select i.id, i.name, i.deactivated_at is not null as gone, m.user_id, m.attributes, m.responsible_id, m.asked_password,
      case when m.inactive_by <> '{}' then json_build_array('suspended', null, m.ends_at) else json_build_array(m.status, m.suspended_until, m.ends_at) end as bar
    from lintel_person i left join lintel_member m on m.tenant_id = of_tenant and m.user_id = i.id where i.id = any(of_people || t.principals)
  loop
    if p.user_id is null then
      return next json_build_array(t.name, t.status, t.contact, t.features, t.bases, t.demands, p.id, p.name, p.gone, false, false, null, false, json_build_array(p.bar));
      continue;
    end if;
    held := null; below := null; people := null; opened := null; roles := null; group_names := null; unit_names := null; stands_for := null; in_units := '{}';
    select array(select distinct g.group_id from lintel_group_member g where g.tenant_id = of_tenant and g.user_id = p.id order by 1),
      array(select l.unit_id from lintel_placement l where l.tenant_id = of_tenant and l.user_id = p.id) into in_groups, placed_at;
    if cardinality(placed_at) > 0 then
      in_units := array(select distinct b.above_id from lintel_unit_below b where b.tenant_id = of_tenant and b.below_id = any(placed_at));
    end if;
    select json_agg(json_build_array(a.holder_on, a.holder_id, a.role, a.permission, a.reach, a.anchor, a.anchor_id, a.until, a.without, null)
        order by a.holder_on desc, a.holder_id, a.role, a.permission, a.reach, a.anchor, a.anchor_id),
      bool_or(a.source <> ''), array_agg(a.role) filter (where a.role like 'own-%'), array_agg(a.anchor_id) filter (where a.anchor = 'unit')
    into held, by_source, own_roles, at_units from lintel_assignment a
    where a.tenant_id = of_tenant and a.holder_id = any(p.id || in_groups || in_units) and (a.until is null or a.until > at)
      and case a.holder_on when 'user' then a.holder_id = p.id when 'group' then a.holder_id = any(in_groups) else a.holder_id = any(in_units) end;
    if by_source then
      -- What several sources give alike is one; by what it came is told where no person gave it.
      select json_agg(json_build_array(a.holder_on, a.holder_id, a.role, a.permission, a.reach, a.anchor, a.anchor_id, a.until, a.without, a.sources)
          order by a.holder_on desc, a.holder_id, a.role, a.permission, a.reach, a.anchor, a.anchor_id),
        array_agg(a.role) filter (where a.role like 'own-%'), array_agg(a.anchor_id) filter (where a.anchor = 'unit')
      into held, own_roles, at_units from (
        select a.holder_on, a.holder_id, a.role, a.permission, a.reach, a.anchor, a.anchor_id, a.until, a.without,
          case when bool_and(a.source <> '') then array_agg(a.source order by a.source) end as sources
        from lintel_assignment a
        where a.tenant_id = of_tenant and a.holder_id = any(p.id || in_groups || in_units) and (a.until is null or a.until > at)
          and case a.holder_on when 'user' then a.holder_id = p.id when 'group' then a.holder_id = any(in_groups) else a.holder_id = any(in_units) end
        group by 1, 2, 3, 4, 5, 6, 7, 8, 9) a;
    end if;
    if cardinality(placed_at) > 0 or at_units is not null then
      below := (select json_object_agg(b.above_id, b.below) from (
        select b.above_id, array_agg(b.below_id) as below from (
          select b.above_id, b.below_id from lintel_unit_below b where b.tenant_id = of_tenant and b.above_id = any(placed_at || at_units) order by 1, 2) b group by 1) b);
    end if;
    if cardinality(in_groups) > 0 then
      group_names := (select json_object_agg(g.id, g.name) from lintel_group g where g.tenant_id = of_tenant and g.id = any(in_groups));
      untold := in_groups;
      if cardinality(told) > 0 then
        untold := array(select unnest(in_groups) except select unnest(told));
      end if;
      if with_people and cardinality(untold) > 0 then
        -- Group by group: read along the key they are in order already, where all at once would have to be sorted.
        people := (select json_agg(json_build_array(g.id, array(
            select distinct m.user_id from lintel_group_member m where m.tenant_id = of_tenant and m.group_id = g.id order by 1))) from unnest(untold) g (id));
        told := told || untold;
      end if;
    end if;
    if cardinality(in_units) > 0 or at_units is not null then
      unit_names := (select json_object_agg(u.id, u.name) from lintel_unit u where u.tenant_id = of_tenant and u.id = any(in_units || at_units));
    end if;
    if exists (select 1 from lintel_opening o where o.tenant_id = of_tenant and o.to_id = any(p.id || in_groups || in_units)) then
      opened := (select json_agg(json_build_array(o.id, o.kind, o.actions, g.id, g.name, o.to_on, o.to_id, o.until,
          case when not g.id = any(told) then array(select distinct m.user_id from lintel_group_member m where m.tenant_id = of_tenant and m.group_id = g.id order by 1) end,
          (select json_agg(k.user_id order by k.user_id) from lintel_opening_kept k where k.tenant_id = of_tenant and k.opening_id = o.id)) order by o.id, o.to_on desc, o.to_id)
        from lintel_opening o join lintel_group g on g.tenant_id = of_tenant and g.id = o.group_id
        where o.tenant_id = of_tenant and o.to_id = any(p.id || in_groups || in_units) and (o.until is null or o.until > at)
          and case o.to_on when 'user' then o.to_id = p.id when 'group' then o.to_id = any(in_groups) else o.to_id = any(in_units) end);
      told := array(select unnest(told) union select one->>3 from json_array_elements(opened) one);
    end if;
    if cardinality(t.principals) > 0 and p.id = any(of_people) then
      stands_for := (select json_agg(json_build_array(d.of_id, d.permissions, d.since, d.until) order by d.of_id) from lintel_deputy d
        where d.tenant_id = of_tenant and d.to_id = p.id and d.until > at);
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
    if p.responsible_id is null then
      return next json_build_array(t.name, t.status, t.contact, t.features, t.bases, t.demands, p.id, p.name, p.gone, true, p.asked_password, p.attributes, false, json_build_array(p.bar),
        held, placed_at, below, in_groups, people, opened, roles, group_names, unit_names, stands_for);
    else
      other_bar := (select case when r.inactive_by <> '{}' then json_build_array('suspended', null, r.ends_at) else json_build_array(r.status, r.suspended_until, r.ends_at) end
        from lintel_member r where r.tenant_id = of_tenant and r.user_id = p.responsible_id);
      return next json_build_array(t.name, t.status, t.contact, t.features, t.bases, t.demands, p.id, p.name, p.gone, true, p.asked_password, p.attributes, true, json_build_array(p.bar, other_bar),
        held, placed_at, below, in_groups, people, opened, roles, group_names, unit_names, stands_for);
    end if;
  end loop;
  if not found then
    return next json_build_array(t.name, t.status, t.contact, t.features, t.bases, t.demands, null, null, false, false, false, null, false, null);
  end if;
end $$;
`,
};

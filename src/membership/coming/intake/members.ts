import { type Kysely, sql, type Transaction } from 'kysely';
import { canonicalJson, KEYHOLDER } from '../../../charter/index.js';
import { type Assignment, type Facts, heldTogether } from '../../../standing/index.js';
import { anchorColumns, assignmentOf } from '../../held/index.js';
import { keepOpenIn, readAttributes, rolesOnRecord } from '../../steps/index.js';
import { type Id, insertMany, insistOnId, type LintelTables, lockTenants } from '../../terms/index.js';
import { compared, markOf, pairOf, refuse, type Taking } from './taking.js';
import type { IntakeMember } from './terms.js';

const isoOf = (until: string): string =>
  Number.isNaN(Date.parse(until)) ? refuse('bad-end', `“${until}” is no moment; write it as 2027-01-31T00:00:00Z`) : new Date(until).toISOString();

interface Ready {
  readonly user: string;
  readonly tenant: string;
  readonly roles: readonly Assignment[];
  readonly groups: readonly string[];
  readonly units: readonly string[];
  readonly attributes: Readonly<Record<string, unknown>>;
  readonly active: boolean;
}
const heldMark = ({ roles, groups, units, attributes, active }: Omit<Ready, 'user' | 'tenant'>) =>
  markOf([rolesOnRecord(roles).map(canonicalJson).sort(), [...groups].sort(), [...units].sort(), attributes, ...(active ? [] : ['inactive'])]);
const NOTHING = heldMark({ roles: [], groups: [], units: [], attributes: {}, active: true });

/** What a member has of this source, and their roles by every other way. */
interface Held {
  readonly roles: Assignment[];
  readonly groups: string[];
  readonly units: string[];
  readonly attributes: Readonly<Record<string, unknown>>;
  readonly active: boolean;
  readonly beside: Assignment[];
}

type RoleRow = Parameters<typeof assignmentOf>[0];

interface Around {
  /** By id, whether it is a program. */
  readonly people: ReadonlyMap<string, { readonly is_program: boolean; readonly kept_by: string | null }>;
  readonly groups: ReadonlySet<string>;
  readonly units: ReadonlySet<string>;
  readonly held: ReadonlyMap<string, Held>;
  /** Roles by a group or a unit, or one above it, by which more than what somebody is given here comes to them. */
  readonly by: ReadonlyMap<string, readonly Assignment[]>;
  readonly barred: ReadonlySet<string>;
}

function readMember(taking: Taking, { user, tenant, roles = [], groups = [], units = [], attributes = {}, active = true }: IntakeMember): Ready {
  const id = (what: 'person' | 'tenant' | 'group' | 'unit', given: Id) => insistOnId(taking.charter, what, given);
  const all = roles.map((role): Assignment => {
    if (typeof role === 'string') return { role, anchor: { on: 'tenant' } };
    return role.until === undefined ? role : { ...role, until: isoOf(role.until) };
  });
  for (const { role, anchor, until } of all) {
    taking.charter.role(role);
    if (role === KEYHOLDER && (anchor.on !== 'tenant' || until !== undefined))
      refuse('keyholder-anchor', 'full control is held for the whole organisation, without an end');
    if (anchor.on === 'record') taking.charter.kind(anchor.kind);
  }
  const each = (what: 'group' | 'unit', ids: readonly Id[]) => [...new Set(ids.map((one) => id(what, one)))];
  const once = new Map(all.map((one) => [canonicalJson(rolesOnRecord([one])), one]));
  const places = new Set([...once.values()].map(({ role, anchor }) => canonicalJson([role, anchorColumns('', anchor)])));
  if (places.size < once.size) refuse('said-twice', 'is given one role twice at the same place, and not alike; say it once');
  return {
    user: id('person', user),
    tenant: id('tenant', tenant),
    roles: [...once.values()],
    groups: each('group', groups),
    units: each('unit', units),
    attributes: taking.charter.data.attributes ? readAttributes(taking.charter, attributes, 'source') : attributes,
    active,
  };
}

export async function takeMembers(taking: Taking, tx: Transaction<LintelTables>, part: readonly IntakeMember[]): Promise<void> {
  const ready = taking.read(
    'member',
    part,
    ({ user, tenant }) => ({ id: user, tenant }),
    (one) => readMember(taking, one),
    pairOf,
  );
  const users = [...new Set(ready.map(({ user }) => user))];
  const tenants = new Map(
    (
      await lockTenants(
        tx,
        ready.map(({ tenant }) => tenant),
      )
    ).map((row) => [row.id, row]),
  );
  const around = await readAround(tx, taking.source, [...tenants.keys()], users, ready);
  const marks = await taking.marks(tx, 'member', users);
  const [fresh, changed]: [Ready[], Ready[]] = [[], []];
  const marked: { id: string; tenant: string; mark: string }[] = [];
  for (const one of ready) {
    try {
      const row = tenants.get(one.tenant) ?? refuse('not-found', 'the organisation is not there; take it in first');
      const [held, mark, last] = [around.held.get(pairOf(one)), heldMark(one), marks.get(pairOf(one))];
      if (mark === last && held) {
        taking.count('member', 'same');
        continue;
      }
      const is = held && heldMark(held);
      if (around.barred.has(pairOf(one))) refuse('removed-here', 'was removed here, and comes in again only by somebody here');
      const { outcome, isSaid } = compared(mark, last ?? NOTHING, is);
      if (outcome !== 'kept') insistOnSound(taking, one, row.one_role, around);
      if (held && outcome === 'changed' && takesControl(held, one)) refuse('takes-full-control', 'holds full control here, which is taken by somebody here');
      taking.count('member', last === undefined && outcome === 'changed' ? 'brought' : outcome);
      if (outcome === 'brought') fresh.push(one);
      if (outcome === 'changed') changed.push(one);
      if (isSaid) marked.push({ id: one.user, tenant: one.tenant, mark });
    } catch (error) {
      taking.refuseFor('member', { id: one.user, tenant: one.tenant }, error);
    }
  }
  await write(taking, tx, fresh, changed);
  await keepOpenIn(
    tx,
    changed.flatMap((one) =>
      (around.held.get(pairOf(one))?.groups ?? [])
        .filter((id) => !one.groups.includes(id))
        .map((id) => ({ tenant_id: one.tenant, group_id: id, user_id: one.user })),
    ),
  );
  await taking.mark(tx, 'member', marked);
  const said = new Map<string, Ready[]>();
  for (const one of [...fresh, ...changed]) said.set(one.tenant, [...(said.get(one.tenant) ?? []), one]);
  for (const [tenant, all] of said) {
    const people = all.map(({ user, roles, groups, units, active }) => ({ user, roles: rolesOnRecord(roles), groups, units, ...(!active && { active }) }));
    await taking.record(tx, tenants.get(tenant) as NonNullable<ReturnType<typeof tenants.get>>, [
      { what: 'people taken in', event: { source: taking.source, people } },
    ]);
  }
}

/** Full control is neither taken nor put to sleep by a source. */
function takesControl({ roles, beside, active }: Held, one: Ready): boolean {
  const full = (all: readonly Assignment[]) => all.some(({ role }) => role === KEYHOLDER);
  return (full(roles) && !full(one.roles)) || (active && !one.active && full([...roles, ...beside]));
}

function insistOnSound(taking: Taking, one: Ready, oneRole: boolean, { people, groups, units, held, by }: Around): void {
  if (!people.has(one.user)) refuse('no-account', 'is no person here; take them in first');
  const person = people.get(one.user);
  if (person?.is_program) refuse('no-person', 'is a program');
  if (person && (person.kept_by ?? one.tenant) !== one.tenant) refuse('kept-account', 'is an account that another organisation keeps');
  for (const group of one.groups) if (!groups.has(`${one.tenant}\n${group}`)) refuse('no-such-group', `there is no group "${group}"`);
  for (const unit of [...one.units, ...one.roles.flatMap(({ anchor }) => (anchor.on === 'unit' ? [anchor.unitId] : []))])
    if (!units.has(`${one.tenant}\n${unit}`)) refuse('no-such-unit', `there is no unit "${unit}"`);
  const beside = held.get(pairOf(one))?.beside ?? [];
  const all = new Set([...one.roles, ...beside].map(({ role, anchor }) => canonicalJson({ role, ...anchorColumns('', anchor) })));
  if (oneRole && all.size > 1) refuse('one-role', 'everybody has one role at most there');
  const through = [...one.groups, ...one.units].flatMap((id) => by.get(`${one.tenant}\n${id}`) ?? []);
  const facts: Facts = {
    charter: taking.charter.hash,
    tenant: { id: one.tenant, name: '', open: true, contact: null, features: [] },
    subject: 'member',
    me: { userId: one.user, groupIds: [], unitIds: [], attributes: {} },
    assignments: [...one.roles, ...beside, ...through],
    fulfilled: [],
  };
  const [apart] = heldTogether(taking.charter, facts);
  if (apart !== undefined) refuse('apart', `would hold together what is to be apart: ${taking.charter.data.apart[apart]?.sentence}`);
}

async function readAround(
  tx: Kysely<LintelTables>,
  source: string,
  tenants: readonly string[],
  users: readonly string[],
  ready: readonly Ready[],
): Promise<Around> {
  const named = (pick: (one: Ready) => readonly string[]) => [...new Set(ready.flatMap(pick))];
  const among = sql`unnest(${ready.map(({ tenant }) => tenant)}::text[], ${ready.map(({ user }) => user)}::text[]) as w (tenant_id, user_id)`;
  const rows = async <R>(query: ReturnType<typeof sql>) => (await query.execute(tx)).rows as R[];
  type Pair = { tenant_id: string; user_id: string; id: string };
  // Held until the part is done: nobody is erased past it.
  const people = await rows<{ id: string; is_program: boolean; kept_by: string | null }>(
    sql`select id, is_program, kept_by from lintel_person where id = any(${users}::text[]) order by id for key share`,
  );
  const own = (table: string, ids: readonly string[]) =>
    rows<Pair>(sql`select tenant_id, id from ${sql.table(table)} where tenant_id = any(${tenants}::text[]) and id = any(${ids}::text[])`);
  const groups = await own(
    'lintel_group',
    named(({ groups }) => groups),
  );
  const units = await own(
    'lintel_unit',
    named(({ units, roles }) => [...units, ...roles.flatMap(({ anchor }) => (anchor.on === 'unit' ? [anchor.unitId] : []))]),
  );
  const members = await rows<Pair & { attributes: Record<string, unknown> | null; active: boolean }>(
    sql`select m.tenant_id, m.user_id, m.attributes -> ${source}::text as attributes, not ${source} = any(m.inactive_by) as active
      from lintel_member m join ${among} using (tenant_id, user_id)`,
  );
  const held = new Map(
    members.map(({ tenant_id: tenant, user_id: user, attributes, active }): [string, Held] => [
      pairOf({ tenant, user }),
      { roles: [], groups: [], units: [], attributes: attributes ?? {}, active, beside: [] },
    ]),
  );
  const of = (row: Pair) => held.get(pairOf({ tenant: row.tenant_id, user: row.user_id }));
  if (members.length > 0) {
    const roles = await rows<Pair & RoleRow & { source: string }>(
      sql`select a.* from lintel_assignment a join ${among} using (tenant_id, user_id) where a.role is not null`,
    );
    for (const row of roles) of(row)?.[row.source === source ? 'roles' : 'beside'].push(assignmentOf(row));
    for (const row of await rows<Pair>(
      sql`select g.tenant_id, g.user_id, g.group_id as id from lintel_group_member g join ${among} using (tenant_id, user_id) where g.source = ${source}`,
    ))
      of(row)?.groups.push(row.id);
    for (const row of await rows<Pair>(
      sql`select p.tenant_id, p.user_id, p.unit_id as id from lintel_placement p join ${among} using (tenant_id, user_id) where p.source = ${source}`,
    ))
      of(row)?.units.push(row.id);
  }
  const wanted = sql`unnest(${[...groups, ...units].map((one) => one.tenant_id)}::text[], ${[...groups, ...units].map((one) => one.id)}::text[]) as w (tenant_id, id)`;
  const throughThem = await rows<Pair & RoleRow>(
    sql`select w.id, a.* from ${wanted} join lintel_assignment a on a.tenant_id = w.tenant_id and a.group_id = w.id where a.role is not null
      union all select w.id, a.* from ${wanted} join lintel_unit_below b on b.tenant_id = w.tenant_id and b.below_id = w.id
        join lintel_assignment a on a.tenant_id = b.tenant_id and a.unit_id = b.above_id where a.role is not null`,
  );
  const by = new Map<string, Assignment[]>();
  for (const row of throughThem) by.set(`${row.tenant_id}\n${row.id}`, [...(by.get(`${row.tenant_id}\n${row.id}`) ?? []), assignmentOf(row)]);
  const barred = await rows<Pair>(sql`select b.tenant_id, b.user_id from lintel_bar b join ${among} using (tenant_id, user_id)`);
  return {
    people: new Map(people.map((one) => [one.id, one])),
    groups: new Set(groups.map((one) => `${one.tenant_id}\n${one.id}`)),
    units: new Set(units.map((one) => `${one.tenant_id}\n${one.id}`)),
    held,
    by,
    barred: new Set(barred.map((one) => pairOf({ tenant: one.tenant_id, user: one.user_id }))),
  };
}

async function write(taking: Taking, tx: Transaction<LintelTables>, fresh: readonly Ready[], changed: readonly Ready[]): Promise<void> {
  const { source } = taking;
  const key = ({ tenant, user }: Ready) => ({ tenant_id: tenant, user_id: user });
  const said = ({ attributes }: Ready) => (Object.keys(attributes).length > 0 ? { [source]: attributes } : {});
  for (const one of changed) {
    for (const table of ['lintel_assignment', 'lintel_group_member', 'lintel_placement'] as const)
      await tx.deleteFrom(table).where('tenant_id', '=', one.tenant).where('user_id', '=', one.user).where('source', '=', source).execute();
    await sql`update lintel_member set attributes = attributes - ${source}::text || ${JSON.stringify(said(one))}::jsonb,
      inactive_by = array_remove(inactive_by, ${source}) || ${one.active ? [] : [source]}::text[] where tenant_id = ${one.tenant} and user_id = ${one.user}`.execute(
      tx,
    );
  }
  const since = new Date(taking.setting.now());
  await insertMany(
    tx,
    'lintel_member',
    fresh.map((one) => ({ ...key(one), status: 'active' as const, since, attributes: said(one) as never, inactive_by: one.active ? [] : [source] })),
  );
  await insertMany(
    tx,
    'lintel_person_tenant',
    fresh.map(({ tenant, user }) => ({ person_id: user, tenant_id: tenant })),
  );
  const all = [...fresh, ...changed];
  await insertMany(
    tx,
    'lintel_assignment',
    all.flatMap((one) =>
      one.roles.map((r) => ({
        ...key(one),
        role: r.role,
        ...anchorColumns(one.tenant, r.anchor),
        until: r.until === undefined ? null : new Date(r.until),
        without: (r.without ?? []) as never,
        source,
      })),
    ),
  );
  await insertMany(
    tx,
    'lintel_group_member',
    all.flatMap((one) => one.groups.map((group_id) => ({ ...key(one), group_id, source }))),
  );
  await insertMany(
    tx,
    'lintel_placement',
    all.flatMap((one) => one.units.map((unit_id) => ({ ...key(one), unit_id, source }))),
  );
}

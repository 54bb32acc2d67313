import { CompiledQuery, type Kysely, type Selectable, sql } from 'kysely';
import { inParts, PREPARED } from '../../base/index.js';
import { type Charter, nameNow, type RoleData, roleNow } from '../../charter/index.js';
import type { Registered } from '../../scoping/index.js';
import {
  type Anchor,
  type Assignment,
  type DirectPermission,
  type Facts,
  type Held,
  type OpenedRecords,
  openingKey,
  Standing,
  type StandingIn,
  type Through,
} from '../../standing/index.js';
import type { AssignmentRow, LintelTables } from '../terms/index.js';

/** One statement for all that standings in a tenant rest on. It is a function, so that its plan is made once a connection and not once a request. */
const FACTS = `select to_json(f) as facts from lintel_facts($1, $2, $3, $4) f${PREPARED}`;

type ViaColumn = 'user' | 'group' | 'unit';

interface FactsRow {
  name: string;
  status: string;
  contact: string | null;
  features: string[];
  bases: Record<string, string>;
  person_id: string | null;
  person: string | null;
  known: boolean;
  attributes: Record<string, unknown> | null;
  ends_at: string | null;
  active: boolean | null;
  held: [ViaColumn, string, string, string | null, string | null, AssignmentRow['anchor'], string, string | null, string[]][] | null;
  units: [boolean, string, string][] | null;
  groups: [string, string[] | null][] | null;
  opened: [string, string, string[], string, string, ViaColumn, string, string | null, string[] | null][] | null;
  roles: Record<string, RoleData> | null;
  names: ['group' | 'unit', string, string][] | null;
  stands_for: [string, string[], string][] | null;
  program: boolean;
}

/** The anchor as a standing names it. */
export function anchorOf(anchor: AssignmentRow['anchor'], id: string, name?: string | null): Anchor {
  if (anchor === 'tenant') return { on: 'tenant' };
  if (anchor === 'unit') return { on: 'unit', unitId: id, ...(name ? { name } : {}) };
  const colon = id.indexOf(':');
  return { on: 'record', kind: id.slice(0, colon), id: id.slice(colon + 1) };
}

/** The anchor as it is stored. */
export function anchorColumns(tenantId: string, anchor: Anchor): Pick<AssignmentRow, 'anchor' | 'anchor_id'> {
  if (anchor.on === 'tenant') return { anchor: 'tenant', anchor_id: tenantId };
  return anchor.on === 'unit' ? { anchor: 'unit', anchor_id: anchor.unitId } : { anchor: 'record', anchor_id: `${anchor.kind}:${anchor.id}` };
}

function subjectOf(userId: string | undefined, row: FactsRow | undefined): Facts['subject'] {
  if (userId === undefined) return 'visitor';
  if (!row?.known) return 'guest';
  return row.active ? 'member' : 'suspended';
}

const throughOf = (via: ViaColumn, id: string, name: string): { through?: Through } => (via === 'user' ? {} : { through: { on: via, id, name } });
const iso = (moment: string | Date | null): { until?: string } => (moment === null ? {} : { until: new Date(moment).toISOString() });

/** An assignment of a role, from its row. */
export function assignmentOf(
  row: Pick<Selectable<AssignmentRow>, 'role' | 'anchor' | 'anchor_id' | 'until' | 'without'> & { name?: string | null },
): Assignment {
  return {
    role: row.role as string,
    anchor: anchorOf(row.anchor, row.anchor_id, row.name),
    ...(row.until && { until: row.until.toISOString() }),
    ...(row.without.length > 0 && { without: row.without }),
  };
}

/** Who asks, and when. */
export interface FactsQuery {
  readonly tenant: string;
  readonly user: string | undefined;
  readonly fulfilled?: readonly string[];
  /** Milliseconds since 1970. */
  readonly now: number;
}

/** @param others rows that were read with it: those for whom the person stands in are among them. */
function factsOf(charter: Charter, { tenant, user, fulfilled }: Omit<FactsQuery, 'now'>, row: FactsRow | undefined, others: readonly FactsRow[] = []): Facts {
  const below: Record<string, string[]> = {};
  const unitIds = new Set<string>();
  for (const [placed, above, id] of row?.units ?? []) {
    if (placed) unitIds.add(above);
    below[above] ??= [];
    if (!below[above].includes(id)) below[above].push(id);
  }
  const assignments: Held<Assignment>[] = [];
  const direct: Held<DirectPermission>[] = [];
  const ends = row?.ends_at ? [new Date(row.ends_at).toISOString()] : [];
  const called = new Map((row?.names ?? []).map(([via, id, name]) => [`${via} ${id}`, name]));
  const through = (via: ViaColumn, id: string) => throughOf(via, id, called.get(`${via} ${id}`) ?? id);
  for (const [via, viaId, role, permission, reach, at, atId, until, without] of row?.held ?? []) {
    const more = { anchor: anchorOf(at, atId, called.get(`unit ${atId}`)), ...iso(until), ...through(via, viaId) };
    if (more.until) ends.push(more.until);
    if (role !== null) assignments.push({ role: nameNow(charter, role), ...more, ...(without.length > 0 && { without }) });
    else direct.push({ permission: nameNow(charter, permission as string), reach: reach as string, ...more });
  }
  const people = Object.fromEntries((row?.groups ?? []).flatMap(([id, of]) => (of ? [[id, of] as const] : [])));
  const opened = (row?.opened ?? []).map(([id, kind, actions, groupId, groupName, via, viaId, until, owners]): OpenedRecords => {
    people[openingKey(id)] = owners ?? [];
    if (until) ends.push(new Date(until).toISOString());
    return { id, kind, actions, group: { id: groupId, name: groupName }, ...through(via, viaId) };
  });
  const standsFor = (row?.stands_for ?? []).flatMap(([of, permissions, until]): StandingIn[] => {
    ends.push(new Date(until).toISOString());
    const principal = others.find(({ person_id, active }) => person_id === of && active);
    if (!principal) return [];
    const facts = factsOf(charter, { tenant, user: of, ...(fulfilled && { fulfilled }) }, principal);
    if (facts.endsAt) ends.push(facts.endsAt);
    return [{ of: { userId: of, name: principal.person ?? of }, permissions: permissions.map((name) => nameNow(charter, name)), facts }];
  });
  const endsAt = ends.sort()[0];
  const bases = row && Object.keys(row.bases).length > 0 ? { bases: row.bases } : {};
  return {
    charter: charter.hash,
    tenant: { id: tenant, name: row?.name ?? '', open: row?.status === 'open', contact: row?.contact ?? null, features: row?.features ?? [], ...bases },
    subject: subjectOf(user, row),
    ...(row?.program && { program: true as const }),
    me: {
      ...(user !== undefined && { userId: user }),
      ...(row?.person != null && { name: row.person }),
      groupIds: (row?.groups ?? []).map(([id]) => id),
      unitIds: [...unitIds],
      attributes: row?.attributes ?? {},
    },
    assignments,
    ...(direct.length > 0 && { direct }),
    ...(opened.length > 0 && { opened }),
    ...(standsFor.length > 0 && { standsFor }),
    ...(row?.roles && { roles: Object.fromEntries(Object.entries(row.roles).map(([id, role]) => [id, roleNow(charter, role)])) }),
    below,
    people,
    fulfilled: fulfilled ?? [],
    ...(endsAt !== undefined && { endsAt }),
  };
}

async function factsRows(db: Kysely<LintelTables>, charter: Charter, tenant: string, users: readonly string[], now: number): Promise<FactsRow[]> {
  const { rows } = await db.executeQuery<{ facts: FactsRow }>(
    CompiledQuery.raw(FACTS, [tenant, users, charter.asksForGroupPeople, new Date(now).toISOString()]),
  );
  return rows.map((row) => row.facts);
}

/**
 * Reads the facts of one subject in one tenant. A tenant that does not exist reads like one that is closed, so that the two
 * cannot be told apart.
 */
export async function readFacts(db: Kysely<LintelTables>, charter: Charter, who: FactsQuery): Promise<Facts> {
  const rows = await factsRows(db, charter, who.tenant, who.user === undefined ? [] : [who.user], who.now);
  return factsOf(charter, who, rows.find((row) => row.person_id === who.user) ?? rows[0], rows);
}

/** Read in one statement. */
const TOGETHER = 500;

/** The facts of several members of one tenant. Who is no member is left out. */
export async function readFactsOf(db: Kysely<LintelTables>, charter: Charter, tenant: string, users: readonly string[], now: number): Promise<Facts[]> {
  const all: Facts[] = [];
  for (const part of inParts(users, TOGETHER)) {
    const asked = new Set(part);
    const rows = await factsRows(db, charter, tenant, [...asked], now);
    for (const row of rows)
      if (row.known && asked.has(row.person_id as string)) all.push(factsOf(charter, { tenant, user: row.person_id as string }, row, rows));
  }
  return all;
}

/** The standings of several members, as they are now. Obligations count as met: the question is what they hold. */
export async function standingsOf(
  setting: { readonly db: Kysely<LintelTables>; readonly charter: Charter; readonly now: () => number },
  tenantId: string,
  users: readonly string[],
): Promise<Map<string, Standing>> {
  const fulfilled = Object.keys(setting.charter.data.obligations);
  const all = await readFactsOf(setting.db, setting.charter, tenantId, users, setting.now());
  return new Map(all.map((facts) => [facts.me.userId as string, new Standing(setting.charter, { ...facts, fulfilled }, { now: setting.now })]));
}

/** The condition that a membership counts at this moment. */
export function isActive(table: string, now: number) {
  const column = (name: string) => sql.ref(`${table}.${name}`);
  return sql<boolean>`lintel_is_active(${column('status')}, ${column('suspended_until')}, ${column('ends_at')}, ${new Date(now)})`;
}

/** Which of these people are active members of the tenant, or which of these units or groups are its own. */
export async function existing(db: Kysely<LintelTables>, tenantId: string, what: Registered, ids: readonly string[], now: number): Promise<string[]> {
  if (ids.length === 0) return [];
  if (what !== 'person') {
    const there = await db.selectFrom(`lintel_${what}`).select('id').where('tenant_id', '=', tenantId).where('id', 'in', ids).execute();
    return there.map(({ id }) => id);
  }
  const members = await db
    .selectFrom('lintel_member')
    .select('user_id')
    .where('tenant_id', '=', tenantId)
    .where('user_id', 'in', ids)
    .where(isActive('lintel_member', now))
    .execute();
  return members.map((member) => member.user_id);
}

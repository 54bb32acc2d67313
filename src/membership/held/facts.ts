import { type Kysely, type Selectable, sql } from 'kysely';
import { entryOf, inParts, LintelError } from '../../base/index.js';
import { type AttributeData, type Charter, canonicalJson, nameNow, readAttribute, roleNow, type Setter } from '../../charter/index.js';
import type { Registered } from '../../scoping/index.js';
import {
  type Anchor,
  type Assignment,
  type DirectPermission,
  everythingMet,
  type Facts,
  type Held,
  type OpenedRecords,
  openDemands,
  openingKey,
  Standing,
  type StandingIn,
  type Through,
} from '../../standing/index.js';
import type { AssignmentRow, LintelTables } from '../terms/index.js';
import { asksForGroupPeople, type Bar, type FactsRow, type Read, readRows, type ViaColumn } from './facts-rows.js';
import { listMark } from './lists.js';

const isOver = (moment: string | null, now: number) => moment !== null && Date.parse(moment) <= now;
const hasEnded = (bar: Bar | null, now: number) => bar === null || isOver(bar[2], now);
const isBarred = (bar: Bar | null, now: number) => hasEnded(bar, now) || (bar?.[0] === 'suspended' && !isOver(bar[1], now));

/** The anchor as a standing names it. */
export function anchorOf(anchor: AssignmentRow['anchor'], id: string, name?: string | null): Anchor {
  if (anchor === 'tenant') return { on: 'tenant' };
  if (anchor === 'unit') return { on: 'unit', unitId: id, ...(name ? { name } : {}) };
  const colon = id.indexOf(':');
  return { on: 'record', kind: id.slice(0, colon), id: id.slice(colon + 1) };
}

/** The anchor as it is stored. @throws LintelError `bad-anchor`. */
export function anchorColumns(tenantId: string, anchor: Anchor): Pick<AssignmentRow, 'anchor' | 'anchor_id'> {
  if (anchor.on === 'tenant') return { anchor: 'tenant', anchor_id: tenantId };
  if (anchor.on === 'unit' && anchor.unitId !== undefined) return { anchor: 'unit', anchor_id: anchor.unitId };
  if (anchor.on === 'record' && anchor.kind !== undefined && anchor.id !== undefined) return { anchor: 'record', anchor_id: `${anchor.kind}:${anchor.id}` };
  throw new LintelError(
    'bad-anchor',
    `${JSON.stringify(anchor)} says no place; write { on: 'tenant' }, { on: 'unit', unitId: '…' } or { on: 'record', kind: '…', id: '…' }`,
    {},
  );
}

type BySource = Readonly<Record<string, Readonly<Record<string, unknown>>>>;

/** Under which name the member has said something themselves; under the empty one stands what people here have. */
export const SAID_BY: Readonly<Record<Exclude<Setter, 'source'>, string>> = { people: '', member: 'member' };

/** A fact about a member, and whose word it is. */
export interface Said {
  readonly value: unknown;
  readonly by: Setter;
}

/**
 * What is known of somebody by the charter, by name: of those who may say it, the first who does. Sources that say it differently say nothing, and nor does what is of no
 * such type.
 */
export function saidOf(attributes: Readonly<Record<string, AttributeData>>, bySource: BySource): Record<string, Said> {
  const own: readonly string[] = Object.values(SAID_BY);
  const brought = agreed(Object.fromEntries(Object.entries(bySource).filter(([source]) => !own.includes(source))));
  const said: Readonly<Record<Setter, Readonly<Record<string, unknown>>>> = {
    source: brought,
    people: bySource[SAID_BY.people] ?? {},
    member: bySource[SAID_BY.member] ?? {},
  };
  return Object.fromEntries(
    Object.entries(attributes).flatMap(([name, data]) => {
      const [first] = data.setBy.map((by): Said => ({ value: readAttribute(data, entryOf(said[by], name)), by })).filter(({ value }) => value !== undefined);
      return first ? [[name, first]] : [];
    }),
  );
}

/** Where the charter declares none, whatever is said counts. */
const attributesOf = ({ data: { attributes } }: Charter, bySource: BySource): Record<string, unknown> =>
  attributes ? Object.fromEntries(Object.entries(saidOf(attributes, bySource)).map(([name, { value }]) => [name, value])) : agreed(bySource);

/** What sources say alike. Where two differ it is not known. */
function agreed(bySource: BySource): Record<string, unknown> {
  const [first = {}, ...others] = Object.values(bySource);
  if (others.length === 0) return first;
  const said = new Map<string, string[]>();
  for (const [name, value] of Object.values(bySource).flatMap(Object.entries)) said.set(name, [...(said.get(name) ?? []), canonicalJson(value)]);
  return Object.fromEntries([...said].flatMap(([name, [one, ...rest]]) => (rest.every((other) => other === one) ? [[name, JSON.parse(one as string)]] : [])));
}

/** When facts are read of, and how: `asIfFree` counts every suspension as over, as it is when power is judged, since it will be. */
interface Moment {
  readonly now: number;
  readonly asIfFree?: boolean;
}

const isFree = ({ bars }: FactsRow, { now, asIfFree }: Moment) => !(bars ?? []).some((bar) => (asIfFree ? hasEnded(bar, now) : isBarred(bar, now)));

function subjectOf(userId: string | undefined, row: FactsRow | undefined, moment: Moment): Facts['subject'] {
  if (userId === undefined) return 'visitor';
  // Where they are a member the platform has said so in each membership.
  if (!row?.known) return row?.deactivated ? 'visitor' : 'signedIn';
  return isFree(row, moment) ? 'member' : 'suspended';
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

/** @param read what was read with the row: those for whom the person stands in are among it. */
function factsOf(charter: Charter, who: Omit<FactsQuery, 'now'>, row: FactsRow | undefined, read: Read, moment: Moment): Facts {
  const { tenant, user, fulfilled } = who;
  const { now } = moment;
  const assignments: Held<Assignment>[] = [];
  const direct: Held<DirectPermission>[] = [];
  const ends = (row?.bars ?? []).slice(0, 1).flatMap((bar) => (bar?.[2] ? [new Date(bar[2]).toISOString()] : []));
  const through = (via: ViaColumn, id: string) => throughOf(via, id, entryOf(via === 'group' ? row?.group_names : row?.unit_names, id) ?? id);
  for (const [via, viaId, role, permission, reach, at, atId, until, without, sources] of row?.held ?? []) {
    if (isOver(until, now)) continue;
    const more = { anchor: anchorOf(at, atId, entryOf(row?.unit_names, atId)), ...iso(until), ...through(via, viaId), ...(sources && { sources }) };
    if (more.until) ends.push(more.until);
    if (role !== null) assignments.push({ role: nameNow(charter, role), ...more, ...(without.length > 0 && { without }) });
    else direct.push({ permission: nameNow(charter, permission as string), reach: reach as string, ...more });
  }
  const people = Object.fromEntries(listsOf(charter, row?.groups, []).map((id) => [id, read.people.get(id) ?? []]));
  const opened = (row?.opened ?? []).flatMap(([id, kind, actions, groupId, groupName, via, viaId, until]): OpenedRecords[] => {
    if (isOver(until, now)) return [];
    people[openingKey(id)] = read.people.get(openingKey(id)) ?? [];
    if (until) ends.push(new Date(until).toISOString());
    return [{ id, kind, actions, group: { id: groupId, name: groupName }, ...through(via, viaId) }];
  });
  const standsFor = (row?.stands_for ?? []).flatMap(([of, permissions, since, until]): StandingIn[] => {
    if (isOver(until, now)) return [];
    // What is not yet so counts no longer than until it is.
    if (!isOver(since, now)) {
      ends.push(new Date(since).toISOString());
      return [];
    }
    ends.push(new Date(until).toISOString());
    const principal = read.rows.find((one) => one.person_id === of && isFree(one, moment));
    if (!principal) return [];
    const facts = factsOf(charter, { tenant, user: of, ...(fulfilled && { fulfilled }) }, { ...principal, stands_for: null }, read, moment);
    if (facts.endsAt) ends.push(facts.endsAt);
    return [{ of: { userId: of, name: principal.person ?? of }, permissions: permissions.map((name) => nameNow(charter, name)), facts }];
  });
  const endsAt = ends.sort()[0];
  const subject = subjectOf(user, row, moment);
  // Who is no member here is asked for nothing; a program has no sign-in.
  const asked = row && subject === 'member' && !row.program ? openDemands({ ...row, asksPassword: row.asked_password }, fulfilled ?? []) : {};
  const bases = row && Object.keys(row.bases).length > 0 ? { bases: row.bases } : {};
  return {
    charter: charter.hash,
    tenant: { id: tenant, name: row?.name ?? '', open: row?.status === 'open', contact: row?.contact ?? null, features: row?.features ?? [], ...bases },
    subject,
    ...(row?.program && { program: true as const }),
    me: {
      ...(user !== undefined && { userId: user }),
      ...(row?.person != null && { name: row.person }),
      groupIds: row?.groups ?? [],
      unitIds: row?.placed ?? [],
      attributes: attributesOf(charter, row?.attributes ?? {}),
    },
    assignments,
    ...(direct.length > 0 && { direct }),
    ...(opened.length > 0 && { opened }),
    ...(standsFor.length > 0 && { standsFor }),
    ...(row?.roles && { roles: Object.fromEntries(Object.entries(row.roles).map(([id, role]) => [id, roleNow(charter, role)])) }),
    below: row?.below ?? {},
    people,
    ...asked,
    fulfilled: fulfilled ?? [],
    ...(endsAt !== undefined && { endsAt }),
  };
}

/** Under what the lists are known on which somebody's facts rest. */
const listsOf = (charter: Charter, groups: FactsRow['groups'] = [], opened: FactsRow['opened'] = []) => [
  ...(asksForGroupPeople(charter) ? groups : []),
  ...(opened ?? []).map(([id]) => openingKey(id)),
];

const rowOf = ({ rows }: Read, { user }: FactsQuery) => rows.find((row) => row.person_id === user) ?? rows[0];

/**
 * Reads the facts of one subject in one tenant. A tenant that does not exist reads like one that is closed, so that the two
 * cannot be told apart.
 */
export async function readFacts(db: Kysely<LintelTables>, charter: Charter, who: FactsQuery): Promise<Facts> {
  const read = await readRows(db, charter, who.tenant, who.user === undefined ? [] : [who.user], who.now);
  return factsOf(charter, who, rowOf(read, who), read, who);
}

/** Read in one statement. */
const TOGETHER = 500;

/** What somebody holds from a moment on, as a function of time: nothing of it differs between two of its moments. */
export interface Course {
  /** Milliseconds since 1970: the moment itself, and every later one at which something begins or ends, in order. */
  readonly moments: readonly number[];
  readonly at: (moment: number) => Facts;
  /** The same as if nobody were suspended: what is held when a suspension is over is held. */
  readonly asIfFree: (moment: number) => Facts;
  /** The same for two courses in which nothing differs at any moment. */
  readonly exactly: string;
}

/** Moments at which something of a row begins or ends. */
function boundaries({ bars, held, opened, stands_for }: FactsRow): number[] {
  const all = [
    ...(bars ?? []).flatMap((bar) => [bar?.[1], bar?.[2]]),
    ...(held ?? []).map(([, , , , , , , until]) => until),
    ...(opened ?? []).map(([, , , , , , , until]) => until),
    ...(stands_for ?? []).flatMap(([, , since, until]) => [since, until]),
  ];
  return all.flatMap((moment) => (moment == null ? [] : [Date.parse(moment)]));
}

function courseOf(charter: Charter, who: FactsQuery, row: FactsRow | undefined, read: Read): Course {
  const principals = row?.stands_for ? read.rows.filter(({ person_id }) => row.stands_for?.some(([of]) => of === person_id)) : [];
  const all = [...(row ? [row] : []), ...principals];
  const later = all.flatMap(boundaries).filter((moment) => moment > who.now);
  let exactly: string | undefined;
  const at = (moment: Moment) => factsOf(charter, who, row, read, moment);
  return {
    moments: [...new Set([who.now, ...later])].sort((a, b) => a - b),
    at: (now) => at({ now }),
    asIfFree: (now) => at({ now, asIfFree: true }),
    // Most courses are compared with no other.
    get exactly() {
      const named = all.flatMap(({ groups, opened }) => listsOf(charter, groups, opened));
      exactly ??= JSON.stringify([all, named.map((key) => listMark(read.people.get(key)))]);
      return exactly;
    },
  };
}

/** What one subject holds in one tenant from now on, read as {@link readFacts} does. */
export async function readCourse(db: Kysely<LintelTables>, charter: Charter, who: FactsQuery): Promise<Course> {
  const read = await readRows(db, charter, who.tenant, who.user === undefined ? [] : [who.user], who.now);
  return courseOf(charter, who, rowOf(read, who), read);
}

/** What several members of one tenant hold from now on, by their ids. Who is no member is left out. */
export async function readCourses(
  db: Kysely<LintelTables>,
  charter: Charter,
  tenant: string,
  users: readonly string[],
  now: number,
): Promise<Map<string, Course>> {
  const all = new Map<string, Course>();
  for (const part of inParts(users, TOGETHER)) {
    const asked = new Set(part);
    const read = await readRows(db, charter, tenant, [...asked], now);
    for (const row of read.rows)
      if (row.known && asked.has(row.person_id as string))
        all.set(row.person_id as string, courseOf(charter, { tenant, user: row.person_id as string, now }, row, read));
  }
  return all;
}

/** The standings of several members, as they are now. Obligations count as met: the question is what they hold. */
export async function standingsOf(
  setting: { readonly db: Kysely<LintelTables>; readonly charter: Charter; readonly now: () => number },
  tenantId: string,
  users: readonly string[],
): Promise<Map<string, Standing>> {
  const fulfilled = everythingMet(setting.charter);
  const now = setting.now();
  const all = await readCourses(setting.db, setting.charter, tenantId, users, now);
  return new Map([...all].map(([id, course]) => [id, new Standing(setting.charter, { ...course.at(now), fulfilled }, { now: setting.now })]));
}

/** The condition that a membership counts at this moment. */
export function isActive(table: string, now: number) {
  const column = (name: string) => sql.ref(`${table}.${name}`);
  return sql<boolean>`lintel_is_active(${column('status')}, ${column('inactive_by')}, ${column('suspended_until')}, ${column('ends_at')}, ${new Date(now)})`;
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

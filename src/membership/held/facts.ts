import { type Kysely, sql } from 'kysely';
import { inParts } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import type { Registered } from '../../scoping/index.js';
import { everythingMet, type Facts, Standing } from '../../standing/index.js';
import type { LintelTables } from '../terms/index.js';
import { type FactsQuery, factsOf, listsOf, type Moment } from './facts-made.js';
import { type FactsRow, type Read, readRows } from './facts-rows.js';
import { listMark } from './lists.js';

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

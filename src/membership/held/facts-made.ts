import { entryOf } from '../../base/index.js';
import { type Charter, nameNow, roleNow } from '../../charter/index.js';
import {
  type Assignment,
  type DirectPermission,
  type Facts,
  type Held,
  type OpenedRecords,
  openDemands,
  openingKey,
  type StandingIn,
  type Through,
} from '../../standing/index.js';
import { anchorOf } from './anchors.js';
import { asksForGroupPeople, type Bar, type FactsRow, type Read } from './facts-rows.js';
import { attributesOf } from './said.js';

/** Who asks, and when. */
export interface FactsQuery {
  readonly tenant: string;
  readonly user: string | undefined;
  readonly fulfilled?: readonly string[];
  /** Milliseconds since 1970. */
  readonly now: number;
}

const isOver = (moment: string | null, now: number) => moment !== null && Date.parse(moment) <= now;
const hasEnded = (bar: Bar | null, now: number) => bar === null || isOver(bar[2], now);
const isBarred = (bar: Bar | null, now: number) => hasEnded(bar, now) || (bar?.[0] === 'suspended' && !isOver(bar[1], now));

/** When facts are read of, and how: `asIfFree` counts every suspension as over, as it is when power is judged, since it will be. */
export interface Moment {
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

const iso = (moment: string) => new Date(moment).toISOString();

const throughOf = ({ group_names, unit_names }: FactsRow, on: Through['on'], id: string): Through => ({
  on,
  id,
  name: entryOf(on === 'group' ? group_names : unit_names, id) ?? id,
});

/** What most people have none of: the same for all of them. */
const NONE: readonly never[] = Object.freeze([]);
const NOTHING: Readonly<Record<string, never>> = Object.freeze({});

/** So that it can be put together step by step. */
type Made<T> = { -readonly [K in keyof T]: T[K] };

/** Facts that are being made, and from what. */
interface Making {
  readonly charter: Charter;
  readonly row: FactsRow;
  /** What was read with the row: those for whom the person stands in are among it. */
  readonly read: Read;
  readonly moment: Moment;
  readonly facts: Made<Facts>;
  /** Moments at which something of them ends, ISO 8601. */
  readonly ends: string[];
}

/**
 * What somebody holds, from the row that was read of them. It is put together step by step, since every request makes it: an object whose parts are there only sometimes,
 * written as one, takes as long as all the rest.
 */
export function factsOf(charter: Charter, who: Omit<FactsQuery, 'now'>, row: FactsRow | undefined, read: Read, moment: Moment): Facts {
  const { tenant, user, fulfilled = NONE } = who;
  const facts: Made<Facts> = {
    charter: charter.hash,
    tenant: tenantOf(tenant, row),
    subject: subjectOf(user, row, moment),
    me: meOf(charter, user, row),
    assignments: NONE,
    below: row?.below ?? NOTHING,
    people: NOTHING,
    fulfilled,
  };
  if (!row) return facts;
  const own = row.bars?.[0]?.[2];
  const making: Making = { charter, row, read, moment, facts, ends: own ? [iso(own)] : [] };
  if (row.program) facts.program = true;
  if (row.held) putHeld(making, row.held);
  if (row.opened || row.groups.length > 0) putOpened(making, row.opened ?? []);
  if (row.stands_for) putStandingIn(making, row.stands_for);
  if (row.roles) facts.roles = Object.fromEntries(Object.entries(row.roles).map(([id, role]) => [id, roleNow(charter, role)]));
  putDemands(making);
  const [first] = making.ends.sort();
  if (first !== undefined) facts.endsAt = first;
  return facts;
}

function tenantOf(id: string, row: FactsRow | undefined): Facts['tenant'] {
  const tenant: Made<Facts['tenant']> = {
    id,
    name: row?.name ?? '',
    open: row?.status === 'open',
    contact: row?.contact ?? null,
    features: row?.features ?? NONE,
  };
  if (row && Object.keys(row.bases).length > 0) tenant.bases = row.bases;
  return tenant;
}

function meOf(charter: Charter, user: string | undefined, row: FactsRow | undefined): Facts['me'] {
  const me: Made<Facts['me']> = {
    groupIds: row?.groups ?? NONE,
    unitIds: row?.placed ?? NONE,
    attributes: attributesOf(charter, row?.attributes ?? NOTHING),
  };
  if (user !== undefined) me.userId = user;
  if (row?.person != null) me.name = row.person;
  return me;
}

/** Roles and single permissions. */
function putHeld({ charter, row, moment: { now }, facts, ends }: Making, held: NonNullable<FactsRow['held']>): void {
  const assignments: Held<Assignment>[] = [];
  const direct: Held<DirectPermission>[] = [];
  for (const [via, viaId, role, permission, reach, at, atId, until, without, sources] of held) {
    if (isOver(until, now)) continue;
    const anchor = anchorOf(at, atId, entryOf(row.unit_names, atId));
    const one: Made<Held<Assignment>> | Made<Held<DirectPermission>> =
      role === null ? { permission: nameNow(charter, permission as string), reach: reach as string, anchor } : { role: nameNow(charter, role), anchor };
    if (until !== null) {
      one.until = iso(until);
      ends.push(one.until);
    }
    if (via !== 'user') one.through = throughOf(row, via, viaId);
    if (sources) one.sources = sources;
    if ('permission' in one) direct.push(one);
    else {
      if (without.length > 0) one.without = without;
      assignments.push(one);
    }
  }
  facts.assignments = assignments;
  if (direct.length > 0) facts.direct = direct;
}

/** What was opened to somebody, and the people on whom that and the rules about groups rest. */
function putOpened({ charter, row, read, moment: { now }, facts, ends }: Making, all: NonNullable<FactsRow['opened']>): void {
  const people = Object.fromEntries(listsOf(charter, row.groups, []).map((id) => [id, read.people.get(id) ?? []]));
  const opened: OpenedRecords[] = [];
  for (const [id, kind, actions, groupId, groupName, via, viaId, until] of all) {
    if (isOver(until, now)) continue;
    people[openingKey(id)] = read.people.get(openingKey(id)) ?? [];
    if (until) ends.push(iso(until));
    const one: Made<OpenedRecords> = { id, kind, actions, group: { id: groupId, name: groupName } };
    if (via !== 'user') one.through = throughOf(row, via, viaId);
    opened.push(one);
  }
  facts.people = people;
  if (opened.length > 0) facts.opened = opened;
}

/** Those for whom somebody stands in. */
function putStandingIn({ charter, read, moment, facts, ends }: Making, all: NonNullable<FactsRow['stands_for']>): void {
  const standsFor: StandingIn[] = [];
  for (const [of, permissions, since, until] of all) {
    if (isOver(until, moment.now)) continue;
    // What is not yet so counts no longer than until it is.
    const hasBegun = isOver(since, moment.now);
    ends.push(iso(hasBegun ? until : since));
    const principal = hasBegun ? read.rows.find((one) => one.person_id === of && isFree(one, moment)) : undefined;
    if (!principal) continue;
    const theirs = factsOf(charter, { tenant: facts.tenant.id, user: of, fulfilled: facts.fulfilled }, { ...principal, stands_for: null }, read, moment);
    if (theirs.endsAt) ends.push(theirs.endsAt);
    standsFor.push({ of: { userId: of, name: principal.person ?? of }, permissions: permissions.map((name) => nameNow(charter, name)), facts: theirs });
  }
  if (standsFor.length > 0) facts.standsFor = standsFor;
}

/** Who is no member here is asked for nothing; a program has no sign-in. */
function putDemands({ row, facts }: Making): void {
  // guard tenant-demands-asked (negated) by accounts: A tenant would ask nothing of its members first.
  if (facts.subject !== 'member' || row.program) return;
  const { demands } = openDemands({ name: row.name, demands: row.demands, asksPassword: row.asked_password }, facts.fulfilled);
  if (demands) facts.demands = demands;
}

/** Under what the lists are known on which somebody's facts rest. */
export const listsOf = (charter: Charter, groups: FactsRow['groups'] = [], opened: FactsRow['opened'] = []) => [
  ...(asksForGroupPeople(charter) ? groups : []),
  ...(opened ?? []).map(([id]) => openingKey(id)),
];

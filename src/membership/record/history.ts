import { type Kysely, sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { type Charter, nameNow, type RoleData, readCharter } from '../../charter/index.js';
import {
  type Assignment,
  type DirectPermission,
  everythingMet,
  type Facts,
  type Held,
  type HeldPermission,
  openingKey,
  Standing,
  type StandingIn,
  type Through,
} from '../../standing/index.js';
import { anchorOf } from '../held/index.js';
import { connectionSource, type Holder, type InvitedRole, isLasting, type LintelTables, PLATFORM_SOURCE } from '../terms/index.js';
import { exportAudit } from './audit.js';

/** What somebody held at a moment that is over. */
export interface HeldThen {
  readonly subject: 'member' | 'suspended' | 'signedIn';
  /** Their powers in one line. */
  readonly line: string;
  readonly permissions: readonly HeldPermission[];
  /** Hash of the charter that was in force. */
  readonly charter: string;
}

interface Membership {
  readonly suspended: boolean;
  /** Sources that say that they are not active. */
  readonly inactiveBy?: readonly string[];
  readonly until?: string;
  readonly endsAt?: string;
  readonly responsible?: string;
}

interface Opening {
  readonly group: string;
  readonly to: Holder;
  readonly kind: string;
  readonly actions: readonly string[];
  readonly keeps: boolean;
  readonly until?: string;
  readonly kept: Set<string>;
}

interface Deputy {
  readonly of: string;
  readonly user: string;
  readonly permissions: readonly string[];
  readonly since: string;
  readonly until: string;
}

type RoleThen = Pick<RoleData, 'may' | 'includes' | 'gives'>;
/** `until` and `without` as they were given. */
type Given<A> = A & { readonly holder: Holder; readonly source?: string };
/** People in a group, units of somebody: by id, with what put them there; empty for somebody here. */
type There = Map<string, Set<string>>;

/** A membership as its events tell it, up to some moment. */
interface Told {
  readonly members: Map<string, Membership>;
  roles: Given<Assignment>[];
  permissions: Given<DirectPermission>[];
  readonly ownRoles: Map<string, RoleThen>;
  readonly groups: Map<string, There>;
  readonly units: Map<string, string | null>;
  readonly placed: Map<string, There>;
  readonly openings: Map<string, Opening>;
  deputies: readonly Deputy[];
  bases: Readonly<Record<string, string>>;
}

const same = (a: Holder, b: Holder) =>
  ('user' in a && 'user' in b && a.user === b.user) ||
  ('group' in a && 'group' in b && a.group === b.group) ||
  ('unit' in a && 'unit' in b && a.unit === b.unit);
const holderIn = ({ user, group, unit }: Event): Holder => (user !== undefined ? { user } : group !== undefined ? { group } : { unit: unit as string });

/** An anchor as an event holds it. */
interface Placed {
  readonly on?: 'tenant';
  readonly unit?: string;
  readonly record?: string;
  readonly until?: string;
  readonly without?: readonly string[];
}
const anchorIn = (placed: Placed) => anchorOf(placed.on ?? (placed.unit === undefined ? 'record' : 'unit'), placed.unit ?? placed.record ?? '');
const moreIn = ({ until, without }: Placed) => ({ ...(until && { until }), ...(without && without.length > 0 && { without }) });

type Event = any;

const thereOf = (ids: readonly string[], source = ''): There => new Map(ids.map((id) => [id, new Set([source])]));

/** What people set: who stays keeps by what they came; and what a source goes on saying they leave alone. */
function set(there: There = new Map(), ids: readonly string[]): There {
  const lasting = [...there].flatMap(([id, by]) => {
    const stays = [...by].filter(isLasting);
    return stays.length > 0 ? [[id, new Set(stays)] as const] : [];
  });
  return new Map([...lasting, ...ids.map((id) => [id, there.get(id) ?? new Set([''])] as const)]);
}

/** What a source says of one: what others say of it stays. */
function say(there: There, id: string, source: string, is: boolean): void {
  const by = there.get(id) ?? new Set();
  if (is) by.add(source);
  else by.delete(source);
  if (by.size > 0) there.set(id, by);
  else there.delete(id);
}

/** What a source says of somebody. Whoever was not a member is one from then on. */
function sayActive(told: Told, user: string, source: string, active: boolean): void {
  const { inactiveBy = [], ...member } = told.members.get(user) ?? { suspended: false };
  const by = [...inactiveBy.filter((one) => one !== source), ...(active ? [] : [source])];
  told.members.set(user, { ...member, ...(by.length > 0 && { inactiveBy: by }) });
}

/** What tells whether two that somebody holds are the same. */
const keyOf = ({ holder: _, source: __, ...given }: Given<Assignment>) => JSON.stringify([given.role, given.anchor, given.until, given.without]);

/** Whoever leaves a group may leave open what they own. */
function leave(told: Told, group: string, left: readonly string[]): void {
  for (const opening of told.openings.values()) if (opening.group === group && opening.keeps) for (const one of left) opening.kept.add(one);
}

function dropPeople(told: Told, user: string): void {
  told.deputies = told.deputies.filter((one) => one.of !== user && one.user !== user);
  told.members.delete(user);
  told.placed.delete(user);
  told.roles = told.roles.filter(({ holder }) => !same(holder, { user }));
  told.permissions = told.permissions.filter(({ holder }) => !same(holder, { user }));
  for (const people of told.groups.values()) people.delete(user);
  for (const [id, { to }] of told.openings) if (same(to, { user })) told.openings.delete(id);
}

function join(told: Told, user: string, roles: readonly InvitedRole[], more: Partial<Membership> = {}): void {
  told.members.set(user, { suspended: false, ...more });
  told.roles.push(...roles.map((r) => ({ holder: { user }, role: r.role, anchor: anchorOf(r.anchor, r.anchorId), ...moreIn(r) })));
}

const rolesIn = (holder: Holder, roles: readonly (Placed & { readonly role: string })[]): Given<Assignment>[] =>
  roles.map((r) => ({ holder, role: r.role, anchor: anchorIn(r), ...moreIn(r) }));

const permissionsIn = (holder: Holder, permissions: readonly (Placed & Pick<DirectPermission, 'permission' | 'reach'>)[]): Given<DirectPermission>[] =>
  permissions.map((p) => ({ holder, permission: p.permission, reach: p.reach, anchor: anchorIn(p), ...moreIn(p) }));

/** Somebody stands where another stood. */
function takePlace(told: Told, { user, of }: Event): void {
  const named = (holder: Holder): Holder => (same(holder, { user: of }) ? { user } : holder);
  const move = <V>(all: Map<string, V>) => {
    const was = all.get(of);
    all.delete(of);
    if (was !== undefined) all.set(user, was);
  };
  for (const all of [told.members, told.placed, ...told.groups.values()]) move(all as Map<string, unknown>);
  for (const [id, member] of told.members) if (member.responsible === of) told.members.set(id, { ...member, responsible: user });
  told.roles = told.roles.map((one) => ({ ...one, holder: named(one.holder) }));
  told.permissions = told.permissions.map((one) => ({ ...one, holder: named(one.holder) }));
  for (const [id, opening] of told.openings) {
    if (opening.kept.delete(of)) opening.kept.add(user);
    told.openings.set(id, { ...opening, to: named(opening.to) });
  }
  told.deputies = told.deputies.map((one) => ({ ...one, of: one.of === of ? user : one.of, user: one.user === of ? user : one.user }));
}

/** What a source says of people from now on, all of it. */
function takeIn(told: Told, source: string, people: readonly Event[]): void {
  const users = new Set(people.map(({ user }) => user));
  const others = ({ holder, ...one }: Given<object>) => one.source !== source || !('user' in holder) || !users.has(holder.user);
  told.roles = told.roles.filter(others);
  told.permissions = told.permissions.filter(others);
  for (const { user, roles, groups, units, permissions = [], active = true } of people) {
    sayActive(told, user, source, active);
    told.roles.push(...rolesIn({ user }, roles).map((one) => ({ ...one, source })));
    told.permissions.push(...permissionsIn({ user }, permissions).map((one) => ({ ...one, source })));
    for (const [id, there] of told.groups) {
      const was = there.has(user);
      say(there, user, source, groups.includes(id));
      if (was && !there.has(user)) leave(told, id, [user]);
    }
    const placed = told.placed.get(user) ?? new Map();
    for (const id of new Set([...placed.keys(), ...units])) say(placed, id, source, units.includes(id));
    told.placed.set(user, placed);
  }
}

/** What each event says happened, by its name. What is not named here changes nobody's powers. */
const TOLD: Readonly<Record<string, (told: Told, event: Event) => void>> = {
  'tenant opened': (told, { keyholder }) => join(told, keyholder, [{ role: 'keyholder', anchor: 'tenant', anchorId: '' }]),
  'invitation accepted': (told, { user, roles, endsAt }) => join(told, user, roles, endsAt && { endsAt }),
  'people taken in': (told, { source, people }) => takeIn(told, source, people),
  arrived: (told, { source, ...person }) => takeIn(told, source, [person]),
  'directory group changed': (told, { source, group, came, went }) => {
    const there = told.groups.get(group) ?? new Map();
    for (const user of came) say(there, user, source, true);
    for (const user of went) {
      say(there, user, source, false);
      if (!there.has(user)) leave(told, group, [user]);
    }
    told.groups.set(group, there);
  },
  'connection dropped': (told, { connection, suspended }) => {
    const source = connectionSource(connection);
    takeIn(
      told,
      source,
      [...told.members.keys()].map((user) => ({ user, roles: [], groups: [], units: [] })),
    );
    for (const user of suspended) setMember(told, user, { suspended: true });
  },
  'roles changed': (told, event) => {
    const holder = holderIn(event);
    const given = rolesIn(holder, event.after);
    const wanted = new Set(given.map(keyOf));
    // What stays keeps the source by which it came.
    const kept = told.roles.filter((one) => same(one.holder, holder) && (wanted.has(keyOf(one)) || isLasting(one.source ?? '')));
    const stays = new Set(kept.map(keyOf));
    told.roles = [...told.roles.filter((one) => !same(one.holder, holder)), ...kept, ...given.filter((one) => !stays.has(keyOf(one)))];
  },
  'permissions changed': (told, event) => {
    const holder = holderIn(event);
    told.permissions = told.permissions.filter((one) => !same(one.holder, holder) || isLasting(one.source ?? ''));
    told.permissions.push(...permissionsIn(holder, event.after));
  },
  'role made': (told, { role, after }) => void told.ownRoles.set(role, after),
  'role changed': (told, { role, after }) => void told.ownRoles.set(role, after),
  'role dropped': (told, { role, instead }) => {
    told.ownRoles.delete(role);
    const held = told.roles.filter((one) => one.role === role);
    told.roles = told.roles.filter((one) => one.role !== role);
    if (instead === null) return;
    for (const { without: _, ...one } of held) {
      const already = told.roles.some(
        (r) => r.role === instead && r.source === one.source && same(r.holder, one.holder) && JSON.stringify(r.anchor) === JSON.stringify(one.anchor),
      );
      if (!already) told.roles.push({ ...one, role: instead });
    }
  },
  'group made': (told, { group, people }) => void told.groups.set(group, thereOf(people)),
  'group changed': (told, { group, before, after }) => {
    const people = set(told.groups.get(group), after);
    told.groups.set(group, people);
    leave(
      told,
      group,
      before.filter((one: string) => !people.has(one)),
    );
  },
  'group dropped': (told, { group }) => {
    told.groups.delete(group);
    told.roles = told.roles.filter(({ holder }) => !same(holder, { group }));
    told.permissions = told.permissions.filter(({ holder }) => !same(holder, { group }));
    for (const [id, opening] of told.openings) if (opening.group === group || same(opening.to, { group })) told.openings.delete(id);
  },
  'unit added': (told, { unit, below }) => void told.units.set(unit, below),
  'unit moved': (told, { unit, after }) => void told.units.set(unit, after),
  'member placed': (told, { user, after }) => void told.placed.set(user, set(told.placed.get(user), after)),
  'member suspended': (told, { user, until }) => setMember(told, user, { suspended: true, ...(until && { until }) }),
  'member restored': (told, { user }) => setMember(told, user, { suspended: false }),
  'member deactivated': (told, { user }) => sayActive(told, user, PLATFORM_SOURCE, false),
  'member reactivated': (told, { user }) => sayActive(told, user, PLATFORM_SOURCE, true),
  'end of membership set': (told, { user, at }) => {
    const { endsAt: _, ...member } = told.members.get(user) ?? { suspended: false };
    told.members.set(user, { ...member, ...(at && { endsAt: at }) });
  },
  'member joined': (told, { user, roles }) => join(told, user, roles),
  'member enrolled': (told, { user, roles, endsAt }) => join(told, user, roles, endsAt && { endsAt }),
  'place taken': takePlace,
  'member removed': (told, { user }) => dropPeople(told, user),
  'member erased': (told, { user }) => dropPeople(told, user),
  'member left': (told, { user }) => dropPeople(told, user),
  'program made': (told, { program, responsible }) => join(told, program, [], { responsible }),
  'program entrusted': (told, { program, responsible }) => {
    const member = told.members.get(program);
    if (member) told.members.set(program, { ...member, responsible });
  },
  'deputy named': (told, event) => {
    told.deputies = [...told.deputies.filter((one) => one.of !== event.of || one.user !== event.user), event];
  },
  'deputy ended': (told, { of, user }) => {
    told.deputies = told.deputies.filter((one) => one.of !== of || one.user !== user);
  },
  'rules set': (told, { bases }) => {
    told.bases = { ...told.bases, ...bases };
  },
  'records opened': (told, { opening, ...event }) => void told.openings.set(opening, { ...event, kept: new Set() }),
  'records closed': (told, { opening }) => void told.openings.delete(opening),
};

function setMember(told: Told, user: string, { suspended, until }: Pick<Membership, 'suspended' | 'until'>): void {
  const { until: _, inactiveBy, ...member } = told.members.get(user) ?? { suspended };
  // Whoever is brought back is, whatever a source said; but for the platform, and what a source goes on saying.
  const by = inactiveBy?.filter((one) => suspended || one === PLATFORM_SOURCE || isLasting(one)) ?? [];
  told.members.set(user, { ...member, suspended, ...(until && { until }), ...(by.length > 0 && { inactiveBy: by }) });
}

function isActive(told: Told, user: string, at: number): boolean {
  const member = told.members.get(user);
  if (!member) return false;
  const suspended = member.inactiveBy !== undefined || (member.suspended && !(member.until !== undefined && Date.parse(member.until) <= at));
  const ended = member.endsAt !== undefined && Date.parse(member.endsAt) <= at;
  return !suspended && !ended && (member.responsible === undefined || isActive(told, member.responsible, at));
}

/** The unit and all below it. */
function belowUnit(told: Told, unit: string): string[] {
  return [unit, ...[...told.units].filter(([, above]) => above === unit).flatMap(([id]) => belowUnit(told, id))];
}

/** What these events say that somebody held: the same facts that the tables give of today. */
function factsThen(told: Told, charter: Charter, user: string, at: number): Facts {
  const groupIds = [...told.groups].filter(([, people]) => people.has(user)).map(([id]) => id);
  const unitIds = [...(told.placed.get(user)?.keys() ?? [])];
  const above = [...told.units.keys()].filter((unit) => belowUnit(told, unit).some((id) => unitIds.includes(id)));
  const through = (holder: Holder): { through?: Through } | undefined => {
    if ('user' in holder) return holder.user === user ? {} : undefined;
    if ('group' in holder) return groupIds.includes(holder.group) ? { through: { on: 'group', id: holder.group, name: holder.group } } : undefined;
    return above.includes(holder.unit) ? { through: { on: 'unit', id: holder.unit, name: holder.unit } } : undefined;
  };
  const counts = ({ until }: { readonly until?: string }) => until === undefined || Date.parse(until) > at;
  const held = <A extends { readonly until?: string }>(given: readonly Given<A>[]) => {
    // What several sources give alike is held once; by what it came is told where nobody gave it here.
    const once = new Map<string, Held<A> & { sources: string[] | undefined }>();
    for (const { holder, source, ...one } of given) {
      const way = through(holder);
      if (!way || !counts(one)) continue;
      const key = JSON.stringify([one, way]);
      const known = once.get(key);
      const sources = source === undefined || (known && !known.sources) ? undefined : [...(known?.sources ?? []), source].sort();
      once.set(key, { ...(one as unknown as A), ...way, sources });
    }
    return [...once.values()].map(({ sources, ...one }) => ({ ...one, ...(sources && { sources }) }) as unknown as Held<A>);
  };
  const opened = [...told.openings].flatMap(([id, opening]) => {
    const way = through(opening.to);
    return way && counts(opening) ? [{ id, kind: opening.kind, actions: opening.actions, group: { id: opening.group, name: opening.group }, ...way }] : [];
  });
  const member = told.members.get(user);
  const standsFor = told.deputies
    .filter((one) => one.user === user && Date.parse(one.since) <= at && Date.parse(one.until) > at && isActive(told, one.of, at))
    .map(({ of, permissions }): StandingIn => {
      const facts = factsThen({ ...told, deputies: [] }, charter, of, at);
      return { of: { userId: of, name: of }, permissions: permissions.map((name) => nameNow(charter, name)), facts };
    });
  const known = [...told.ownRoles].map(([id, role]) => [id, { label: id, ...role }] as const);
  const assignments = held<Assignment>(told.roles).map((one) => ({ ...one, role: nameNow(charter, one.role) }));
  const units = [...unitIds, ...assignments.flatMap(({ anchor }) => (anchor.on === 'unit' ? [anchor.unitId] : []))];
  return {
    charter: charter.hash,
    tenant: { id: '', name: '', open: true, contact: null, features: [], bases: told.bases },
    subject: member ? (isActive(told, user, at) ? 'member' : 'suspended') : 'signedIn',
    ...(member?.responsible !== undefined && { program: true as const }),
    me: { userId: user, groupIds, unitIds, attributes: {} },
    assignments,
    direct: held<DirectPermission>(told.permissions).map((one) => ({ ...one, permission: nameNow(charter, one.permission) })),
    opened,
    ...(standsFor.length > 0 && { standsFor }),
    ...(known.length > 0 && { roles: Object.fromEntries(known) }),
    below: Object.fromEntries(units.map((unit) => [unit, belowUnit(told, unit)])),
    people: {
      ...Object.fromEntries(groupIds.map((id) => [id, [...(told.groups.get(id)?.keys() ?? [])]])),
      ...Object.fromEntries(
        opened.map(({ id, group }) => [openingKey(id), [...(told.groups.get(group.id)?.keys() ?? []), ...(told.openings.get(id)?.kept ?? [])]]),
      ),
    },
    fulfilled: everythingMet(charter),
  };
}

/** Keeps the charter in which the application starts, where it is another than the one before. */
export async function keepCharter(db: Kysely<LintelTables>, charter: Charter, now: number): Promise<void> {
  await sql`insert into lintel_charter (at, hash, data) select ${new Date(now)}, ${charter.hash}, ${JSON.stringify(charter.data)}::jsonb
    where ${charter.hash} is distinct from (select hash from lintel_charter order by at desc limit 1) on conflict do nothing`.execute(db);
}

async function charterThen(db: Kysely<LintelTables>, at: Date, today: Charter): Promise<Charter> {
  const row = await db.selectFrom('lintel_charter').select(['hash', 'data']).where('at', '<=', at).orderBy('at', 'desc').limit(1).executeTakeFirst();
  if (!row) throw new LintelError('no-charter-then', `No charter was in force on ${at.toISOString()}: the application had not started yet.`, {});
  return row.hash === today.hash ? today : (readCharter(row.data) as Charter);
}

/**
 * What somebody held in a tenant at a moment, worked out from the events on record and the charter of that day alone; nothing that stands in
 * the membership today is looked at.
 *
 * @throws LintelError `no-charter-then` for a moment before the application first started.
 */
export async function standingThen(db: Kysely<LintelTables>, today: Charter, tenantId: string, userId: string, at: Date): Promise<Standing> {
  const charter = await charterThen(db, at, today);
  const told: Told = {
    members: new Map(),
    roles: [],
    permissions: [],
    ownRoles: new Map(),
    groups: new Map(),
    units: new Map(),
    placed: new Map(),
    openings: new Map(),
    bases: {},
    deputies: [],
  };
  for await (const { what, event } of exportAudit(db, tenantId, at)) TOLD[what]?.(told, event);
  return new Standing(charter, factsThen(told, charter, userId, at.getTime()));
}

/** The same in words. @throws LintelError `no-charter-then`. */
export async function heldThen(...asked: Parameters<typeof standingThen>): Promise<HeldThen> {
  const standing = await standingThen(...asked);
  return { subject: standing.facts.subject as HeldThen['subject'], ...standing.describe(), charter: standing.facts.charter };
}

import { type Kysely, type RawBuilder, sql } from 'kysely';
import { type Charter, KEYHOLDER, nameNow } from '../../charter/index.js';
import type { Assignment, Held, Standing } from '../../standing/index.js';
import type { LintelTables, Setting } from '../terms/index.js';
import { ownRoles } from './afresh.js';
import { assignmentOf } from './anchors.js';
import { isActive } from './facts.js';
import { type Said, saidOf } from './said.js';
import { soleSources } from './sources.js';
import { insistOnPeople, isKnown } from './visible.js';

/** A member, as others see them. */
export interface Member {
  readonly userId: string;
  readonly name: string;
  readonly address: string;
  readonly status: 'active' | 'suspended';
  readonly since: Date;
  /** `sources`: by which alone a role came, where nobody in the organisation gave it. */
  readonly roles: readonly (Assignment & { readonly label: string; readonly sources?: readonly string[] })[];
  /** When the membership ends by itself. */
  readonly endsAt?: Date;
  /** When a suspension ends by itself. */
  readonly suspendedUntil?: Date;
  /** Facts that the charter declares, for whoever may change roles. */
  readonly attributes?: Readonly<Record<string, Said>>;
  /** An account that this organisation made and keeps; `waiting`: nobody has come to it yet. */
  readonly kept?: 'waiting' | 'theirs';
  /** When they last came in here by a sign-in, for whoever may suspend them. */
  readonly lastEntered?: Date;
  /** Sources that say that they are not active. */
  readonly inactiveBy?: readonly string[];
}

/** A part of a list: at most `limit`, from behind the place that the last item of the part before has. */
export interface Part<Place> {
  readonly after?: Place;
  readonly limit?: number;
}

/** Which members are listed, and how. */
export interface MembersAsked {
  /** `name`, the default: by name. `newest`: who came last first. */
  readonly order?: 'name' | 'newest';
  /** Only those of whom each of these words begins a word of their name or address, in whatever case; at most five words count. Default: all. */
  readonly search?: string;
  /** The last one of the part before: by its name, or by since when where the newest come first. */
  readonly after?: Pick<Member, 'name' | 'userId'> | Pick<Member, 'since' | 'userId'>;
  /** Default: all of them. */
  readonly limit?: number;
}

/** So many words of a search are looked for. */
const MOST_WORDS = 5;
/** Follows every text that begins with what stands before it. */
const LAST = '\u{10ffff}';

/** The member has words that begin so. Only the first of them finds; the others are asked of who is found. */
function isFound(tenantId: string, search: string): RawBuilder<boolean> {
  const words = search.toLowerCase().match(/[\p{L}\p{N}]+/gu) ?? [];
  const has = [...new Set(words)]
    .slice(0, MOST_WORDS)
    .sort((a, b) => b.length - a.length)
    .map((word, i) => {
      const from = sql`from lintel_member_word w where w.tenant_id = ${tenantId} and w.word >= ${word} and w.word < ${word + LAST}`;
      return i === 0 ? sql`m.user_id in (select w.user_id ${from})` : sql`exists (select 1 ${from} and w.user_id = m.user_id)`;
    });
  return has.length === 0 ? sql<boolean>`${search.trim() === ''}` : sql<boolean>`(${sql.join(has, sql` and `)})`;
}

/**
 * People who are members and of whom this standing may know; programs are listed on their own. A page costs the same however many they are, for a standing that may know of all of them.
 *
 * @throws LintelError `refused` unless the standing may see the members.
 */
export async function listMembers(setting: Setting, standing: Standing, { order = 'name', search, after, limit }: MembersAsked = {}): Promise<Member[]> {
  const known = insistOnPeople(standing);
  const tenantId = standing.facts.tenant.id;
  const members = await setting.db
    .selectFrom('lintel_member as m')
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .leftJoin('lintel_entered as e', (join) => join.onRef('e.tenant_id', '=', 'm.tenant_id').onRef('e.user_id', '=', 'm.user_id'))
    .select([
      'p.kept_by',
      'p.activated_at',
      'e.at',
      'm.user_id',
      'm.name',
      'p.address_written',
      'm.since',
      'm.ends_at',
      'm.suspended_until',
      'm.inactive_by',
      'm.attributes',
      isActive('m', setting.now()).as('active'),
    ])
    .where('m.tenant_id', '=', tenantId)
    .where('m.responsible_id', 'is', null)
    .where(isKnown(known, tenantId, sql.ref('m.user_id')))
    .$if(search !== undefined, (qb) => qb.where(isFound(tenantId, search as string)))
    .$if(after !== undefined, (qb) => {
      const { name, since, userId } = after as Partial<Member>;
      return qb.where(order === 'name' ? sql<boolean>`(m.name, m.user_id) > (${name}, ${userId})` : sql<boolean>`(m.since, m.user_id) < (${since}, ${userId})`);
    })
    .orderBy(order === 'name' ? 'm.name' : 'm.since', order === 'name' ? 'asc' : 'desc')
    .orderBy('m.user_id', order === 'name' ? 'asc' : 'desc')
    .$if(limit !== undefined, (qb) => qb.limit(limit as number))
    .execute();
  const sees = standing.may('member.suspend');
  const arranges = standing.may('member.assign');
  const { attributes } = setting.charter.data;
  const roles = await rolesByMember(setting.db, tenantId, limit === undefined && known === 'all' ? undefined : members.map((m) => m.user_id));
  const charter = setting.charter.withRoles(await ownRoles(setting.db, setting.charter, tenantId));
  return members.map((m) => ({
    userId: m.user_id,
    name: m.name,
    address: m.address_written,
    status: m.active ? 'active' : 'suspended',
    since: m.since,
    roles: (roles.get(m.user_id) ?? []).map((held) => ({ ...held, label: roleLabel(charter, held.role) })),
    ...(attributes && arranges && { attributes: saidOf(attributes, m.attributes) }),
    ...(m.kept_by === tenantId && { kept: m.activated_at ? ('theirs' as const) : ('waiting' as const) }),
    ...(m.at && sees && { lastEntered: m.at }),
    ...(m.ends_at && { endsAt: m.ends_at }),
    ...(m.inactive_by.length > 0 ? { inactiveBy: m.inactive_by } : !m.active && m.suspended_until && { suspendedUntil: m.suspended_until }),
  }));
}

/** A role that is gone is called by its id. */
export function roleLabel(charter: Charter, stored: string): string {
  const role = nameNow(charter, stored);
  return role === KEYHOLDER || Object.hasOwn(charter.data.roles, role) ? charter.role(role).label : role;
}

async function rolesByMember(db: Kysely<LintelTables>, tenantId: string, users: readonly string[] | undefined): Promise<Map<string, Held<Assignment>[]>> {
  const rows = await db
    .selectFrom('lintel_assignment as a')
    .leftJoin('lintel_unit as u', (join) => join.onRef('u.tenant_id', '=', 'a.tenant_id').onRef('u.id', '=', 'a.anchor_id').on('a.anchor', '=', 'unit'))
    .select(['a.user_id', 'a.role', 'a.anchor', 'a.anchor_id', 'u.name', 'a.until', 'a.without'])
    .select(soleSources('a.source').as('sources'))
    .groupBy(['a.user_id', 'a.role', 'a.anchor', 'a.anchor_id', 'u.name', 'a.until', 'a.without'])
    .where('a.tenant_id', '=', tenantId)
    .where('a.user_id', 'is not', null)
    .$if(users !== undefined, (qb) => qb.where(sql<boolean>`a.user_id = any(${users}::text[])`))
    .where('a.role', 'is not', null)
    .$narrowType<{ user_id: string }>()
    .orderBy('a.role')
    .orderBy('a.anchor_id')
    .execute();
  const byMember = new Map<string, Held<Assignment>[]>();
  for (const { sources, ...row } of rows) {
    const held = { ...assignmentOf(row), ...(sources && { sources }) };
    const others = byMember.get(row.user_id);
    if (others) others.push(held);
    else byMember.set(row.user_id, [held]);
  }
  return byMember;
}

/** Active members with full control of a tenant, by id. */
export async function keyholdersOf(
  db: Kysely<LintelTables>,
  tenantId: string,
  now: number,
): Promise<readonly { readonly id: string; readonly address: string }[]> {
  return db
    .selectFrom('lintel_assignment as a')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select(['p.id', 'p.address_written as address'])
    .distinct()
    .where('a.tenant_id', '=', tenantId)
    .where('a.role', '=', KEYHOLDER)
    .where('a.anchor', '=', 'tenant')
    .where(isActive('m', now))
    .orderBy('p.id')
    .execute();
}

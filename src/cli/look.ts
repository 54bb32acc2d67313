import type { Kysely } from 'kysely';
import { didYouMean, LintelError } from '../base/index.js';
import { KEYHOLDER } from '../charter/index.js';
import { keyholdersOf as keyholders, NOBODY, type RoleView, standingsOf as readStandings } from '../membership/index.js';
import {
  type AccessTable,
  accessTable,
  type Explanation,
  explain,
  ONLOOKER,
  openSubjects,
  peopleIn,
  peopleSubjects,
  roleSubjects,
} from '../rehearsal/index.js';
import { createLintel, type Lintel, type MayDo, type Remedies, type ServerStanding } from '../server/index.js';
import { type Decision, everythingMet, type Facts, type Standing } from '../standing/index.js';
import { connect, type Database } from '../store/index.js';
import { openDatabase } from './config.js';
import { inApplication, insistOnOwn, isCopy, isPeopled, overCopy } from './copy.js';
import type { LintelConfig } from './define.js';
import { asConfigured } from './failing.js';

/** A tenant as the commands look at it. */
export interface Tenant {
  readonly lintel: Lintel;
  readonly id: string;
  readonly members: readonly { readonly id: string; readonly name: string; readonly address: string }[];
  /** The standing of a member. Obligations count as met: the question is what the roles give. */
  standingOf(userId: string): Promise<ServerStanding>;
  /** What the tenant itself is. */
  facts(): Promise<Facts['tenant']>;
  /** The standing of a keyholder: whoever may open the database may see the membership. For looking only. */
  onlooker(): Promise<ServerStanding>;
}

/** The records, where they are in one database. */
export const onlyRecords = (lintel: Lintel): Kysely<any> | undefined => (lintel.places.length === 0 ? lintel.records : undefined);

/** The records that a command works on that takes one database. @throws LintelError `which-place`, `no-place`. */
export function recordsIn(lintel: Lintel, place: string | undefined): Kysely<any> {
  if (place !== undefined) return lintel.recordsIn(place);
  const only = onlyRecords(lintel);
  if (only) return only;
  throw new LintelError('which-place', `The records are in several places; name one with --place: ${lintel.places.join(', ')}`, {});
}

/** A record is looked for in so many tenants where none is named. */
const MOST_SEARCHED = 20;

/** Opens the configured database, works in it, and closes it. @throws LintelError `no-database`, `database-unreachable`, `no-memory`. */
export async function withDatabase<R>(config: LintelConfig, work: (lintel: Lintel, db: Database) => Promise<R>): Promise<R> {
  const { db, close } = await openDatabase(config);
  let copy: Awaited<ReturnType<typeof overCopy>> | undefined;
  let records: Kysely<any> | undefined;
  const places: Record<string, Kysely<any>> = {};
  try {
    records = await asConfigured('records in the configuration', () => config.records?.());
    const named = (await asConfigured('places in the configuration', () => config.places?.())) ?? {};
    for (const [name, place] of Object.entries(named)) places[name] = connect<any>(place);
    const where = { ...(records && { records }), ...(config.places && { places }) };
    copy = isPeopled(config) ? await overCopy(config, db, where) : undefined;
    return await work(copy?.lintel ?? (createLintel({ charter: config.charter, db, ...where }) as unknown as Lintel), db);
  } finally {
    await records?.destroy();
    for (const place of Object.values(places)) await place.destroy();
    await copy?.close();
    await close();
  }
}

/**
 * Finds the tenant that a command is about. Where none is named: the only one there is, or in which somebody is, or in which the record is.
 *
 * @throws LintelError `which-tenant` when there are several and none is named; `no-such-tenant` with the near match.
 */
export async function findTenant(
  lintel: Lintel,
  wanted: string | undefined,
  holding?: string,
  about: { readonly kind?: string | undefined; readonly record?: string | undefined } = {},
): Promise<Tenant> {
  const all = await lintel.db.selectFrom('lintel_tenant').select(['id', 'name']).orderBy('id').execute();
  const mine = holding === undefined || wanted !== undefined ? all : await tenantsOf(lintel, holding);
  const found = wanted === undefined ? (mine.length === 1 ? mine[0] : undefined) : all.find((t) => t.id === wanted || t.name === wanted);
  if (!found) {
    const names = (mine.length > 0 ? mine : all).map((t) => t.id);
    if (wanted !== undefined)
      throw new LintelError(
        'no-such-tenant',
        `no tenant "${wanted}"${didYouMean(
          wanted,
          all.flatMap((t) => [t.id, t.name]),
        )}`,
        {},
      );
    const having: Tenant[] = [];
    for (const id of about.kind === undefined || about.record === undefined || names.length > MOST_SEARCHED ? [] : names) {
      const tenant = await findTenant(lintel, id);
      // Called so more than once is called so.
      if ((await recordCalled(tenant, about.kind as string, about.record as string).catch(() => '')) !== undefined) having.push(tenant);
    }
    if (having.length === 1) return having[0] as Tenant;
    throw new LintelError(
      'which-tenant',
      names.length === 0 ? 'there is no tenant in this database' : `which tenant? Give --tenant with one of ${names.join(', ')}`,
      {},
    );
  }
  const members = await lintel.db
    .selectFrom('lintel_member as m')
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select(['p.id', 'p.name', 'p.address_written as address'])
    .where('m.tenant_id', '=', found.id)
    .where('p.id', '!=', ONLOOKER)
    .orderBy('p.name')
    .execute();
  const fulfilled = everythingMet(lintel.charter);
  const standingOf = (user: string) => lintel.enter({ tenant: found.id, user, fulfilled });
  const onlooker = async () => {
    const keyholder = await lintel.db
      .selectFrom('lintel_assignment')
      .select('user_id')
      .where('tenant_id', '=', found.id)
      .where('role', '=', KEYHOLDER)
      .executeTakeFirstOrThrow();
    return standingOf(keyholder.user_id as string);
  };
  const facts = async () => (await standingOf(NOBODY)).facts.tenant;
  return { lintel, id: found.id, members, standingOf, facts, onlooker };
}

/** Everybody of this id, address or name. */
function peopleCalled(lintel: Lintel, wanted: string): Promise<{ id: string; name: string }[]> {
  return lintel.db
    .selectFrom('lintel_person')
    .select(['id', 'name'])
    .where((eb) => eb.or([eb('id', '=', wanted), eb('address', '=', wanted.toLowerCase()), eb('name', '=', wanted)]))
    .execute();
}

/** Tenants in which somebody of this name, id or address is a member. */
async function tenantsOf(lintel: Lintel, wanted: string): Promise<{ id: string; name: string }[]> {
  const ids = (await peopleCalled(lintel, wanted)).map(({ id }) => id);
  if (ids.length === 0) return [];
  return lintel.db
    .selectFrom('lintel_tenant as t')
    .innerJoin('lintel_member as m', 'm.tenant_id', 't.id')
    .select(['t.id', 't.name'])
    .where('m.user_id', 'in', ids)
    .orderBy('t.id')
    .execute();
}

/** The id of a person by id, address or name, a member of this tenant or not. @throws LintelError `no-such-person`, `which-person`. */
export async function findPerson(tenant: Tenant, wanted: string): Promise<string> {
  const people = await peopleCalled(tenant.lintel, wanted);
  // Of several who are called so, the one who is in this tenant is meant.
  const here = people.filter(({ id }) => tenant.members.some((member) => member.id === id));
  const exact = people.find((p) => p.id === wanted) ?? [people, here].find(({ length }) => length === 1)?.[0];
  if (exact) return exact.id;
  if (people.length > 1)
    throw new LintelError('which-person', `${people.length} people are called "${wanted}"; give the id: ${people.map((p) => p.id).join(', ')}`, {});
  throw new LintelError(
    'no-such-person',
    `no person "${wanted}"${didYouMean(
      wanted,
      tenant.members.flatMap((m) => [m.id, m.name, m.address]),
    )}`,
    {},
  );
}

/**
 * The id of a record that is named by its id, by what it is called, or by an address that was copied from a browser. What names none is answered as it is.
 *
 * @throws LintelError `which-record` where several are called so.
 */
export async function findRecord(tenant: Tenant, kind: string, wanted: string): Promise<string> {
  return (await recordCalled(tenant, kind, wanted)) ?? wanted;
}

async function recordCalled(tenant: Tenant, kind: string, wanted: string): Promise<string | undefined> {
  const standing = await tenant.onlooker();
  const { label } = tenant.lintel.charter.kind(kind);
  const { idField } = tenant.lintel.charter.shapes[kind] as { idField: string };
  const ids = async (field: string, value: string) =>
    ((await standing.find(kind, { where: { [field]: value }, limit: 20 })) as Record<string, unknown>[]).map((one) => String(one[idField]));
  const parts = /^\w+:\/\/|^\//.test(wanted)
    ? wanted
        .split(/[/?#&=]/)
        .flatMap(decoded)
        .reverse()
    : [];
  for (const part of [wanted, ...parts]) if (part !== '' && (await ids(idField, part)).length > 0) return part;
  const [called, ...others] = await ids(label, wanted);
  if (others.length > 0) throw new LintelError('which-record', `several are called "${wanted}"; give the id: ${[called, ...others].join(', ')}`, {});
  return called;
}

function decoded(part: string): string[] {
  try {
    return [decodeURIComponent(part)];
  } catch {
    return [];
  }
}

/** The standings of all members, by name. */
export async function standingsOf({ lintel, id, members }: Tenant): Promise<Standing<any>[]> {
  const all = await readStandings(
    { db: lintel.db, charter: lintel.charter, now: Date.now },
    id,
    members.map((member) => member.id),
  );
  return members.flatMap((member) => all.get(member.id) ?? []);
}

/** The access table of a tenant, with whoever comes in without a role of their own where it is `open`. */
export async function tableOf(
  tenant: Tenant,
  by: 'people' | 'roles',
  { only, most, open = true }: { readonly only: readonly string[]; readonly most?: string | undefined; readonly open?: boolean },
): Promise<AccessTable> {
  const { lintel, members } = tenant;
  const { charter, records: db } = lintel;
  const standings = await standingsOf(tenant);
  const facts = await tenant.facts();
  const subjects = by === 'people' ? peopleSubjects(standings) : roleSubjects(charter, facts, standings);
  return accessTable(charter, by, [...subjects, ...(open ? openSubjects(charter, facts) : [])], {
    tenant: facts,
    db,
    only: isCopy(lintel) && only.length === 0 ? [...Object.keys(charter.data.kinds), 'area'] : only,
    members: { standings, ids: members.map(({ id }) => id) },
    ...(most !== undefined && { most: Number(most) }),
  });
}

/** Who may do something to a record, by name: all of them, or of the first so many members. */
export async function whoMay(tenant: Tenant, action: string, id: string, first?: number): Promise<MayDo[]> {
  const standing = await tenant.onlooker();
  const people: MayDo[] = [];
  let after: { readonly name: string; readonly userId: string } | undefined;
  do {
    const part = await standing.who(action, id, { limit: first ?? 500, ...(after && { after }) });
    people.push(...part.people.filter(({ userId }) => userId !== ONLOOKER));
    after = first === undefined ? part.next : undefined;
  } while (after);
  return people;
}

/** What would make something allowed, as somebody asks, or whoever may open the database. @param known see {@link ServerStanding.remedies}. */
export async function remediesIn(
  tenant: Tenant,
  { as, user, action, id }: { readonly as: string | undefined; readonly user: string; readonly action: string; readonly id: string },
  known?: (decision: Decision) => void,
): Promise<Remedies> {
  if (as !== undefined) insistOnOwn(tenant.lintel);
  const asking = as === undefined ? await tenant.onlooker() : await tenant.standingOf(await findPerson(tenant, as));
  const found = await asking.remedies(user, action, id, known);
  return isCopy(tenant.lintel) ? inApplication(found) : found;
}

/** The roles of the tenant, and who holds each. */
export async function rolesIn(tenant: Tenant): Promise<RoleView[]> {
  const roles = await (await tenant.onlooker()).tenant.roles();
  return roles.map((role) => ({ ...role, holders: role.holders.filter(({ id }) => id !== ONLOOKER) }));
}

/** Why somebody may, or may not: with the names of whom it speaks, and of who could change it. */
export async function explainIn(
  tenant: Tenant,
  standing: ServerStanding,
  decision: Decision,
  record: { readonly kind: string; readonly id: string } | undefined,
): Promise<Explanation> {
  const { db, charter } = tenant.lintel;
  const ids = peopleIn(charter, decision);
  const people = ids.length === 0 ? [] : await db.selectFrom('lintel_person').select(['id', 'name']).where('id', 'in', ids).execute();
  return explain(standing, decision, record, { keyholders: await keyholdersOf(tenant), names: new Map(people.map(({ id, name }) => [id, name])) });
}

async function keyholdersOf(tenant: Tenant): Promise<{ id: string; name: string }[]> {
  if (isCopy(tenant.lintel)) return [];
  const ids = (await keyholders(tenant.lintel.db, tenant.id, Date.now())).map(({ id }) => id);
  return tenant.members.filter(({ id }) => ids.includes(id)).map(({ id, name }) => ({ id, name }));
}

/** Whoever changes something does it under a name. */
export async function actorOf(tenant: Tenant, { as }: { readonly as?: string | undefined }): Promise<ServerStanding> {
  insistOnOwn(tenant.lintel);
  if (as === undefined) throw new LintelError('who-acts', 'Say in whose name: --as PERSON. It goes on record, and their powers are the bounds.', {});
  return tenant.standingOf(await findPerson(tenant, as));
}

import type { Kysely } from 'kysely';
import type { Charter } from '../../charter/index.js';
import type { Lintel } from '../../server/index.js';
import { everythingMet, type Facts, Standing } from '../../standing/index.js';
import { mergeMembers } from '../copy-members.js';
import { madeUpFacts } from '../table.js';
import type { ProbePerson, ProbeTarget } from './target.js';

/** Somebody as whom the application is called, with their standings. */
export interface Player {
  readonly person: ProbePerson | undefined;
  /** What they are called in what is told. */
  readonly name: string;
  /** The tenants to which they belong. */
  readonly tenants: readonly string[];
  /** Their standing in a tenant; in one to which they do not belong, that of somebody from outside. */
  in(tenant: string): Standing<any>;
}

/** So many of one tenant are called at most: one for each way in which people differ. */
const MOST_OF_TENANT = 12;
const VISITOR = { person: undefined, name: 'a visitor', tenants: [] as readonly string[] };

const powersOf = (standing: Standing<any>) =>
  JSON.stringify(standing.describe().permissions.map(({ permission, ways }) => [permission, ways.map(({ reach, anchor }) => [reach, anchor])]));

const waysOf = (standing: Standing<any> | undefined) => (standing ? standing.describe().permissions.flatMap(({ ways }) => ways).length : -1);

function outside(charter: Charter<any>, tenant: Facts['tenant'], userId: string | undefined): Standing<any> {
  return new Standing(charter, {
    charter: charter.hash,
    tenant,
    subject: userId === undefined ? 'visitor' : 'signedIn',
    me: { ...(userId !== undefined && { userId }), groupIds: [], unitIds: [], attributes: {} },
    assignments: [],
    below: {},
    people: {},
    fulfilled: everythingMet(charter),
  });
}

interface Member {
  readonly person: ProbePerson;
  readonly standing: Standing<any>;
}

async function fromLibrary(lintel: Lintel): Promise<Member[]> {
  const fulfilled = everythingMet(lintel.charter);
  const rows = await lintel.db
    .selectFrom('lintel_member as m')
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select(['m.tenant_id', 'p.id', 'p.name', 'p.address_written as address'])
    .where('m.responsible_id', 'is', null)
    .orderBy('m.tenant_id')
    .orderBy('p.id')
    .execute();
  const members: Member[] = [];
  for (const { tenant_id, ...person } of rows) {
    const standing = (await lintel.enter({ tenant: tenant_id, user: person.id, fulfilled })).inMemory as unknown as Standing<any>;
    if (standing.facts.subject === 'member' && standing.facts.tenant.open) members.push({ person, standing });
  }
  return members;
}

function fromApplication(charter: Charter<any>, members: NonNullable<ProbeTarget['people']>): Member[] {
  const people = mergeMembers(charter, members);
  return people.map(({ id, name, address, tenant, roles, groupIds, unitIds }) => {
    const held = roles.map((role) => ({ role, anchor: { on: 'tenant' } as const }));
    for (const role of roles) charter.role(role);
    const facts = madeUpFacts(
      charter,
      { id: tenant, name: tenant, open: true, contact: null, features: [] },
      held,
      Object.fromEntries(unitIds.map((unit) => [unit, [unit]])),
    );
    const among = people.filter((one) => one.tenant === tenant);
    const groups = Object.fromEntries(groupIds.map((group) => [group, among.filter((one) => one.groupIds.includes(group)).map((one) => one.id)]));
    return {
      person: { id, name, address },
      standing: new Standing(charter, { ...facts, me: { userId: id, name, groupIds, unitIds, attributes: {} }, people: groups }),
    };
  });
}

/** The standing of one of the people of an application with other roles than theirs. */
export const standingWith =
  (charter: Charter<any>, { people = [] }: ProbeTarget) =>
  ({ id }: ProbePerson, tenant: string, roles: readonly string[]): Standing<any> => {
    const all = people.map((one) => (String(one.id) === id && String(one.tenant) === tenant ? { ...one, roles } : one));
    const found = fromApplication(charter, all).find(({ person, standing }) => person.id === id && standing.facts.tenant.id === tenant);
    return (found as Member).standing;
  };

/** How much a role gives: by it the least and the strongest are told. */
export const grantsOf = ({ data }: Charter<any>, role: string): number => Object.values(data.roles[role]?.may ?? {}).flat().length;

/** A unit or a group of a tenant, by what it is called. */
export interface Part {
  readonly tenant: string;
  readonly texts: readonly string[];
  readonly words: string;
}

/** The units and groups of all tenants, where the membership is the library's. */
export async function partsOf(lintel: Lintel, { people }: ProbeTarget): Promise<Part[]> {
  if (people) return [];
  const of = async (table: 'lintel_unit' | 'lintel_group', word: string) =>
    (await lintel.db.selectFrom(table).select(['tenant_id', 'id', 'name']).execute()).map(
      ({ tenant_id, id, name }): Part => ({ tenant: tenant_id, texts: [id, name], words: `the ${word} ${name} of ${tenant_id}` }),
    );
  return [...(await of('lintel_unit', 'unit')), ...(await of('lintel_group', 'group'))];
}

/** Who is called. */
export interface Cast {
  /** A visitor, and of each tenant one member for each way in which their powers differ, with everything else to which these belong. */
  readonly players: readonly Player[];
  /** Of each tenant one who may as much as another of them: for what takes two such people. */
  readonly twins: readonly Player[];
}

/** Of records in several places those are tried that are in this one. */
async function whoseRecordsAre(lintel: Lintel, db: Kysely<any>, members: readonly Member[]): Promise<Member[]> {
  if (lintel.places.length === 0) return [...members];
  const here = await Promise.all(members.map(async ({ standing }) => (await lintel.recordsOf(standing.facts.tenant.id).catch(() => undefined)) === db));
  return members.filter((_, i) => here[i]);
}

export async function castOf(lintel: Lintel, db: Kysely<any>, target: ProbeTarget): Promise<Cast> {
  const charter: Charter<any> = lintel.charter;
  const members = await whoseRecordsAre(lintel, db, target.people ? fromApplication(charter, target.people) : await fromLibrary(lintel));
  const tenants = new Map(members.map(({ standing }) => [standing.facts.tenant.id, standing.facts.tenant]));
  const chosen = new Set<string>();
  const second = new Map<string, Member>();
  for (const tenant of tenants.keys()) {
    const known = new Set<string>();
    for (const { person, standing } of members) {
      if (standing.facts.tenant.id !== tenant) continue;
      if (!known.has(powersOf(standing)) && known.size < MOST_OF_TENANT) {
        known.add(powersOf(standing));
        chosen.add(person.id);
      } else if (known.has(powersOf(standing)) && !chosen.has(person.id) && waysOf(standing) > waysOf(second.get(tenant)?.standing))
        second.set(tenant, { person, standing });
    }
  }
  const inTenant = (userId: string | undefined) => (tenant: string) => {
    const held = members.find(({ person, standing }) => person.id === userId && standing.facts.tenant.id === tenant);
    const facts = tenants.get(tenant) ?? { id: tenant, name: tenant, open: true, contact: null, features: [] };
    return held?.standing ?? outside(charter, facts, userId);
  };
  const playerOf = (person: ProbePerson): Player => {
    const belongs = members.filter((one) => one.person.id === person.id).map(({ standing }) => standing.facts.tenant.id);
    return { person, name: person.name, tenants: belongs, in: inTenant(person.id) };
  };
  const each = (some: readonly Member[]) => [...new Map(some.map(({ person }) => [person.id, playerOf(person)])).values()];
  return {
    players: [...each(members.filter(({ person }) => chosen.has(person.id))), { ...VISITOR, in: inTenant(undefined) }],
    twins: each([...second.values()].filter(({ person }) => !chosen.has(person.id))),
  };
}

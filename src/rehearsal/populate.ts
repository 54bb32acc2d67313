import type { Kysely } from 'kysely';
import { LintelError, sha256 } from '../base/index.js';
import { type Charter, type CharterTypes, type FieldData, idType, KEYHOLDER } from '../charter/index.js';
import type { Lintel, ServerStanding } from '../server/index.js';
import { everythingMet } from '../standing/index.js';

/** People and records that a test asks for. */
export interface Population<T extends CharterTypes = CharterTypes> {
  /** What the tenant is called. Default: a made-up name. */
  readonly name?: string;
  /** The same number makes the same people, ids and records. Default 1. */
  readonly seed?: number;
  /** Ids of units, which are called so too. */
  readonly units?: readonly string[];
  /** By role, how many hold it; or at which unit they hold it and are placed. A keyholder there is always. `none`: members without a role. */
  readonly people: Readonly<Partial<Record<T['roles'] | 'none', number | { readonly count?: number; readonly unit: string }>>>;
  /** By kind, how many records: owned, made and placed by the people and units above, under records of kinds that come before. Some are owned by nobody. */
  readonly records?: Readonly<Partial<Record<keyof T['fields'], number>>>;
}

/** A tenant that was made up. */
export interface Populated<T extends CharterTypes = CharterTypes> {
  readonly tenant: string;
  /** By role, those who hold it, as they stand at the end. */
  readonly people: Readonly<Record<T['roles'] | 'keyholder' | 'none', readonly ServerStanding<T>[]>>;
  /** By kind, the ids of its records in the order in which they were made. */
  readonly ids: Readonly<Record<keyof T['fields'], readonly string[]>>;
}

/** Names that nobody has, to be put together. */
const FIRST = 'Ada Bela Cato Dilys Edmund Fenna Gosse Hedda Ilse Joris Kaja Lennart Mirre Noor Orrin Petra Quirin Runa Sjoerd Tilda Ulla Veit Wenna Ylva'.split(
  ' ',
);
const LAST = 'Alder Birch Cress Dale Elm Fern Gale Heath Isle Juniper Kestrel Larch Marsh Nettle Oak Pine Quill Reed Sedge Thorn Umber Vale Wren Yew'.split(
  ' ',
);

/** Numbers that look like chance and are the same for the same seed. */
function chanceOf(seed: number): (below: number) => number {
  let drawn = 0;
  return (below) => Number.parseInt(sha256(`${seed} ${++drawn}`).slice(0, 12), 16) % below;
}

/** An id of a type, the same for the same name. */
function idOf(type: string, name: string): string | number {
  const hex = sha256(name);
  if (type === 'integer') return Number.parseInt(hex.slice(0, 7), 16);
  return type === 'uuid' ? `${hex.slice(0, 8)}-${hex.slice(8, 12)}-4${hex.slice(13, 16)}-8${hex.slice(17, 20)}-${hex.slice(20, 32)}` : name;
}

/** Kinds behind those on which they hang. */
function inOrder(charter: Charter<any>, kinds: readonly string[]): string[] {
  const done: string[] = [];
  const add = (kind: string, path: readonly string[]): void => {
    if (done.includes(kind) || path.includes(kind)) return;
    for (const { to } of Object.values(charter.kind(kind).fields)) if (to !== undefined && kinds.includes(to)) add(to, [...path, kind]);
    done.push(kind);
  };
  for (const kind of kinds) add(kind, []);
  return done;
}

/**
 * Makes up a tenant for a test: people with the roles that are asked for, each come in by an invitation, and records among them; the same for the same seed, with
 * the same ids. Everything is made up, and addresses end in `.example`.
 *
 * @param db the database of the application's records, PostgreSQL or PGlite, in which its tables stand.
 * @throws LintelError `unknown-role`, `unknown-kind`, and what opening a tenant or inviting throws; `tenant-exists` where the seed was used there before.
 */
export async function populate<T extends CharterTypes>(lintel: Lintel<T>, db: Kysely<any>, plan: Population<T>): Promise<Populated<T>> {
  const charter: Charter<any> = lintel.charter;
  const { seed = 1, units = [], records = {} } = plan;
  const chance = chanceOf(seed);
  const pick = <V>(of: readonly V[]): V => of[chance(of.length)] as V;
  const [tenantType, personType] = [idType(charter, 'tenant'), idType(charter, 'person')];
  const tenant = String(idOf(tenantType, `made-up-${seed}`));

  const first = chance(FIRST.length * LAST.length);
  let made = 0;
  const newcomer = async (): Promise<{ id: string; address: string }> => {
    // Another name each time: the whole list is gone through, a step at a time that hits none twice.
    const at = (first + made++ * 25) % (FIRST.length * LAST.length);
    const name = `${FIRST[Math.floor(at / LAST.length)]} ${LAST[at % LAST.length]}`;
    const address = `${name.toLowerCase().replace(' ', '.')}.${made}@made-up-${seed}.example`;
    const id = String(idOf(personType, `${name.toLowerCase().replace(' ', '-')}-${seed}-${made}`));
    return { id: await lintel.addPerson({ id, name, address, confirmedAt: new Date(0) }), address };
  };

  const keyholder = await newcomer();
  await lintel.openTenant({ id: tenant, name: plan.name ?? `Made-up ${LAST[seed % LAST.length]}`, keyholder: keyholder.id });
  const enter = (user: string) => lintel.enter({ tenant, user, fulfilled: everythingMet(charter) });
  const boss = await enter(keyholder.id);
  for (const id of units) await boss.tenant.addUnit({ id, name: id });

  const holders: [role: string, user: string][] = [[KEYHOLDER, keyholder.id]];
  for (const [role, wanted] of Object.entries(plan.people) as [string, number | { readonly count?: number; readonly unit: string }][]) {
    const { count = 1, unit } = typeof wanted === 'number' ? { count: wanted, unit: undefined } : wanted;
    if (role !== 'none') charter.role(role);
    for (let i = 0; i < count; i++) {
      const { id, address } = await newcomer();
      const anchor = unit === undefined ? ({ on: 'tenant' } as const) : ({ on: 'unit', unitId: unit } as const);
      const [answer] = await boss.invitations.send([{ address, roles: role === 'none' ? [] : [{ role, anchor }] }]);
      if (!answer?.token) throw new LintelError('not-invited', `${address} could not be invited: ${answer?.words ?? 'no answer'}`, { address });
      await lintel.acceptInvitation(id, { token: answer.token });
      if (unit !== undefined) await boss.members.place(id, [unit]);
      holders.push([role, id]);
    }
  }

  const users = holders.map(([, user]) => (personType === 'integer' ? Number(user) : user));
  const ids: Record<string, string[]> = Object.fromEntries(Object.keys(charter.data.kinds).map((kind) => [kind, []]));
  const cellOf = (kind: string, { role, type, to, options, scale = 0 }: FieldData, n: number): unknown => {
    const nobody = chance(5) === 0;
    if (role === 'id') return idOf(type, `${kind}-${seed}-${n + 1}`);
    if (role === 'tenant') return tenantType === 'integer' ? Number(tenant) : tenant;
    if (role === 'owner') return nobody ? null : pick(users);
    if (role === 'maker' || role === 'person') return pick(users);
    if (role === 'unit') return units.length === 0 ? null : pick(units);
    if (role === 'parent') return pick(ids[to as string] ?? []) ?? null;
    if (role === 'group') return null;
    if (options) return pick(options);
    if (type === 'integer') return chance(100);
    if (type === 'decimal') return (chance(100_000) / 10 ** Math.min(scale, 2)).toFixed(scale);
    if (type === 'boolean') return chance(2) === 0;
    if (type === 'instant') return new Date(Date.UTC(2026, chance(12), 1 + chance(28), chance(24)));
    return type === 'uuid' ? idOf('uuid', `${kind}-${seed}-${n + 1}-other`) : `${pick(LAST)} ${charter.kind(kind).one} ${n + 1}`;
  };
  for (const kind of inOrder(charter, Object.keys(records))) {
    const { fields, table, schema } = charter.kind(kind);
    const columns = Object.entries(fields).filter(([, { link }]) => link === undefined);
    const into = schema === undefined ? db : db.withSchema(schema);
    for (let n = 0; n < ((records as Record<string, number>)[kind] ?? 0); n++) {
      const values = columns.map(([field, data]) => [charter.shapes[kind]?.fields[field]?.column as string, cellOf(kind, data, n)] as const);
      await into.insertInto(table).values(Object.fromEntries(values)).execute();
      const id = values[columns.findIndex(([, { role }]) => role === 'id')]?.[1];
      ids[kind]?.push(String(id));
      for (const { link } of Object.values(fields)) {
        if (!link || chance(2) === 0) continue;
        await db
          .insertInto(link.table)
          .values({ ...(link.tenant !== undefined && { [link.tenant]: tenant }), [link.record]: id, [link.user]: pick(users) })
          .execute();
      }
    }
  }
  const people: Record<string, ServerStanding<T>[]> = Object.fromEntries([KEYHOLDER, 'none', ...Object.keys(charter.data.roles)].map((role) => [role, []]));
  for (const [role, user] of holders) people[role]?.push(await enter(user));
  return { tenant, people, ids } as unknown as Populated<T>;
}

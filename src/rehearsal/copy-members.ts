import { inParts, isLintelError, LintelError } from '../base/index.js';
import { type Charter, KEYHOLDER } from '../charter/index.js';
import { type Id, type LintelTables, readAddress, spelled } from '../membership/index.js';
import type { Intake, Lintel } from '../server/index.js';

/** Somebody in an application that keeps its people itself, and what they hold in one of its tenants. Whoever is in several is named for each; for each role, too, if that is how they are kept. */
export interface AppMember {
  readonly id: string;
  readonly name: string;
  /** Where the application has none, any will do: `ada@club.invalid`. */
  readonly address: string;
  /** The id of the tenant. */
  readonly tenant: string;
  /** Of the charter; each for the whole tenant. */
  readonly roles: readonly string[];
  readonly groupIds?: readonly string[];
  readonly unitIds?: readonly string[];
}

/** A keyholder of each tenant that was copied, who stands for whoever looks. */
export const ONLOOKER = 'lintel:onlooker';

/** So many rows go into one statement. */
const TOGETHER = 1000;

const unique = <R>(rows: readonly R[], key: (row: R) => string) => [...new Map(rows.map((row) => [key(row), row])).values()];

/** Ids as text, however the application's own queries have them; and one entry for each person in a tenant, with all that theirs say. */
export function mergeMembers(charter: Charter<any>, members: readonly AppMember[]): Required<AppMember>[] {
  const all = new Map<string, Required<AppMember>>();
  const union = (a: readonly string[] = [], b: readonly string[] = []) => [...new Set([...a, ...b])];
  for (const one of members) {
    const [id, tenant] = [spelled(charter, 'person', one.id), spelled(charter, 'tenant', one.tenant)];
    const key = JSON.stringify([tenant, id]);
    const known = all.get(key);
    const ids = (what: 'group' | 'unit', of: readonly Id[] = []) => of.map((each) => spelled(charter, what, each));
    const held = {
      roles: union(known?.roles, one.roles),
      groupIds: union(known?.groupIds, ids('group', one.groupIds)),
      unitIds: union(known?.unitIds, ids('unit', one.unitIds)),
    };
    all.set(key, { id, tenant, name: one.name, address: one.address, ...held });
  }
  return [...all.values()];
}

/**
 * The people of an application as `lintel.intake` takes them. Tenants, groups and units are called by their ids.
 *
 * @param members everybody, as for {@link copyMembers}.
 */
export function intakeOf(charter: Charter<any>, members: readonly AppMember[]): Intake {
  const all = mergeMembers(charter, members);
  const named = (ids: readonly string[]) => [...new Set(ids)].map((id) => ({ id, name: id }));
  const byTenant = new Map<string, Required<AppMember>[]>();
  for (const one of all) {
    const here = byTenant.get(one.tenant);
    if (here) here.push(one);
    else byTenant.set(one.tenant, [one]);
  }
  return {
    people: new Map(all.map(({ id, name, address }) => [id, { id, name, address }])).values(),
    tenants: [...byTenant].map(([id, here]) => ({
      id,
      name: id,
      groups: named(here.flatMap(({ groupIds }) => groupIds)),
      units: named(here.flatMap(({ unitIds }) => unitIds)),
    })),
    members: all.map(({ id, tenant, roles, groupIds, unitIds }) => ({ user: id, tenant, roles, groups: groupIds, units: unitIds })),
  };
}

/** @throws LintelError with the id of whom it is about. */
function insistOnSound(charter: Charter<any>, members: readonly AppMember[]): void {
  const [known, held] = [new Map<string, AppMember>(), new Map<string, string>()];
  for (const one of members) {
    const { name, address, roles } = one;
    const id = String(one.id);
    const bad = (code: string, why: string, options?: ErrorOptions) => new LintelError(code, `members: "${id}" ${why}`, { id }, options);
    const other = known.get(id);
    if (other && (other.name !== name || other.address !== address))
      throw bad('bad-members', `is ${other.name}, ${other.address}, and also ${name}, ${address}`);
    known.set(id, one);
    try {
      for (const role of roles) charter.role(role);
      const { normal } = readAddress(address);
      const owner = held.get(normal) ?? id;
      if (owner !== id) throw new LintelError('bad-members', `"${owner}" has the same address, ${normal}`);
      held.set(normal, owner);
    } catch (error) {
      throw isLintelError(error) ? bad(error.code, `cannot be copied: ${error.message}`, { cause: error }) : error;
    }
  }
}

/**
 * Makes a membership of the people of an application that keeps them itself, so that everything that looks at access can look at theirs. Nothing is written
 * beside the application's records: `lintel` is over a database of its own that holds nothing yet, such as a PGlite in memory, and has the application's as its
 * `records`. What is made is a copy: no mail goes out, and the record of changes is empty. Beside them each tenant has a keyholder with the id
 * `lintel:onlooker`.
 *
 * @param members everybody. Units lie beside one another; all are called by their ids.
 * @throws LintelError `unknown-role` with the near match; `bad-members`, `bad-address`; `own-database` where there is no other database than the application's; `not-empty` where there is a membership already.
 */
export async function copyMembers(lintel: Lintel, members: readonly AppMember[]): Promise<void> {
  if (lintel.places.length === 0 && lintel.records === lintel.db)
    throw new LintelError(
      'own-database',
      'A copy of the members is made beside the application’s database, not in it: give createLintel an empty one as db, and the application’s as records. To take them in for good there is lintel.intake.',
      {},
    );
  insistOnSound(lintel.charter, members);
  const tenants = [...new Set(members.map(({ tenant }) => spelled(lintel.charter, 'tenant', tenant)))];
  const everywhere = tenants.map((tenant) => ({ id: ONLOOKER, name: 'Whoever looks', address: 'onlooker@lintel.invalid', tenant, roles: [KEYHOLDER] }));
  const all = mergeMembers(lintel.charter, [...members, ...everywhere]);
  const people = unique(all, ({ id }) => id);
  const since = new Date(0);
  const each = (pick: (one: Required<AppMember>) => readonly string[]) =>
    all.flatMap((one) => pick(one).map((value) => ({ tenant_id: one.tenant, user_id: one.id, value })));
  const placed = each(({ unitIds }) => unitIds);
  const grouped = each(({ groupIds }) => groupIds);
  const named = (rows: readonly { readonly tenant_id: string; readonly value: string }[]) =>
    unique(rows, ({ tenant_id, value }) => JSON.stringify([tenant_id, value])).map(({ tenant_id, value }) => ({ tenant_id, id: value, name: value }));
  const units = named(placed);

  await lintel.db.transaction().execute(async (tx) => {
    if (await tx.selectFrom('lintel_tenant').select('id').executeTakeFirst())
      throw new LintelError('not-empty', 'There is a membership in this database already: copy members into one that holds nothing.', {});
    const put = async (table: keyof LintelTables, rows: readonly object[]) => {
      for (const part of inParts(rows, TOGETHER))
        await tx
          .insertInto(table)
          .values(part as never)
          .execute();
    };
    await put(
      'lintel_person',
      people.map(({ id, name, address }) => ({ id, name, address: readAddress(address).normal, address_written: address, confirmed_at: since })),
    );
    await put(
      'lintel_tenant',
      tenants.map((id) => ({ id, name: id, status: 'open', contact: null })),
    );
    await put(
      'lintel_member',
      all.map(({ tenant, id }) => ({ tenant_id: tenant, user_id: id, status: 'active', since })),
    );
    await put(
      'lintel_person_tenant',
      all.map(({ tenant, id }) => ({ person_id: id, tenant_id: tenant })),
    );
    await put('lintel_unit', units);
    await put(
      'lintel_unit_below',
      units.map(({ tenant_id, id }) => ({ tenant_id, above_id: id, below_id: id })),
    );
    await put(
      'lintel_placement',
      placed.map(({ value, ...member }) => ({ ...member, unit_id: value })),
    );
    await put('lintel_group', named(grouped));
    await put(
      'lintel_group_member',
      grouped.map(({ value, ...member }) => ({ ...member, group_id: value })),
    );
    await put(
      'lintel_assignment',
      each(({ roles }) => roles).map(({ value, ...member }) => ({ ...member, role: value, anchor: 'tenant', anchor_id: member.tenant_id })),
    );
  });
}

import { isLintelError, LintelError } from '../base/index.js';
import { type Charter, KEYHOLDER } from '../charter/index.js';
import { type LintelTables, readAddress } from '../membership/index.js';
import type { Lintel } from '../server/index.js';

/** Somebody in an application that keeps its people itself, and what they hold in one of its tenants. Whoever is in several is named for each. */
export interface AppMember {
  readonly id: string;
  readonly name: string;
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

function* parts<R>(rows: readonly R[]): Generator<readonly R[]> {
  for (let i = 0; i < rows.length; i += TOGETHER) yield rows.slice(i, i + TOGETHER);
}

const unique = <R>(rows: readonly R[], key: (row: R) => string) => [...new Map(rows.map((row) => [key(row), row])).values()];

/** Ids as text, however the application's own queries have them. @throws LintelError with the id of whom it is about. */
function readMembers(charter: Charter<any>, members: readonly AppMember[]): AppMember[] {
  const [known, held] = [new Map<string, AppMember>(), new Map<string, string>()];
  return members.map((one) => {
    const { groupIds = [], unitIds = [], ...rest } = one;
    const read = { ...rest, id: String(one.id), tenant: String(one.tenant), groupIds: groupIds.map(String), unitIds: unitIds.map(String) };
    const { id, name, address } = read;
    const bad = (code: string, why: string, options?: ErrorOptions) => new LintelError(code, `members: "${id}" ${why}`, { id }, options);
    const other = known.get(id);
    if (other && (other.name !== name || other.address !== address))
      throw bad('bad-members', `is ${other.name}, ${other.address}, and also ${name}, ${address}`);
    known.set(id, read);
    try {
      for (const role of read.roles) if (role !== KEYHOLDER) charter.role(role);
      const { normal } = readAddress(address);
      const owner = held.get(normal) ?? id;
      if (owner !== id) throw new LintelError('bad-members', `"${owner}" has the same address, ${normal}`);
      held.set(normal, owner);
    } catch (error) {
      throw isLintelError(error) ? bad(error.code, `cannot be copied: ${error.message}`, { cause: error }) : error;
    }
    return read;
  });
}

/**
 * Makes a membership of the people of an application that keeps them itself, so that everything that looks at access can look at theirs. Nothing is written
 * beside the application's records: `lintel` is over a database of its own that holds nothing yet, such as a PGlite in memory, and has the application's as its
 * `records`. What is made is a copy: no mail goes out, and the record of changes is empty. Beside them each tenant has a keyholder with the id
 * `lintel:onlooker`.
 *
 * @param members everybody, for each tenant in which they are; or for each role there. Units lie beside one another; all are called by their ids.
 * @throws LintelError `unknown-role` with the near match; `bad-members`, `bad-address`; `not-empty` where there is a membership already.
 */
export async function copyMembers(lintel: Lintel, members: readonly AppMember[]): Promise<void> {
  const read = readMembers(lintel.charter, members);
  const tenants = [...new Set(read.map(({ tenant }) => tenant))];
  const everywhere = tenants.map((tenant) => ({ id: ONLOOKER, name: 'Whoever looks', address: 'onlooker@lintel.invalid', tenant, roles: [KEYHOLDER] }));
  const all: readonly AppMember[] = [...read, ...everywhere];
  const people = unique(all, ({ id }) => id);
  const belonging = unique(all, ({ tenant, id }) => JSON.stringify([tenant, id]));
  const since = new Date(0);
  // Whoever is named several times for a tenant, once for each role, holds all of it.
  const each = (pick: (one: AppMember) => readonly string[]) => {
    const rows = all.flatMap((one) => pick(one).map((value) => ({ tenant_id: one.tenant, user_id: one.id, value })));
    return unique(rows, (row) => JSON.stringify(row));
  };
  const placed = each(({ unitIds = [] }) => unitIds);
  const grouped = each(({ groupIds = [] }) => groupIds);
  const named = (rows: readonly { readonly tenant_id: string; readonly value: string }[]) =>
    unique(rows, ({ tenant_id, value }) => JSON.stringify([tenant_id, value])).map(({ tenant_id, value }) => ({ tenant_id, id: value, name: value }));
  const units = named(placed);

  await lintel.db.transaction().execute(async (tx) => {
    if (await tx.selectFrom('lintel_tenant').select('id').executeTakeFirst())
      throw new LintelError('not-empty', 'There is a membership in this database already: copy members into one that holds nothing.', {});
    const put = async (table: keyof LintelTables, rows: readonly object[]) => {
      for (const part of parts(rows))
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
      belonging.map(({ tenant, id }) => ({ tenant_id: tenant, user_id: id, status: 'active', since })),
    );
    await put(
      'lintel_person_tenant',
      belonging.map(({ tenant, id }) => ({ person_id: id, tenant_id: tenant })),
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

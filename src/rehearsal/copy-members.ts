import { LintelError } from '../base/index.js';
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

function insistOnSound(charter: Charter<any>, members: readonly AppMember[]): void {
  const [known, held] = [new Map<string, AppMember>(), new Map<string, string>()];
  for (const one of members) {
    for (const role of one.roles) if (role !== KEYHOLDER) charter.role(role);
    const other = known.get(one.id);
    if (other && (other.name !== one.name || other.address !== one.address))
      throw new LintelError('bad-members', `members: "${one.id}" is ${other.name}, ${other.address}, and also ${one.name}, ${one.address}`, { id: one.id });
    known.set(one.id, one);
    const { normal } = readAddress(one.address);
    const owner = held.get(normal) ?? one.id;
    if (owner !== one.id) throw new LintelError('bad-members', `members: "${owner}" and "${one.id}" have one address, ${normal}`, { id: one.id });
    held.set(normal, owner);
  }
}

/**
 * Makes a membership of the people of an application that keeps them itself, so that everything that looks at access can look at theirs. Nothing is written
 * beside the application's records: `lintel` is over a database of its own that holds nothing yet, such as a PGlite in memory, and has the application's as its
 * `records`. What is made is a copy: no mail goes out, and the record of changes is empty. Beside them each tenant has a keyholder with the id
 * `lintel:onlooker`.
 *
 * @param members everybody, for each tenant in which they are. Units lie beside one another; all are called by their ids.
 * @throws LintelError `unknown-role` with the near match; `bad-members`, `bad-address`; `not-empty` where there is a membership already.
 */
export async function copyMembers(lintel: Lintel, members: readonly AppMember[]): Promise<void> {
  insistOnSound(lintel.charter, members);
  const tenants = [...new Set(members.map(({ tenant }) => tenant))];
  const everywhere = tenants.map((tenant) => ({ id: ONLOOKER, name: 'Whoever looks', address: 'onlooker@lintel.invalid', tenant, roles: [KEYHOLDER] }));
  const all: readonly AppMember[] = [...members, ...everywhere];
  const people = unique(all, ({ id }) => id);
  const belonging = unique(all, ({ tenant, id }) => JSON.stringify([tenant, id]));
  const since = new Date(0);
  const each = <R>(pick: (one: AppMember) => readonly R[]) =>
    all.flatMap((one) => pick(one).map((value) => ({ tenant_id: one.tenant, user_id: one.id, value })));
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

import { type Kysely, sql } from 'kysely';
import { isLintelError, LintelError, PREPARED } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { recordsThere } from '../../scoping/index.js';
import { ownRoles } from '../held/index.js';
import { connectionSource, type LintelTables, readAddress, readName, type Setting } from '../terms/index.js';
import { type Admission, admit, type Claims, type Given, lookedUp, type There, valuesOf } from './admit.js';
import type { ConnectionRow } from './connections.js';
import { heldOf } from './given.js';

/** By which connection of which tenant somebody comes. */
type Way = { readonly tenantId: string; readonly connectionId: string };

/** Who somebody is by their claims. */
export interface Who {
  readonly subject: string;
  /** Normalised and as it is written; empty where none is said, or none that can be read. */
  readonly address: { readonly normal: string; readonly written: string };
  readonly name: string;
}

/** So long a subject is (OpenID Connect Core 1.0, section 2: 255). */
const LONGEST_SUBJECT = 255;
/** @throws LintelError `no-subject`. */
export function whoIs({ claims: names }: ConnectionRow, claims: Claims): Who {
  const subjects = valuesOf(claims, names.subject ?? 'sub');
  const [subject] = subjects;
  // guard subject-is-one by arrival: A subject of several values would be taken for its first.
  if (subject === undefined || /* guard subject-is-one */ subjects.length > 1 || subject.length > LONGEST_SUBJECT)
    throw new LintelError('no-subject', 'The provider does not say in one value who this is.', {});
  const attempt = <R>(work: () => R, otherwise: R): R => {
    try {
      return work();
    } catch (error) {
      if (isLintelError(error)) return otherwise;
      throw error;
    }
  };
  const [said] = valuesOf(claims, names.address ?? 'email');
  const address = attempt(() => readAddress(said), { normal: '', written: '' });
  const [called] = valuesOf(claims, names.name ?? 'name');
  const name = attempt(
    () => readName(called, 'somebody'),
    attempt(() => readName(address.written, 'somebody'), 'Without a name'),
  );
  return { subject, address, name };
}

/** What is known of somebody before they come in. */
export interface Known {
  readonly userId: string | null;
  readonly isMember: boolean;
  /** As it stood when they came last. */
  readonly address: string;
  readonly name: string;
  readonly said: { readonly code: string; readonly words: string; readonly number: number; readonly mark: string } | null;
  /** The number of the tenant's latest change. */
  readonly number: number;
  readonly holds: Given;
  /** The connection says that they are not active. */
  readonly isInactive: boolean;
}

/** The connection, and what is known of somebody who comes by it: in one statement. */
export async function look(db: Kysely<LintelTables>, { tenantId, connectionId }: Way, subject: string): Promise<Known> {
  const source = connectionSource(connectionId);
  const { rows } = await sql<{
    number: string;
    user_id: string | null;
    member: boolean;
    address: string | null;
    name: string | null;
    said: Known['said'];
    inactive: boolean | null;
    attributes: Record<string, unknown> | null;
    assignments: Parameters<typeof heldOf>[0]['assignments'] | null;
    groups: string[] | null;
    units: string[] | null;
  }>`
    select t.last_number as number, i.user_id, m.user_id is not null as member, i.address, i.name, i.said, ${source} = any(m.inactive_by) as inactive, m.attributes -> ${source}::text as attributes,
      (select json_agg(a) from lintel_assignment a where a.tenant_id = t.id and a.user_id = m.user_id and a.source = ${source}) as assignments,
      (select json_agg(g.group_id order by g.group_id) from lintel_group_member g where g.tenant_id = t.id and g.user_id = m.user_id and g.source = ${source}) as groups,
      (select json_agg(p.unit_id order by p.unit_id) from lintel_placement p where p.tenant_id = t.id and p.user_id = m.user_id and p.source = ${source}) as units
    from lintel_tenant t left join lintel_identity i on i.tenant_id = t.id and i.connection_id = ${connectionId} and i.subject = ${subject}
      left join lintel_member m on m.tenant_id = t.id and m.user_id = i.user_id where t.id = ${tenantId}${sql.raw(PREPARED)}`.execute(db);
  const row = rows[0] as (typeof rows)[number];
  return {
    userId: row.user_id,
    isMember: row.member,
    address: row.address ?? '',
    name: row.name ?? '',
    said: row.said,
    number: Number(row.number),
    isInactive: row.inactive ?? false,
    holds: heldOf({ assignments: row.assignments ?? [], groups: row.groups ?? [], units: row.units ?? [], attributes: row.attributes ?? {} }),
  };
}

type Named = readonly { readonly id: string; readonly name: string }[];

/** By its id; or by its name, where one alone is called so. */
function meant(all: Named, named: string): string | undefined {
  if (all.some(({ id }) => id === named)) return named;
  const called = all.filter(({ name }) => name === named);
  return called.length === 1 ? called[0]?.id : undefined;
}

/** What rules and claims name, as it is in the tenant. */
async function thereIn(db: Kysely<LintelTables>, setting: Setting, charter: Charter, tenantId: string, of: ReturnType<typeof lookedUp>): Promise<There> {
  const among = async () => {
    if (of.units.length + of.groups.length === 0) return [];
    const known = (table: string, named: readonly string[]) =>
      sql`select ${table}::text as what, id, name from ${sql.table(`lintel_${table}`)} where tenant_id = ${tenantId} and (id = any(${named}::text[]) or name = any(${named}::text[]))`;
    const { rows } = await sql<{
      what: string;
      id: string;
      name: string;
    }>`${known('unit', of.units)} union all ${known('group', of.groups)}${sql.raw(PREPARED)}`.execute(db);
    return rows;
  };
  const all = await among();
  const [units, groups] = [all.filter(({ what }) => what === 'unit'), all.filter(({ what }) => what === 'group')];
  const records = new Map<string, ReadonlySet<string>>();
  if (!setting.recordsElsewhere) for (const [kind, ids] of of.records) records.set(kind, new Set(await recordsThere(db, charter, tenantId, kind, ids)));
  return {
    unit: (named) => meant(units, named),
    group: (named) => meant(groups, named),
    record: (kind, named) => (records.get(kind)?.has(named) ? named : undefined),
  };
}

export async function admitted(db: Kysely<LintelTables>, setting: Setting, tenantId: string, { rules }: ConnectionRow, claims: Claims): Promise<Admission> {
  const ours = rules.some((rule) => 'gives' in rule && rule.gives.roles?.some(({ role }) => !Object.hasOwn(setting.charter.data.roles, role)));
  const charter = ours ? setting.charter.withRoles(await ownRoles(db, setting.charter, tenantId)) : setting.charter;
  const named = lookedUp(charter, rules, claims);
  return admit(charter, rules, claims, await thereIn(db, setting, charter, tenantId, named));
}

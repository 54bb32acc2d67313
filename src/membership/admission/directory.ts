import { type Kysely, sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { type Change, changeTenant, insistOn } from '../change/index.js';
import type { AuditEntry } from '../record/index.js';
import { directorySource, type LintelTables, type Setting } from '../terms/index.js';

/** Which directory of which tenant: a program. It sees what it brought, and nothing else. */
export interface Directory {
  readonly tenantId: string;
  readonly program: string;
}

/** Somebody as a directory says them. */
export interface DirectoryUser {
  readonly userName: string;
  readonly externalId?: string;
  readonly active: boolean;
  /** What people here see. */
  readonly name: string;
  readonly address: string;
  /** Facts that the charter declares and a source says. */
  readonly attributes: Readonly<Record<string, unknown>>;
  /** All that is kept, as it is answered. */
  readonly resource: Readonly<Record<string, unknown>>;
}

/** A group, as a directory says it. */
export interface DirectoryGroup {
  readonly name: string;
  readonly externalId?: string;
  /** By their ids. */
  readonly members: readonly string[];
}

/** Somebody of a directory, as they are kept. */
export interface KeptUser {
  readonly id: string;
  readonly resource: Readonly<Record<string, unknown>>;
  readonly version: number;
  readonly madeAt: Date;
  readonly changedAt: Date;
  /** In which groups by this directory, where it was read with them. */
  readonly groups?: readonly { readonly group: string; readonly groupName: string }[];
}
/** A group of a directory, as it is kept. */
export interface KeptGroup {
  readonly id: string;
  readonly name: string;
  readonly externalId: string | null;
  readonly version: number;
  readonly madeAt: Date;
  readonly changedAt: Date;
}

export const notFound = () => new LintelError('not-found', 'This directory has brought nothing with this id.', {});
export const taken = (what: string) => new LintelError('directory-taken', `This directory has brought one with this ${what} already.`, {});
export const stale = () => new LintelError('changed-meanwhile', 'It has another version by now. Read it again.', {});

/** One change by a directory. @throws LintelError `refused` without `directory.write`. */
export function changes<R>(
  setting: Setting,
  { tenantId, program }: Directory,
  work: (change: Change) => Promise<{ result: R; entry: AuditEntry | readonly AuditEntry[] }>,
) {
  return changeTenant(setting, tenantId, program, async (change) => {
    insistOn(change, 'directory.write');
    return work(change);
  });
}

const columns = ['user_id', 'resource', 'version', 'made_at', 'changed_at'] as const;
export const keptUser = (row: { user_id: string; resource: Record<string, unknown>; version: number; made_at: Date; changed_at: Date }): KeptUser => ({
  id: row.user_id,
  resource: row.resource,
  version: row.version,
  madeAt: row.made_at,
  changedAt: row.changed_at,
});

/** Whom a directory has brought. `userName`, `externalId`: those alone; `withGroups`: with the groups in which it has put them. */
export async function directoryUsers(
  db: Kysely<LintelTables>,
  { tenantId, program }: Directory,
  {
    id,
    userName,
    externalId,
    withGroups,
  }: { readonly id?: string; readonly userName?: string; readonly externalId?: string; readonly withGroups?: boolean } = {},
): Promise<KeptUser[]> {
  const rows = await db
    .selectFrom('lintel_directory_user as d')
    .select(columns)
    .$if(withGroups === true, (qb) =>
      qb.select(
        sql<NonNullable<KeptUser['groups']>>`(select coalesce(json_agg(json_build_object('group', g.id, 'groupName', g.name) order by g.id), '[]')
          from lintel_group_member m join lintel_group g on g.tenant_id = m.tenant_id and g.id = m.group_id
          where m.tenant_id = ${tenantId} and m.user_id = d.user_id and m.source = ${directorySource(program)})`.as('groups'),
      ),
    )
    .where('tenant_id', '=', tenantId)
    .where('program_id', '=', program)
    .$if(id !== undefined, (qb) => qb.where('user_id', '=', id as string))
    .$if(userName !== undefined, (qb) => qb.where('user_name', '=', (userName as string).toLowerCase()))
    .$if(externalId !== undefined, (qb) => qb.where('external_id', '=', externalId as string))
    .orderBy('user_id')
    .execute();
  return rows.map((row) => ({ ...keptUser(row), ...(row.groups && { groups: row.groups }) }));
}

/** The groups that a directory has brought. */
export async function directoryGroups(
  db: Kysely<LintelTables>,
  { tenantId, program }: Directory,
  { id, name, externalId }: { readonly id?: string; readonly name?: string; readonly externalId?: string } = {},
): Promise<KeptGroup[]> {
  const rows = await db
    .selectFrom('lintel_directory_group as d')
    .innerJoin('lintel_group as g', (join) => join.onRef('g.tenant_id', '=', 'd.tenant_id').onRef('g.id', '=', 'd.group_id'))
    .select(['d.group_id', 'g.name', 'd.external_id', 'd.version', 'd.made_at', 'd.changed_at'])
    .where('d.tenant_id', '=', tenantId)
    .where('d.program_id', '=', program)
    .$if(id !== undefined, (qb) => qb.where('d.group_id', '=', id as string))
    .$if(name !== undefined, (qb) => qb.where('g.name', '=', name as string))
    .$if(externalId !== undefined, (qb) => qb.where('d.external_id', '=', externalId as string))
    .orderBy('d.group_id')
    .execute();
  return rows.map((row) => ({
    id: row.group_id,
    name: row.name,
    externalId: row.external_id,
    version: row.version,
    madeAt: row.made_at,
    changedAt: row.changed_at,
  }));
}

/** Who is in groups by a directory: by group, with what they are called. */
export async function directoryMembers(
  db: Kysely<LintelTables>,
  { tenantId, program }: Directory,
  by: { readonly groups: readonly string[] } | { readonly users: readonly string[] },
): Promise<{ readonly group: string; readonly groupName: string; readonly user: string; readonly userName: string }[]> {
  const { rows } = await sql<{ group: string; groupName: string; user: string; userName: string }>`
    select m.group_id as "group", g.name as "groupName", m.user_id as "user", p.name as "userName" from lintel_group_member m
      join lintel_group g on g.tenant_id = m.tenant_id and g.id = m.group_id join lintel_person p on p.id = m.user_id
    where m.tenant_id = ${tenantId} and m.source = ${directorySource(program)}
      and ${'groups' in by ? sql`m.group_id = any(${by.groups}::text[])` : sql`m.user_id = any(${by.users}::text[])`} order by m.group_id, m.user_id`.execute(
    db,
  );
  return rows;
}

/** What a source says of somebody from now on, for the record: groups are said by themselves. */
export async function holding(
  change: Change,
  source: string,
  user: string,
  active: boolean,
  attributes: Readonly<Record<string, unknown>>,
  name: string,
): Promise<AuditEntry> {
  const rows = await change.tx
    .selectFrom('lintel_group_member')
    .select('group_id')
    .where('tenant_id', '=', change.tenantId)
    .where('user_id', '=', user)
    .where('source', '=', source)
    .orderBy('group_id')
    .execute();
  const event = {
    source,
    user,
    roles: [],
    groups: rows.map(({ group_id }) => group_id),
    units: [],
    permissions: [],
    attributes: Object.keys(attributes),
    ...(!active && { active }),
  };
  return { what: 'arrived', event, words: { name, values: JSON.stringify(attributes) } };
}

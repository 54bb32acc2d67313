import { sql } from 'kysely';
import type { Standing } from '../../standing/index.js';
import { insistOnPeople } from '../held/index.js';
import type { Setting } from '../terms/index.js';

import type { Directory } from './directory.js';

/** Remembers what a directory says and nobody here knows. */
export async function noteUnknown(setting: Setting, { tenantId, program }: Directory, what: readonly string[]): Promise<void> {
  if (what.length === 0) return;
  await sql`insert into lintel_directory_unknown (tenant_id, program_id, what, at) select ${tenantId}, ${program}, w, ${new Date(setting.now())} from unnest(${what.map((one) => one.slice(0, 200))}::text[]) w
    where (select count(*) from lintel_directory_unknown u where u.tenant_id = ${tenantId} and u.program_id = ${program}) < 200 on conflict do nothing`.execute(
    setting.db,
  );
}

/** What a directory gave, and what of it is not known here. */
export interface DirectoryReport {
  readonly program: string;
  readonly name: string;
  readonly users: number;
  readonly active: number;
  /** Who have come in by now. */
  readonly arrived: number;
  readonly groups: readonly { readonly id: string; readonly name: string; readonly people: number; readonly roles: number }[];
  readonly unknown: readonly string[];
}

/** The directories of a tenant, for whoever sees the members. @throws LintelError `refused`. */
export async function listDirectories(setting: Setting, standing: Standing<any>): Promise<DirectoryReport[]> {
  insistOnPeople(standing);
  const tenantId = standing.facts.tenant.id;
  const { rows } = await sql<{
    program: string;
    name: string;
    users: number;
    active: number;
    arrived: number;
    groups: DirectoryReport['groups'] | null;
    unknown: string[] | null;
  }>`
    select p.id as program, p.name,
      (select count(*)::int from lintel_directory_user u where u.tenant_id = ${tenantId} and u.program_id = p.id) as users,
      (select count(*)::int from lintel_directory_user u where u.tenant_id = ${tenantId} and u.program_id = p.id and coalesce((u.resource ->> 'active')::boolean, true)) as active,
      (select count(*)::int from lintel_directory_user u join lintel_member m on m.tenant_id = u.tenant_id and m.user_id = u.user_id
        where u.tenant_id = ${tenantId} and u.program_id = p.id and not m.expected) as arrived,
      (select json_agg(json_build_object('id', g.id, 'name', g.name,
          'people', (select count(*) from lintel_group_member m where m.tenant_id = ${tenantId} and m.group_id = g.id and m.source = 'directory:' || p.id),
          'roles', (select count(*) from lintel_assignment a where a.tenant_id = ${tenantId} and a.group_id = g.id and a.role is not null)) order by g.name, g.id)
        from lintel_directory_group d join lintel_group g on g.tenant_id = d.tenant_id and g.id = d.group_id where d.tenant_id = ${tenantId} and d.program_id = p.id) as groups,
      (select json_agg(u.what order by u.what) from lintel_directory_unknown u where u.tenant_id = ${tenantId} and u.program_id = p.id) as unknown
    from lintel_person p join lintel_member pm on pm.tenant_id = ${tenantId} and pm.user_id = p.id and pm.responsible_id is not null
    where exists (select from lintel_directory_user u where u.tenant_id = ${tenantId} and u.program_id = p.id)
      or exists (select from lintel_directory_group d where d.tenant_id = ${tenantId} and d.program_id = p.id)
      or exists (select from lintel_directory_unknown n where n.tenant_id = ${tenantId} and n.program_id = p.id) order by p.name, p.id`.execute(setting.db);
  return rows.map(({ groups, unknown, ...row }) => ({ ...row, groups: groups ?? [], unknown: unknown ?? [] }));
}

import { type Kysely, sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { type Change, heldBy, insistOnApart } from '../change/index.js';
import type { AuditEntry } from '../record/index.js';
import { insistOnNoRule, keepOpenIn, peopleTouched } from '../steps/index.js';
import { directorySource, idOfOwn, type LintelTables, readName, type Setting } from '../terms/index.js';

import { changes, type Directory, type DirectoryGroup, directoryGroups, directoryMembers, type KeptGroup, notFound, stale } from './directory.js';

const keptGroup = (row: { group_id: string; external_id: string | null; version: number; made_at: Date; changed_at: Date }, name: string): KeptGroup => ({
  id: row.group_id,
  name,
  externalId: row.external_id,
  version: row.version,
  madeAt: row.made_at,
  changedAt: row.changed_at,
});

/** @throws LintelError `refused`, `bad-name`; `no-such-member` for somebody whom this directory did not bring. */
export function bringGroup(setting: Setting, directory: Directory, { name, externalId, members }: DirectoryGroup): Promise<KeptGroup> {
  return changes(setting, directory, async (change) => {
    const { tx, tenantId, at } = change;
    const named = readName(name, 'a group');
    const id = idOfOwn(change, 'group', undefined);
    await tx.insertInto('lintel_group').values({ tenant_id: tenantId, id, name: named }).execute();
    const row = { group_id: id, external_id: externalId ?? null, version: 1, made_at: at, changed_at: at };
    await tx
      .insertInto('lintel_directory_group')
      .values({ tenant_id: tenantId, program_id: directory.program, ...row })
      .execute();
    await setMembers(change, directory.program, id, [], members);
    const made = { what: 'group made', event: { group: id, people: [] }, words: { name: named } };
    return { result: keptGroup(row, named), entry: members.length > 0 ? [made, said(directory.program, id, members, [])] : [made] };
  });
}

const said = (program: string, group: string, came: readonly string[], went: readonly string[]): AuditEntry => ({
  what: 'directory group changed',
  event: { source: directorySource(program), group, came, went },
});

/** Who is in a group by this directory from now on. What they own stays open where an opening says so; what is apart stays so. */
async function setMembers(change: Change, program: string, group: string, went: readonly string[], came: readonly string[]): Promise<void> {
  const { tx, tenantId, setting } = change;
  const source = directorySource(program);
  const watched = Object.keys(setting.charter.data.apart).length > 0;
  // Whoever comes is looked at, and who stands in for them: what others hold together is as it was.
  const touched = watched && came.length > 0 ? await peopleTouched(change, [{ users: came }]) : [];
  const before = await heldBy(change, touched);
  if (went.length > 0) {
    const { rows } = await sql<{
      tenant_id: string;
      group_id: string;
      user_id: string;
    }>`delete from lintel_group_member where tenant_id = ${tenantId} and group_id = ${group}
      and source = ${source} and user_id = any(${went}::text[]) returning tenant_id, group_id, user_id`.execute(tx);
    await keepOpenIn(tx, rows);
  }
  if (came.length > 0) {
    // Only whom it brought: what it does not see it cannot name.
    // guard directory-groups-own-people by arrival: A directory could put people into groups whom it did not bring.
    const { rows } = await sql<{ n: number }>`with put as (insert into lintel_group_member (tenant_id, group_id, user_id, source)
      select ${tenantId}, ${group}, d.user_id, ${source} from lintel_directory_user d where d.tenant_id = ${tenantId}${/* guard directory-groups-own-people */ sql` and d.program_id = ${program}`} and d.user_id = any(${came}::text[])
      returning 1) select count(*)::int as n from put`.execute(tx);
    if (rows[0]?.n !== came.length) throw new LintelError('no-such-member', 'This directory has not brought one of the members. Push that person first.', {});
  }
  if (touched.length > 0) insistOnApart(before, await heldBy(change, touched), () => false);
}

/**
 * A directory says a group otherwise. The same as before writes nothing.
 *
 * @param next what becomes of it, from what it is and who is in it; asked under the tenant's lock.
 * @throws LintelError `not-found`, `changed-meanwhile`, `no-such-member`, `bad-name`, `apart`, `refused`.
 */
export async function changeGroup(
  setting: Setting,
  directory: Directory,
  id: string,
  next: (kept: KeptGroup, members: readonly string[]) => DirectoryGroup,
  version?: number,
): Promise<KeptGroup> {
  const read = async (db: Kysely<LintelTables>) => {
    const [kept] = await directoryGroups(db, directory, { id });
    if (!kept) throw notFound();
    if (version !== undefined && version !== kept.version) throw stale();
    const members = (await directoryMembers(db, directory, { groups: [id] })).map(({ user }) => user);
    const after = next(kept, members);
    const [had, has] = [new Set(members), new Set(after.members)];
    const came = [...has].filter((one) => !had.has(one));
    const went = members.filter((one) => !has.has(one));
    const isSame = came.length === 0 && went.length === 0 && after.name === kept.name && (after.externalId ?? null) === kept.externalId;
    return { kept, after, came, went, isSame };
  };
  const known = await read(setting.db);
  if (known.isSame) return known.kept;
  return changes(setting, directory, async (change) => {
    const { tx, tenantId, at } = change;
    const { kept, after, came, went, isSame } = await read(tx);
    if (isSame) return { result: kept, entry: [] };
    const name = readName(after.name, 'a group');
    await setMembers(change, directory.program, id, went, came);
    const row = { group_id: id, external_id: after.externalId ?? null, version: kept.version + 1, made_at: kept.madeAt, changed_at: at };
    await tx
      .updateTable('lintel_directory_group')
      .set({ external_id: row.external_id, version: row.version, changed_at: at })
      .where('tenant_id', '=', tenantId)
      .where('program_id', '=', directory.program)
      .where('group_id', '=', id)
      .execute();
    const renamed = name !== kept.name;
    if (renamed) await tx.updateTable('lintel_group').set({ name }).where('tenant_id', '=', tenantId).where('id', '=', id).execute();
    const entry = [
      ...(renamed ? [{ what: 'group renamed', event: { group: id }, words: { name } }] : []),
      ...(came.length + went.length > 0 ? [said(directory.program, id, came, went)] : []),
    ];
    return { result: keptGroup(row, name), entry };
  });
}

/** A directory has a group no longer. @throws LintelError `not-found`, `changed-meanwhile`, `in-rules`, `refused`. */
export function dropGroup(setting: Setting, directory: Directory, id: string, version?: number): Promise<void> {
  return changes(setting, directory, async (change) => {
    const { tx, tenantId } = change;
    const [kept] = await directoryGroups(tx, directory, { id });
    if (!kept) throw notFound();
    if (version !== undefined && version !== kept.version) throw stale();
    await insistOnNoRule(change, 'groups', id);
    const members = (await directoryMembers(tx, directory, { groups: [id] })).map(({ user }) => user);
    await setMembers(change, directory.program, id, members, []);
    // What people have made of it is theirs: roles that it holds and records that it opens go when they drop it.
    await tx
      .deleteFrom('lintel_directory_group')
      .where('tenant_id', '=', tenantId)
      .where('program_id', '=', directory.program)
      .where('group_id', '=', id)
      .execute();
    return { result: undefined, entry: said(directory.program, id, [], members) };
  });
}

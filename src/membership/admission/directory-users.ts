import { sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { canonicalJson } from '../../charter/index.js';
import type { Change } from '../change/index.js';
import { joinTenant } from '../coming/index.js';
import { endMembership } from '../steps/index.js';
import { directorySource, type Setting } from '../terms/index.js';
import { changes, type Directory, type DirectoryUser, directoryUsers, holding, type KeptUser, keptUser, notFound, stale, taken } from './directory.js';
import { sayAttributes } from './given.js';
import { isBarred, isOnlyOneLeft, makeKept, renameKept, setActive } from './kept.js';

const markOf = ({ userName, externalId }: Pick<DirectoryUser, 'userName' | 'externalId'>) => externalId ?? userName.toLowerCase();

/**
 * A directory names somebody: they are expected, under an account that the tenant keeps and that nobody has come to. Nothing is looked for outside the tenant.
 *
 * @throws LintelError `directory-taken`; `removed-here` for whom somebody here removed; `refused`.
 */
export function bringUser(setting: Setting, directory: Directory, user: DirectoryUser): Promise<KeptUser> {
  return changes(setting, directory, async (change) => {
    const { tx, tenantId, at } = change;
    const source = directorySource(directory.program);
    const barred = await isBarred(change, source, markOf(user));
    // guard directory-brings-no-removed by arrival: A directory could bring back a removed member.
    if (barred) throw new LintelError('removed-here', 'Somebody here has ended this membership: they let them in again.', {});
    const same = await tx
      .selectFrom('lintel_directory_user')
      .select('user_id')
      .where('tenant_id', '=', tenantId)
      .where('program_id', '=', directory.program)
      .where((eb) =>
        eb.or([eb('user_name', '=', user.userName.toLowerCase()), ...(user.externalId === undefined ? [] : [eb('external_id', '=', user.externalId)])]),
      )
      .executeTakeFirst();
    if (same) throw taken('userName or externalId');
    const id = await makeKept(change, user.name, user.address, null);
    await joinTenant(tx, tenantId, id, at, []);
    const said = Object.keys(user.attributes).length > 0 ? { [source]: user.attributes } : {};
    await tx
      .updateTable('lintel_member')
      .set({ expected: true, inactive_by: user.active ? [] : [source], attributes: JSON.stringify(said) })
      .where('tenant_id', '=', tenantId)
      .where('user_id', '=', id)
      .execute();
    const kept = { user_id: id, resource: user.resource as Record<string, unknown>, version: 1, made_at: at, changed_at: at };
    await tx
      .insertInto('lintel_directory_user')
      .values({
        ...kept,
        tenant_id: tenantId,
        program_id: directory.program,
        user_name: user.userName.toLowerCase(),
        external_id: user.externalId ?? null,
        resource: JSON.stringify(user.resource),
      })
      .execute();
    return { result: keptUser(kept), entry: await holding(change, source, id, user.active, user.attributes, user.name) };
  });
}

/** @throws LintelError `not-found`, `changed-meanwhile`. */
async function userIn({ tx, tenantId }: Change, program: string, id: string, version: number | undefined) {
  const row = await tx
    .selectFrom('lintel_directory_user as d')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'd.tenant_id').onRef('m.user_id', '=', 'd.user_id'))
    .selectAll('d')
    .select(['m.inactive_by', 'm.attributes'])
    .where('d.tenant_id', '=', tenantId)
    .where('d.program_id', '=', program)
    .where('d.user_id', '=', id)
    .executeTakeFirst();
  if (!row) throw notFound();
  if (version !== undefined && version !== row.version) throw stale();
  return row;
}

const endSessionsHere = ({ tx, tenantId }: Change, user: string) =>
  sql`delete from lintel_session where person_id = ${user} and enters = ${[tenantId]}::text[]`.execute(tx);

/** Whom a directory brought is put to sleep, or goes, only while somebody with full control is left whom it did not bring. @throws LintelError `last-keyholder`. */
async function insistOnOthers(change: Change, program: string, user: string): Promise<void> {
  const brought = sql`select from lintel_directory_user d where d.tenant_id = ${change.tenantId} and d.program_id = ${program} and d.user_id = o.user_id`;
  // guard directory-leaves-a-keyholder by arrival: A directory could deactivate the last keyholder.
  if (await isOnlyOneLeft(change, user, brought))
    throw new LintelError(
      'last-keyholder',
      'They have full control, and nobody else has whom this directory did not bring. Somebody there hands it over first.',
      {},
    );
}

/**
 * A directory says somebody otherwise. The same as before writes nothing.
 *
 * @param next what becomes of what is kept; asked under the tenant's lock.
 * @param version the one that the directory has read.
 * @throws LintelError `not-found`, `changed-meanwhile`, `directory-taken`, `last-keyholder`, `refused`.
 */
export async function changeUser(
  setting: Setting,
  directory: Directory,
  id: string,
  next: (kept: KeptUser) => DirectoryUser,
  version?: number,
): Promise<KeptUser> {
  const [known] = await directoryUsers(setting.db, directory, { id, withGroups: true });
  if (!known) throw notFound();
  if (version !== undefined && version !== known.version) throw stale();
  // What is the same takes no lock.
  // guard unchanged-not-written by arrival: A push without a change would be written each time.
  if (canonicalJson(next(known).resource) === canonicalJson(known.resource)) return known;
  return changes(setting, directory, async (change) => {
    const { tx, tenantId, at } = change;
    const row = await userIn(change, directory.program, id, version);
    const before = keptUser(row);
    const user = next(before);
    if (canonicalJson(user.resource) === canonicalJson(before.resource)) return { result: before, entry: [] };
    const source = directorySource(directory.program);
    const wasActive = !row.inactive_by.includes(source);
    if (wasActive && !user.active) await insistOnOthers(change, directory.program, id);
    const said = (row.attributes as Record<string, unknown>)[source] ?? {};
    const isOther = wasActive !== user.active || canonicalJson(said) !== canonicalJson(user.attributes);
    if (isOther) {
      await sayAttributes(change, source, id, user.attributes);
      await setActive(change, source, id, user.active);
      if (!user.active) await endSessionsHere(change, id);
    }
    await renameKept(change, id, user.name, user.address);
    const kept = { user_id: id, resource: user.resource as Record<string, unknown>, version: row.version + 1, made_at: row.made_at, changed_at: at };
    const clash = await tx
      .selectFrom('lintel_directory_user')
      .select('user_id')
      .where('tenant_id', '=', tenantId)
      .where('program_id', '=', directory.program)
      .where('user_name', '=', user.userName.toLowerCase())
      .where('user_id', '!=', id)
      .executeTakeFirst();
    if (clash) throw taken('userName');
    await tx
      .updateTable('lintel_directory_user')
      .set({
        user_name: user.userName.toLowerCase(),
        external_id: user.externalId ?? null,
        resource: JSON.stringify(user.resource),
        version: kept.version,
        changed_at: at,
      })
      .where('tenant_id', '=', tenantId)
      .where('program_id', '=', directory.program)
      .where('user_id', '=', id)
      .execute();
    return { result: keptUser(kept), entry: isOther ? await holding(change, source, id, user.active, user.attributes, user.name) : [] };
  });
}

/** A directory names somebody no longer: their membership ends, and named again they are somebody new. @throws LintelError `not-found`, `changed-meanwhile`, `last-keyholder`, `refused`. */
export function dropUser(setting: Setting, directory: Directory, id: string, version?: number): Promise<void> {
  return changes(setting, directory, async (change) => {
    await userIn(change, directory.program, id, version);
    await insistOnOthers(change, directory.program, id);
    await endMembership(change, id);
    await endSessionsHere(change, id);
    return { result: undefined, entry: { what: 'member left', event: { user: id, source: directorySource(directory.program) } } };
  });
}

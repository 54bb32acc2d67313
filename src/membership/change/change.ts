import type { Kysely, Transaction } from 'kysely';
import { LintelError } from '../../base/index.js';
import { type Standing, throwIfRefused } from '../../standing/index.js';
import { standingInTenant } from '../held/index.js';
import { type AuditEntry, putOnRecord } from '../record/index.js';
import { inTransaction, type JoiningRow, type LintelTables, type Setting, takenBack } from '../terms/index.js';

/** A change of one tenant's membership in progress: the tenant's row is locked, the actor's standing was read afresh. */
export interface Change {
  readonly tx: Transaction<LintelTables>;
  readonly setting: Setting;
  readonly tenantId: string;
  /** Number of its first event within the tenant. */
  readonly number: number;
  /** The mark of the latest change before it. */
  readonly latest: string;
  readonly at: Date;
  readonly actor: Standing;
  readonly rules: Rules;
}

/** What a tenant has set for itself. */
export interface Rules {
  readonly oneRole: boolean;
  readonly joining: Partial<JoiningRow>;
  readonly bases: Readonly<Record<string, string>>;
}

export interface ChangeOptions {
  /** The mark of the latest change that the actor has seen, where it has to be the latest still. */
  readonly seen?: string | undefined;
  /** Also in a tenant that is closed. */
  readonly evenClosed?: boolean;
}

/**
 * Runs one change of a tenant's membership as one transaction: locks the tenant's row and takes its next numbers, reads the
 * actor's standing afresh (undefined: somebody who is not signed in), does the work, and puts it on record. Two changes of one tenant therefore never run side by side.
 *
 * @throws LintelError `not-found` when the tenant is closed or unknown; `changed-meanwhile`.
 */
export async function changeTenant<R>(
  setting: Setting,
  tenantId: string,
  actorId: string | undefined,
  work: (change: Change) => Promise<{ result: R; entry: AuditEntry | readonly AuditEntry[] }>,
  { seen, evenClosed = false }: ChangeOptions = {},
): Promise<R> {
  return inTransaction(setting.db, async (tx) => {
    const tenant = await tx
      .selectFrom('lintel_tenant')
      .select(['last_number', 'last_hash', 'one_role', 'joining', 'bases'])
      .where('id', '=', tenantId)
      .$if(!evenClosed, (qb) => qb.where('status', '=', 'open'))
      .forUpdate()
      .executeTakeFirst();
    if (!tenant) throw new LintelError('not-found', 'There is no such page.', {});
    const actor = await standingInTenant(tx, setting, { tenant: tenantId, user: actorId, fulfilled: setting.fulfilled });
    const number = Number(tenant.last_number) + 1;
    if (seen !== undefined && seen !== tenant.last_hash)
      throw new LintelError('changed-meanwhile', 'Something was changed here since you looked. Look again, and decide anew.', { latest: tenant.last_hash });
    const change: Change = {
      tx,
      setting,
      tenantId,
      number,
      latest: tenant.last_hash,
      at: new Date(setting.now()),
      actor,
      rules: { oneRole: tenant.one_role, joining: tenant.joining, bases: tenant.bases },
    };
    const { result, entry } = await work(change);
    const entries = [entry].flat();
    if (entries.length === 0) return result;
    const hash = await putOnRecord(change, entries);
    await tx
      .updateTable('lintel_tenant')
      .set({ last_number: number + entries.length - 1, last_hash: hash })
      .where('id', '=', tenantId)
      .execute();
    return result;
  });
}

/** Works on each of several by itself, all from one state of the tenant, and takes back whatever that has written: only the results are left. */
export async function eachTakenBack<A, R>(
  setting: Setting,
  tenantId: string,
  actorId: string,
  many: readonly A[],
  work: (change: Change, one: A) => Promise<R>,
): Promise<R[]> {
  if (many.length === 0) return [];
  return changeTenant(setting, tenantId, actorId, async (change) => {
    const result: R[] = [];
    for (const one of many) result.push(await takenBack(change.tx, (tx) => work({ ...change, tx }, one)));
    return { result, entry: [] };
  });
}

/** Asks the actor's standing for an operation of the library. */
export function insistOn(change: Change, operation: string): void {
  throwIfRefused(change.actor.decide(operation));
}

/** Puts on record that somebody goes past the scope. @throws LintelError `bad-reason` for none. */
export async function recordDoor(setting: Setting, tenantId: string, actorId: string, name: string, reason: string): Promise<void> {
  if (name.trim() === '' || reason.trim() === '') throw new LintelError('bad-reason', 'to go past the scope takes a name and a reason, for the record', {});
  await changeTenant(setting, tenantId, actorId, async () => ({
    result: undefined,
    entry: { what: 'scope passed', event: { door: name }, words: { reason } },
  }));
}

/** A mark of the latest change of a tenant's membership. It tells nothing of how many there were. */
export async function latestChange(db: Kysely<LintelTables>, tenantId: string): Promise<string> {
  const row = await db.selectFrom('lintel_tenant').select('last_hash').where('id', '=', tenantId).executeTakeFirst();
  return row?.last_hash ?? '';
}

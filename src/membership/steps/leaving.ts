import { sql } from 'kysely';
import { inTransaction, LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { claimLinks, dropLinks, passOnRecords } from '../../scoping/index.js';
import type { Change } from '../change/index.js';
import type { Setting } from '../terms/index.js';

/** Records that name people: in lists of them, or also in a field. */
const namesPeople = ({ shapes }: Charter, alsoInFields: boolean) =>
  Object.values(shapes).some(({ fields }) => Object.values(fields).some(({ link, person }) => link || (alsoInFields && person)));

/**
 * Takes somebody who leaves off the records, or puts another in their place: at once where the records are beside the membership. Where they are elsewhere it is put down with the
 * change itself, and done {@link takeOff | afterwards}; until then they do not come in again.
 */
export async function leaveRecords(change: Change, userId: string, passedTo?: string): Promise<void> {
  const { tx, tenantId, setting, at } = change;
  const { charter } = setting;
  if (!setting.recordsElsewhere) {
    if (passedTo === undefined) await dropLinks(tx, charter, tenantId, userId);
    else await passOnRecords(tx, charter, tenantId, userId, passedTo);
  } else if (namesPeople(charter, passedTo !== undefined)) {
    await tx
      .insertInto('lintel_leaving')
      .values({ tenant_id: tenantId, user_id: userId, since: at, ...(passedTo !== undefined && { passed_to: passedTo }) })
      .onConflict((c) => c.doNothing())
      .execute();
    change.left.push(userId);
  }
}

/** SQLSTATE with which the database keeps out who is still leaving. */
const LEAVING = 'WL001';

/** What the database has refused of a new member, in words. */
export function stillLeaving(error: unknown): never {
  if ((error as { code?: unknown } | null)?.code !== LEAVING) throw error;
  throw new LintelError(
    'still-leaving',
    'What they were linked to when they left is still being taken off the records. Try again in a moment.',
    {},
    { cause: error },
  );
}

/** In one part. */
const TOGETHER = 100;

/**
 * Does at the records, wherever they are, what changes of the membership have put down for them: each at least once, and none after somebody has come in again. Two at once do not meet, nor is
 * it done while somebody links people there.
 *
 * @param setting whose `recordsOf` says where the records of a tenant are.
 * @returns how many were done, and how many wait for records that cannot be reached.
 */
export async function takeOff(setting: Setting): Promise<{ readonly done: number; readonly waiting: number }> {
  const { db, charter, recordsOf } = setting;
  if (!recordsOf) return { done: 0, waiting: 0 };
  let [done, waiting] = [0, 0];
  for (let after = ['', '']; ; ) {
    const part = await db
      .selectFrom('lintel_leaving')
      .select(['tenant_id', 'user_id'])
      .where(sql<boolean>`(tenant_id, user_id) > (${after[0]}, ${after[1]})`)
      .orderBy('tenant_id')
      .orderBy('user_id')
      .limit(TOGETHER)
      .execute();
    for (const { tenant_id: tenant, user_id: user } of part) {
      const takeOne = async () => {
        // Where they are is asked before: an embedded database has one connection.
        const records = await recordsOf(tenant);
        return inTransaction(db, async (tx) => {
          const { rows } = await sql<{ passed_to: string | null }>`
          select passed_to from lintel_leaving where tenant_id = ${tenant} and user_id = ${user} for update skip locked`.execute(tx);
          const [row] = rows;
          if (!row) return false;
          const isOff = await inTransaction(records, async (at) => {
            if (!(await claimLinks(at, charter, tenant, user))) return false;
            if (row.passed_to === null) await dropLinks(at, charter, tenant, user);
            else await passOnRecords(at, charter, tenant, user, row.passed_to);
            return true;
          });
          if (!isOff) return undefined;
          await tx.deleteFrom('lintel_leaving').where('tenant_id', '=', tenant).where('user_id', '=', user).execute();
          return true;
        });
      };
      const isDone = await takeOne().catch(() => undefined);
      if (isDone === undefined) waiting += 1;
      else if (isDone) done += 1;
    }
    const last = part.at(-1);
    if (!last || part.length < TOGETHER) return { done, waiting };
    after = [last.tenant_id, last.user_id];
  }
}

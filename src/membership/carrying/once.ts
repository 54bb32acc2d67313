import type { Kysely } from 'kysely';
import { hashOf, inTransaction, LintelError } from '../../base/index.js';
import { canonicalJson } from '../../charter/index.js';
import { type LintelTables, lockTenants, type Setting } from '../terms/index.js';

const DAY = 86_400_000;

/**
 * Does something once for a key that the caller chose, however often it is asked: the same again is answered as the first time, for 24 hours. Of
 * two at once the second waits for the first.
 *
 * @param keep what of the answer is kept: no secret.
 * @throws LintelError `key-reused` for the same key with another request.
 */
export async function once<A extends object>(
  setting: Setting,
  who: { readonly tenantId: string; readonly actor: string; readonly key: string },
  request: unknown,
  work: (tx: Kysely<LintelTables>) => Promise<readonly A[]>,
  keep: (answer: A) => A,
): Promise<readonly A[]> {
  const hash = hashOf([canonicalJson(request)]);
  return inTransaction(setting.db, async (tx) => {
    // Before the key: whoever holds the tenant may wait for it.
    await lockTenants(tx, [who.tenantId]);
    const at = new Date(setting.now());
    const mine = { tenant_id: who.tenantId, actor: who.actor, key: who.key };
    await tx
      .deleteFrom('lintel_answer')
      .where('tenant_id', '=', who.tenantId)
      .where('at', '<', new Date(at.getTime() - DAY))
      .execute();
    const first = await tx
      .insertInto('lintel_answer')
      .values({ ...mine, request: hash, at })
      .onConflict((c) => c.doNothing())
      .returning('key')
      .executeTakeFirst();
    if (!first) {
      const before = await tx
        .selectFrom('lintel_answer')
        .select(['request', 'answer'])
        .where('tenant_id', '=', who.tenantId)
        .where('actor', '=', who.actor)
        .where('key', '=', who.key)
        .executeTakeFirstOrThrow();
      if (before.request === hash) return before.answer as A[];
      throw new LintelError('key-reused', 'This Idempotency-Key was used for another request. Choose a new one.', {});
    }
    const answers = await work(tx);
    await tx
      .updateTable('lintel_answer')
      .set({ answer: JSON.stringify(answers.map(keep)) })
      .where('tenant_id', '=', who.tenantId)
      .where('actor', '=', who.actor)
      .where('key', '=', who.key)
      .execute();
    return answers;
  });
}

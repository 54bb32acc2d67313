import { sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { KEYHOLDER } from '../../charter/index.js';
import { isActive } from '../held/index.js';
import type { Change } from './change.js';

/**
 * What holds after every change of a tenant, whatever it was: somebody has full control, who is a person that there is, is active, and whose control and
 * membership do not end by themselves.
 *
 * @throws LintelError `last-keyholder`.
 */
export async function insistOnKeyholder({ tx, tenantId, at, actor }: Change): Promise<void> {
  const left = await tx
    .selectFrom('lintel_assignment as a')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .select(sql`1`.as('one'))
    .where('a.tenant_id', '=', tenantId)
    .where('a.role', '=', KEYHOLDER)
    .where('a.anchor', '=', 'tenant')
    .where('a.until', 'is', null)
    .where('m.ends_at', 'is', null)
    .where('p.is_program', '=', false)
    .where(isActive('m', at.getTime()))
    .limit(1)
    .executeTakeFirst();
  if (left) return;
  throw new LintelError(
    'last-keyholder',
    `Somebody always holds full control of ${actor.facts.tenant.name}, for good. Hand it to another member first, without an end.`,
    {},
  );
}

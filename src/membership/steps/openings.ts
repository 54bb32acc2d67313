import type { Expression, ExpressionBuilder, SqlBool } from 'kysely';
import { LintelError, newId } from '../../base/index.js';
import type { Change, Handlers } from '../change/index.js';
import type { LintelTables } from '../terms/index.js';
import { holderColumns, insistOnHolder, readUntil, touchesHolder } from './holders.js';

/** Drops openings with what they keep; answers the groups whose records they opened. */
export async function dropOpenings(
  { tx, tenantId }: Change,
  which: (eb: ExpressionBuilder<LintelTables, 'lintel_opening'>) => Expression<SqlBool>,
): Promise<string[]> {
  const ids = tx.selectFrom('lintel_opening').select('id').where('tenant_id', '=', tenantId).where(which);
  await tx.deleteFrom('lintel_opening_kept').where('tenant_id', '=', tenantId).where('opening_id', 'in', ids).execute();
  const dropped = await tx.deleteFrom('lintel_opening').where('tenant_id', '=', tenantId).where('id', 'in', ids).returning('group_id').execute();
  return dropped.map((row) => row.group_id);
}

export const openingSteps: Handlers<'open-records' | 'close-records'> = {
  'open-records': {
    needs: () => 'member.assign',
    touches: ({ to }) => touchesHolder(to),
    run: async (change, { id = newId(), group, to, kind, actions, keeps, until }) => {
      const { charter } = change.setting;
      await insistOnHolder(change, { group });
      await insistOnHolder(change, to);
      if (charter.fieldWith(kind, 'owner') === undefined)
        throw new LintelError('no-owner', `${charter.kind(kind).many} have no owner, so that there is nothing of a group to open`, { kind });
      for (const action of actions) charter.permission(`${kind}.${action}`);
      if (actions.length === 0) throw new LintelError('nothing-to-open', 'say which actions are opened', {});
      const { user_id, group_id, unit_id } = holderColumns(to);
      await change.tx
        .insertInto('lintel_opening')
        .values({
          tenant_id: change.tenantId,
          id,
          group_id: group,
          to_user: user_id,
          to_group: group_id,
          to_unit: unit_id,
          kind,
          actions: JSON.stringify([...new Set(actions)]),
          keeps,
          until: readUntil(until, change),
        })
        .execute();
      return { what: 'records opened', event: { opening: id, group, to, kind, actions, keeps, ...(until && { until }) }, id };
    },
  },
  'close-records': {
    needs: () => 'member.assign',
    touches: () => ({}),
    run: async (change, { id }) => {
      const [group] = await dropOpenings(change, (eb) => eb('id', '=', id));
      if (group === undefined) throw new LintelError('not-found', 'There is no such opening.', {});
      return { what: 'records closed', event: { opening: id, group } };
    },
  },
};

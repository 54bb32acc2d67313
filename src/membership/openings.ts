import { randomUUID } from 'node:crypto';
import { LintelError } from '../base/index.js';
import type { Handlers } from './handler.js';
import { holderColumns, insistOnHolder, readUntil, touchesHolder } from './holders.js';

export const openingSteps: Handlers<'open-records' | 'close-records'> = {
  'open-records': {
    needs: () => 'member.assign',
    touches: ({ to }) => touchesHolder(to),
    run: async (change, { id = randomUUID(), group, to, kind, actions, keeps, until }) => {
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
    run: async ({ tx, tenantId }, { id }) => {
      await tx.deleteFrom('lintel_opening_kept').where('tenant_id', '=', tenantId).where('opening_id', '=', id).execute();
      const closed = await tx.deleteFrom('lintel_opening').where('tenant_id', '=', tenantId).where('id', '=', id).returning('group_id').executeTakeFirst();
      if (!closed) throw new LintelError('not-found', 'There is no such opening.', {});
      return { what: 'records closed', event: { opening: id, group: closed.group_id } };
    },
  },
};

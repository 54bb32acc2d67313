import { LintelError } from '../../base/index.js';
import type { Change, Handlers } from '../change/index.js';
import { insistOnHolder, readUntil } from './holders.js';

/** Days for which somebody can stand in for another at most. */
const MOST_DAYS = 366;

/** @throws LintelError `bad-deputy` for what is about no record that exists. */
function insistOnActions({ setting: { charter } }: Change, permissions: readonly string[]): void {
  if (permissions.length === 0) throw new LintelError('bad-deputy', 'say for which actions: with none, there is nothing to stand in for', {});
  for (const name of permissions) {
    const { kind, action } = charter.permission(name);
    if (kind === undefined || action === 'create')
      throw new LintelError('bad-deputy', `“${name}” is about no record that exists; a deputy does what is done with somebody’s records`, { permission: name });
  }
}

export const deputySteps: Handlers<'name-deputy' | 'end-deputy'> = {
  'name-deputy': {
    needs: ({ of }, { actor }) => (of === actor.userId ? 'deputy.name' : 'member.assign'),
    touches: ({ to }) => ({ users: [to] }),
    run: async (change, { of, to, permissions, since, until }) => {
      const { tx, tenantId, at } = change;
      insistOnActions(change, permissions);
      await insistOnHolder(change, { user: of });
      await insistOnHolder(change, { user: to });
      if (of === to) throw new LintelError('bad-deputy', 'Nobody stands in for themselves.', {});
      const from = readUntil(since, change) ?? at;
      const end = readUntil(until, change) as Date;
      if (end <= from || end.getTime() > at.getTime() + MOST_DAYS * 86_400_000)
        throw new LintelError('bad-end', `a deputy stands in until a moment after the first day, at most ${MOST_DAYS} days from now`, {});
      const row = { permissions: JSON.stringify([...new Set(permissions)]), since: from, until: end };
      await tx
        .insertInto('lintel_deputy')
        .values({ tenant_id: tenantId, of_id: of, to_id: to, ...row })
        .onConflict((c) => c.columns(['tenant_id', 'of_id', 'to_id']).doUpdateSet(row))
        .execute();
      return { what: 'deputy named', event: { of, user: to, permissions, since: from.toISOString(), until: end.toISOString() } };
    },
  },
  'end-deputy': {
    // Each of the two may end it.
    needs: ({ of, to }, { actor }) => (of === actor.userId || to === actor.userId ? undefined : 'member.assign'),
    touches: ({ to }) => ({ users: [to] }),
    run: async ({ tx, tenantId }, { of, to }) => {
      const ended = await tx.deleteFrom('lintel_deputy').where('tenant_id', '=', tenantId).where('of_id', '=', of).where('to_id', '=', to).executeTakeFirst();
      if (ended.numDeletedRows === 0n) throw new LintelError('not-found', 'These two have no deputy between them.', {});
      return { what: 'deputy ended', event: { of, user: to } };
    },
  },
};

import { sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { KEYHOLDER } from '../../charter/index.js';
import { type Assignment, aKeyholder } from '../../standing/index.js';
import type { Change, Handlers } from '../change/index.js';
import { identityMark, isLastingIn, PLATFORM_SOURCE } from '../terms/index.js';
import { insistOnHolder, keyholderEnds, readUntil, rolesHeld, rolesOnRecord } from './holders.js';
import { leaveRecords } from './leaving.js';
import { dropOpenings } from './openings.js';

/** Ends a membership with everything that hangs on it, the programs that the member answers for among it, so that nothing revives on return. Records stay owned. */
export async function endMembership(change: Change, userId: string): Promise<readonly Assignment[]> {
  const { tx, tenantId } = change;
  await insistOnHolder(change, { user: userId });
  const programs = await tx.selectFrom('lintel_member').select('user_id').where('tenant_id', '=', tenantId).where('responsible_id', '=', userId).execute();
  for (const { user_id } of programs) await endMembership(change, user_id);
  const before = await rolesHeld(change, { user: userId });
  await dropOpenings(change, (eb) => eb('to_user', '=', userId));
  await tx
    .deleteFrom('lintel_deputy')
    .where('tenant_id', '=', tenantId)
    .where((eb) => eb.or([eb('of_id', '=', userId), eb('to_id', '=', userId)]))
    .execute();
  await tx
    .updateTable('lintel_appeal')
    .set({ status: 'withdrawn', answered_at: change.at })
    .where('tenant_id', '=', tenantId)
    .where('user_id', '=', userId)
    .where('status', '=', 'open')
    .execute();
  for (const table of [
    'lintel_assignment',
    'lintel_placement',
    'lintel_group_member',
    'lintel_activation',
    'lintel_entered',
    'lintel_identity',
    'lintel_wrote',
    'lintel_member',
  ] as const) {
    await tx.deleteFrom(table).where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
  }
  await tx.deleteFrom('lintel_person_tenant').where('tenant_id', '=', tenantId).where('person_id', '=', userId).execute();
  await leaveRecords(change, userId);
  return before;
}

/** From now on no source brings them, and where they were removed nor does a provider as whom it knows: somebody lets them in again. */
async function endAndBar(change: Change, userId: string, removed: boolean): Promise<readonly Assignment[]> {
  const { tx, tenantId } = change;
  const { rows: identities } = await sql<{ by: string; subject: string }>`
    select connection_id as by, subject from lintel_identity where tenant_id = ${tenantId} and user_id = ${userId}
    union all select 'directory:' || program_id, coalesce(external_id, user_name) from lintel_directory_user where tenant_id = ${tenantId} and user_id = ${userId}`.execute(
    tx,
  );
  const before = await endMembership(change, userId);
  await tx.insertInto('lintel_bar').values({ tenant_id: tenantId, user_id: userId, removed }).execute();
  if (removed)
    for (const { by, subject } of identities) {
      const mark = await identityMark(tx, tenantId, by, subject);
      await tx.insertInto('lintel_identity_bar').values({ tenant_id: tenantId, mark, user_id: userId }).execute();
    }
  return before;
}

const isKeyholder = async (change: Change, user: string) => (await rolesHeld(change, { user })).some(({ role }) => role === KEYHOLDER);

/** @throws LintelError `beyond-power` where somebody else acts on a keyholder. */
async function insistOnPeer(change: Change, userId: string, what: string): Promise<void> {
  if (change.actor.isKeyholder) return;
  if (await isKeyholder(change, userId))
    throw new LintelError('beyond-power', `Only ${aKeyholder(change.actor.charter)} ${what} ${aKeyholder(change.actor.charter)}.`, {});
}

async function setMember(change: Change, userId: string, set: { status?: 'active' | 'suspended'; suspended_until?: Date | null; ends_at?: Date | null }) {
  await insistOnHolder(change, { user: userId });
  await change.tx.updateTable('lintel_member').set(set).where('tenant_id', '=', change.tenantId).where('user_id', '=', userId).execute();
}

export const memberSteps: Handlers<'suspend' | 'restore' | 'set-end' | 'remove' | 'leave'> = {
  suspend: {
    needs: () => 'member.suspend',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user, until }) => {
      await insistOnPeer(change, user, 'suspends');
      await setMember(change, user, { status: 'suspended', suspended_until: readUntil(until, change) });
      return { what: 'member suspended', event: { user, ...(until && { until }) } };
    },
  },
  restore: {
    needs: () => 'member.suspend',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user }) => {
      await insistOnPeer(change, user, 'brings back');
      await setMember(change, user, { status: 'active', suspended_until: null });
      // What a file or an intake once said of them does not count any more; what the platform says does, and what a source goes on saying.
      await sql`update lintel_member set inactive_by = array(select s from unnest(inactive_by) s where s = ${PLATFORM_SOURCE} or ${isLastingIn('s')})
        where tenant_id = ${change.tenantId} and user_id = ${user}`.execute(change.tx);
      return { what: 'member restored', event: { user } };
    },
  },
  'set-end': {
    needs: () => 'member.remove',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user, at }) => {
      await insistOnPeer(change, user, 'ends the membership of');
      if (user === change.actor.userId) throw new LintelError('own-power', 'Nobody sets the end of their own membership; leave, or ask another.', {});
      if (at !== null && (await isKeyholder(change, user))) throw keyholderEnds();
      await setMember(change, user, { ends_at: readUntil(at ?? undefined, change) });
      return { what: 'end of membership set', event: { user, at } };
    },
  },
  remove: {
    needs: ({ user }, { actor }) => (user === actor.userId ? undefined : 'member.remove'),
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user }) => {
      if (user === change.actor.userId) return memberSteps.leave.run(change, { do: 'leave' });
      await insistOnPeer(change, user, 'removes');
      const roles = await endAndBar(change, user, true);
      return { what: 'member removed', event: { user }, was: { before: rolesOnRecord(roles) } };
    },
  },
  leave: {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change) => {
      const user = change.actor.userId as string;
      const before = await endAndBar(change, user, false);
      return { what: 'member left', event: { user }, was: { before: rolesOnRecord(before) } };
    },
  },
};

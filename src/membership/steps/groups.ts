import { sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Change, Handlers } from '../change/index.js';
import { idOfOwn, isLastingIn, namedIn, readName } from '../terms/index.js';
import { insistOnHolder } from './holders.js';
import { dropOpenings } from './openings.js';

/** @throws LintelError `not-found` for somebody who is no member. */
export async function insistOnMembers({ tx, tenantId }: Change, people: readonly string[]): Promise<void> {
  if (people.length === 0) return;
  const { rows } = await sql`select 1 from unnest(${[...people]}::text[]) p where not exists (
    select 1 from lintel_member m where m.tenant_id = ${tenantId} and m.user_id = p) limit 1`.execute(tx);
  if (rows.length > 0) throw new LintelError('not-found', 'One of these people is no member.', {});
}

export async function peopleOf({ tx, tenantId }: Change, group: string): Promise<string[]> {
  const rows = await tx
    .selectFrom('lintel_group_member')
    .select('user_id')
    .distinct()
    .where('tenant_id', '=', tenantId)
    .where('group_id', '=', group)
    .orderBy('user_id')
    .execute();
  return rows.map((row) => row.user_id);
}

async function setPeople(change: Change, group: string, people: readonly string[]): Promise<void> {
  const { tx, tenantId } = change;
  await insistOnMembers(change, people);
  const { rows } = await sql<{
    tenant_id: string;
    group_id: string;
    user_id: string;
  }>`delete from lintel_group_member where tenant_id = ${tenantId} and group_id = ${group}
    and not user_id = any(${[...people]}::text[]) and not ${isLastingIn('source')} returning tenant_id, group_id, user_id`.execute(tx);
  await keepOpenIn(tx, rows);
  await sql`insert into lintel_group_member (tenant_id, group_id, user_id) select distinct ${tenantId}, ${group}, p from unnest(${[...people]}::text[]) p
    where not exists (select from lintel_group_member m where m.tenant_id = ${tenantId} and m.group_id = ${group} and m.user_id = p)`.execute(tx);
}

/** @throws LintelError `in-rules` for what a connection gives: nobody who arrives is to find that it is gone. */
export async function insistOnNoRule({ tx, tenantId }: Change, what: 'roles' | 'groups', id: string): Promise<void> {
  const all = await tx.selectFrom('lintel_connection').select(['name', 'rules']).where('tenant_id', '=', tenantId).execute();
  const gives = all.find(({ rules }) => namedIn(rules)[what].has(id));
  if (gives) throw new LintelError('in-rules', `People who come in by “${gives.name}” get it. Take it out of its rules first.`, {});
}

/** What those own who have left a group stays open where an opening says so, unless they are in it by another way still. */
export async function keepOpenIn(
  tx: Change['tx'],
  left: readonly { readonly tenant_id: string; readonly group_id: string; readonly user_id: string }[],
): Promise<void> {
  if (left.length === 0) return;
  const each = (column: 'tenant_id' | 'group_id' | 'user_id') => left.map((one) => one[column]);
  await sql`insert into lintel_opening_kept (tenant_id, opening_id, user_id) select o.tenant_id, o.id, l.user_id
    from unnest(${each('tenant_id')}::text[], ${each('group_id')}::text[], ${each('user_id')}::text[]) l (tenant_id, group_id, user_id)
    join lintel_opening o using (tenant_id, group_id) where o.keeps
      and not exists (select from lintel_group_member m where (m.tenant_id, m.group_id, m.user_id) = (l.tenant_id, l.group_id, l.user_id)) on conflict do nothing`.execute(
    tx,
  );
}

export const groupSteps: Handlers<'make-group' | 'rename-group' | 'set-group' | 'drop-group'> = {
  'make-group': {
    needs: () => 'group.arrange',
    touches: ({ people }) => ({ users: people ?? [] }),
    run: async (change, { id: given, name, people = [] }) => {
      const id = idOfOwn(change, 'group', given);
      const named = readName(name, 'a group');
      const made = await change.tx
        .insertInto('lintel_group')
        .values({ tenant_id: change.tenantId, id, name: named })
        .onConflict((c) => c.doNothing())
        .returning('id')
        .executeTakeFirst();
      if (!made) throw new LintelError('group-exists', `there is a group "${id}" already; choose another id`, {});
      await setPeople(change, id, people);
      return { what: 'group made', event: { group: id, people }, words: { name: named }, id };
    },
  },
  'rename-group': {
    needs: () => 'group.arrange',
    touches: () => ({}),
    run: async (change, { id, name }) => {
      await insistOnHolder(change, { group: id });
      const named = readName(name, 'a group');
      await change.tx.updateTable('lintel_group').set({ name: named }).where('tenant_id', '=', change.tenantId).where('id', '=', id).execute();
      return { what: 'group renamed', event: { group: id }, words: { name: named } };
    },
  },
  'set-group': {
    needs: () => 'group.arrange',
    // An opening to others of what this group owns is wider for them.
    // guard group-people-compared by attack: Whoever arranges groups could put people where they gain what the giver may not give.
    touches: ({ id, people }) => /* guard group-people-compared */ ({ groups: [id], users: people, opened: [id] }),
    run: async (change, { id, people }) => {
      await insistOnHolder(change, { group: id });
      const before = await peopleOf(change, id);
      await setPeople(change, id, people);
      return { what: 'group changed', event: { group: id, after: [...people] }, was: { before } };
    },
  },
  'drop-group': {
    needs: () => 'group.arrange',
    touches: ({ id }) => ({ groups: [id] }),
    run: async (change, { id }) => {
      const { tx, tenantId } = change;
      await insistOnHolder(change, { group: id });
      await insistOnNoRule(change, 'groups', id);
      const people = await peopleOf(change, id);
      await dropOpenings(change, (eb) => eb.or([eb('group_id', '=', id), eb('to_group', '=', id)]));
      await tx.deleteFrom('lintel_assignment').where('tenant_id', '=', tenantId).where('group_id', '=', id).execute();
      await tx.deleteFrom('lintel_group_member').where('tenant_id', '=', tenantId).where('group_id', '=', id).execute();
      await tx.deleteFrom('lintel_group').where('tenant_id', '=', tenantId).where('id', '=', id).execute();
      return { what: 'group dropped', event: { group: id }, was: { people } };
    },
  },
};

import { sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Change, Handlers } from '../change/index.js';
import { existing } from '../held/index.js';
import { idOfOwn, isLastingIn, readName } from '../terms/index.js';
import { insistOnHolder } from './holders.js';

async function unitsAbove({ tx, tenantId }: Change, unit: string): Promise<string[]> {
  const rows = await tx.selectFrom('lintel_unit_below').select('above_id').where('tenant_id', '=', tenantId).where('below_id', '=', unit).execute();
  if (rows.length === 0) throw new LintelError('no-such-unit', 'There is no such unit.', { unitId: unit });
  return rows.map((row) => row.above_id);
}

export const unitSteps: Handlers<'add-unit' | 'rename-unit' | 'move-unit' | 'place'> = {
  'add-unit': {
    needs: () => 'unit.arrange',
    touches: () => ({}),
    run: async (change, { id: given, name, below }) => {
      const { tx, tenantId } = change;
      const id = idOfOwn(change, 'unit', given);
      const named = readName(name, 'a unit');
      const above = below === undefined ? [] : await unitsAbove(change, below);
      const made = await tx
        .insertInto('lintel_unit')
        .values({ tenant_id: tenantId, id, name: named, parent_id: below ?? null })
        .onConflict((c) => c.doNothing())
        .returning('id')
        .executeTakeFirst();
      if (!made) throw new LintelError('unit-exists', `there is a unit "${id}" already; choose another id`, {});
      await tx
        .insertInto('lintel_unit_below')
        .values([id, ...above].map((above_id) => ({ tenant_id: tenantId, above_id, below_id: id })))
        .execute();
      return { what: 'unit added', event: { unit: id, below: below ?? null }, words: { name: named }, id };
    },
  },
  'rename-unit': {
    needs: () => 'unit.arrange',
    touches: () => ({}),
    run: async (change, { id, name }) => {
      await insistOnHolder(change, { unit: id });
      const named = readName(name, 'a unit');
      await change.tx.updateTable('lintel_unit').set({ name: named }).where('tenant_id', '=', change.tenantId).where('id', '=', id).execute();
      return { what: 'unit renamed', event: { unit: id }, words: { name: named } };
    },
  },
  'move-unit': {
    needs: () => 'unit.arrange',
    // Who is placed in it comes under what is held above; and what is held above comes to extend to it.
    // guard moved-unit-compared by attack: A moved unit could bring people under what the mover may not give.
    touches: ({ id, below }) => /* guard moved-unit-compared */ ({ units: [id], above: below === null ? [] : [below] }),
    run: async (change, { id, below }) => {
      const { tx, tenantId } = change;
      await unitsAbove(change, id);
      const above = below === null ? [] : await unitsAbove(change, below);
      if (above.includes(id)) throw new LintelError('unit-circle', 'A unit cannot be moved below itself.', { unitId: id });
      const before = await tx.selectFrom('lintel_unit').select('parent_id').where('tenant_id', '=', tenantId).where('id', '=', id).executeTakeFirstOrThrow();
      await sql`delete from lintel_unit_below b using lintel_unit_below inside where b.tenant_id = ${tenantId} and inside.tenant_id = ${tenantId} and inside.above_id = ${id}
        and b.below_id = inside.below_id and b.above_id not in (select i.below_id from lintel_unit_below i where i.tenant_id = ${tenantId} and i.above_id = ${id})`.execute(
        tx,
      );
      await sql`insert into lintel_unit_below (tenant_id, above_id, below_id)
        select ${tenantId}, a.id, i.below_id from unnest(${above}::text[]) as a (id), lintel_unit_below i where i.tenant_id = ${tenantId} and i.above_id = ${id}`.execute(
        tx,
      );
      await tx.updateTable('lintel_unit').set({ parent_id: below }).where('tenant_id', '=', tenantId).where('id', '=', id).execute();
      return { what: 'unit moved', event: { unit: id, after: below }, was: { before: before.parent_id } };
    },
  },
  place: {
    needs: () => 'unit.arrange',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user, units }) => {
      const { tx, tenantId, at } = change;
      await insistOnHolder(change, { user });
      const before = await tx
        .selectFrom('lintel_placement')
        .select('unit_id')
        .distinct()
        .where('tenant_id', '=', tenantId)
        .where('user_id', '=', user)
        .execute();
      const wanted = [...new Set(units)];
      const known = await existing(tx, tenantId, 'unit', wanted, at.getTime());
      if (known.length !== wanted.length) throw new LintelError('no-such-unit', 'One of the units does not exist.', { unitIds: units });
      await sql`delete from lintel_placement where tenant_id = ${tenantId} and user_id = ${user} and not unit_id = any(${wanted}::text[])
        and not ${isLastingIn('source')}`.execute(tx);
      const fresh = wanted.filter((id) => !before.some(({ unit_id }) => unit_id === id));
      if (fresh.length > 0)
        await tx
          .insertInto('lintel_placement')
          .values(fresh.map((unit_id) => ({ tenant_id: tenantId, user_id: user, unit_id })))
          .execute();
      return { what: 'member placed', event: { user, after: wanted }, was: { before: before.map((row) => row.unit_id) } };
    },
  },
};

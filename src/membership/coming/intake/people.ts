import { type Kysely, sql, type Transaction } from 'kysely';
import type { Address, LintelTables } from '../../terms/index.js';
import { insertMany, insistOnId, readAddress, readName } from '../../terms/index.js';
import { compared, markOf, refuse, type Taking } from './taking.js';
import type { IntakePerson } from './terms.js';

export async function takePeople(taking: Taking, tx: Transaction<LintelTables>, part: readonly IntakePerson[]): Promise<void> {
  const read = (one: IntakePerson) => ({
    id: insistOnId(taking.charter, 'person', one.id),
    name: readName(one.name, 'a person'),
    address: readAddress(one.address),
    confirmed_at: one.confirmedAt ?? null,
  });
  const ready = taking.read(
    'person',
    part,
    ({ id }) => ({ id }),
    read,
    ({ id }) => id,
  );
  const ids = ready.map(({ id }) => id);
  const { rows: there } = await sql<{ id: string; name: string; address: string; address_written: string; is_program: boolean; kept_by: string | null }>`
    select id, name, address, address_written, is_program, kept_by from lintel_person where id = any(${ids}::text[]) or address = any(${ready.map(({ address }) => address.normal)}::text[])`.execute(
    tx,
  );
  const { rows: erased } = await sql<{ person_id: string }>`select person_id from lintel_erased where person_id = any(${ids}::text[])`.execute(tx);
  const [byId, byAddress] = [new Map(there.map((row) => [row.id, row])), new Map(there.map((row) => [row.address, row.id]))];
  const [gone, marks] = [new Set(erased.map((row) => row.person_id)), await taking.marks(tx, 'person', ids)];
  const personMark = (name: string, written: string) => markOf([name, written]);
  const made: (typeof ready)[number][] = [];
  const marked: { id: string; mark: string }[] = [];
  for (const one of ready) {
    try {
      const held = byId.get(one.id);
      const [owner, mark, last] = [byAddress.get(one.address.normal), personMark(one.name, one.address.written), marks.get(one.id)];
      if (gone.has(one.id)) refuse('id-used', 'was the id of somebody who was erased');
      if (owner !== undefined && owner !== one.id) refuse('address-taken', `somebody else has the address ${one.address.written}`);
      if (held?.is_program) refuse('person-exists', 'is the id of a program');
      if (held && held.kept_by !== null) refuse('kept-account', 'is the id of an account that an organisation keeps');
      byAddress.set(one.address.normal, one.id);
      const is = held && personMark(held.name, held.address_written);
      const { outcome, isSaid } = compared(mark, last, is);
      if (outcome === 'brought') made.push(one);
      if (outcome === 'changed') await changePerson(taking, tx, held as Held, one);
      taking.count('person', outcome);
      if (isSaid) marked.push({ id: one.id, mark });
    } catch (error) {
      taking.refuseFor('person', one, error);
    }
  }
  await insertMany(
    tx,
    'lintel_person',
    made.map(({ id, name, address, confirmed_at }) => ({
      id,
      name,
      address: address.normal,
      address_written: address.written,
      confirmed_at,
      is_program: false,
    })),
  );
  await taking.mark(tx, 'person', marked);
}

/** Somebody as they are here. */
interface Held {
  readonly name: string;
  readonly address: string;
}

async function changePerson(
  taking: Taking,
  tx: Kysely<LintelTables>,
  held: Held,
  { id, name, address, confirmed_at }: { readonly id: string; readonly name: string; readonly address: Address; readonly confirmed_at: Date | null },
): Promise<void> {
  const moved = held.address !== address.normal;
  if (moved)
    await tx
      .insertInto('lintel_address_held')
      .values({ person_id: id, address: held.address, until: new Date(taking.setting.now()) })
      .execute();
  const set = { name, address_written: address.written, ...(moved && { address: address.normal, confirmed_at }) };
  await tx.updateTable('lintel_person').set(set).where('id', '=', id).where('name', '=', held.name).where('address', '=', held.address).execute();
}

import { randomUUID } from 'node:crypto';
import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import { readAddress, readName } from './address.js';
import type { LintelTables } from './tables.js';

export interface NewPerson {
  /** The application's own id of the person; by default a uuid. */
  readonly id?: string;
  readonly name: string;
  readonly address: string;
  /** When the address was proven to be theirs; absent if it was not yet. */
  readonly confirmedAt?: Date;
}

/**
 * Takes a person in, with an address that nobody else has.
 *
 * @throws LintelError `bad-name`, `bad-address`, `look-alike-address`, `address-taken`.
 */
export async function addPerson(db: Kysely<LintelTables>, input: NewPerson): Promise<string> {
  const address = readAddress(input.address);
  const row = {
    id: input.id ?? randomUUID(),
    name: readName(input.name, 'an account'),
    address: address.normal,
    address_written: address.written,
    confirmed_at: input.confirmedAt ?? null,
  };
  const made = await db
    .insertInto('lintel_person')
    .values(row)
    .onConflict((c) => c.doNothing())
    .returning('id')
    .executeTakeFirst();
  if (!made) throw new LintelError('address-taken', `There is an account for ${address.written} already. Sign in with it.`, {});
  return row.id;
}

/** The person who has an address, if anybody has. @throws LintelError `bad-address`. */
export async function personByAddress(
  db: Kysely<LintelTables>,
  address: string,
): Promise<{ readonly id: string; readonly name: string; readonly confirmedAt: Date | null } | undefined> {
  const row = await db.selectFrom('lintel_person').selectAll().where('address', '=', readAddress(address).normal).executeTakeFirst();
  return row && { id: row.id, name: row.name, confirmedAt: row.confirmed_at };
}

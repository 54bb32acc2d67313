import type { Kysely, Transaction } from 'kysely';
import { inTransaction, LintelError } from '../../base/index.js';
import { tell } from '../record/index.js';
import {
  howHanded,
  type Id,
  idOfPerson,
  type LintelTables,
  lockPerson,
  maskAddress,
  newToken,
  readAddress,
  readName,
  type Setting,
  splitToken,
  WITHOUT_ADDRESS,
} from '../terms/index.js';

/** Somebody to be made. */
export interface NewPerson {
  /** The application's own id of the person. Default: what its `newPerson` answers, or a uuid. */
  readonly id?: Id;
  readonly name: string;
  readonly address: string;
  /** When the address was proven to be theirs; absent if it was not yet. */
  readonly confirmedAt?: Date;
}

/**
 * Takes a person in, with an address that nobody else has.
 *
 * @throws LintelError `bad-name`, `bad-address`, `look-alike-address`, `address-taken`; `bad-id`, `person-exists`, `option-missing` for an id.
 */
export async function addPerson(setting: Setting, input: NewPerson): Promise<string> {
  const address = readAddress(input.address);
  const name = readName(input.name, 'an account');
  const taken = () => new LintelError('address-taken', `There is an account for ${address.written} already. Sign in with it.`, {});
  return inTransaction(setting.db, async (tx) => {
    // Before the application makes anybody.
    if (await personByAddress(tx, address.written)) throw taken();
    const id = await idOfPerson(tx, setting, input.id, { name, address: address.written, isProgram: false });
    const row = { id, name, address: address.normal, address_written: address.written, confirmed_at: input.confirmedAt ?? null };
    const made = await tx
      .insertInto('lintel_person')
      .values(row)
      .onConflict((c) => c.doNothing())
      .returning('id')
      .executeTakeFirst();
    if (made) return id;
    if (await personByAddress(tx, address.written)) throw taken();
    throw new LintelError('person-exists', `There is a person with the id "${id}" already; each has an id of their own.`, { id });
  });
}

/** The person who has an address, if anybody has. @throws LintelError `bad-address`. */
export async function personByAddress(
  db: Kysely<LintelTables>,
  address: string,
): Promise<{ readonly id: string; readonly name: string; readonly confirmedAt: Date | null } | undefined> {
  const row = await db.selectFrom('lintel_person').selectAll().where('address', '=', readAddress(address).normal).executeTakeFirst();
  return row && { id: row.id, name: row.name, confirmedAt: row.confirmed_at };
}

/** People look after their own name. @throws LintelError `bad-name`, `no-account`. */
export async function renamePerson(db: Kysely<LintelTables>, userId: string, raw: string): Promise<void> {
  const name = readName(raw, 'an account');
  const { numUpdatedRows } = await db.updateTable('lintel_person').set({ name }).where('id', '=', userId).executeTakeFirst();
  if (numUpdatedRows === 0n) throw new LintelError('no-account', 'There is no such account.', {});
}

/** Somebody has chosen a new password: whoever asked for it has been answered. */
export async function passwordChosen(db: Kysely<LintelTables>, userId: string): Promise<void> {
  await db.updateTable('lintel_member').set({ asked_password: false }).where('user_id', '=', userId).where('asked_password', '=', true).execute();
}

const PROOF_HOURS = 24;
const proofInvalid = () => new LintelError('link-invalid', 'This link does not count any more. Ask for the change again.', {});

/**
 * Somebody wants another address. It counts once it is proven, by a link that goes there; until then nothing changes. Whether somebody has that address
 * already is not told here.
 *
 * @returns `token` only without a mailer: the secret of the link.
 * @throws LintelError `no-account`, `bad-address`, `look-alike-address`.
 */
export async function changeAddress(setting: Setting, userId: string, raw: string): Promise<{ readonly token?: string }> {
  const { normal, written } = readAddress(raw);
  return inTransaction(setting.db, async (tx) => {
    const at = new Date(setting.now());
    const person = await lockPerson(tx, userId);
    if (!person) throw new LintelError('no-account', 'There is no such account.', {});
    // guard kept-account-keeps-address by accounts: An account kept by a tenant could take an address of its own.
    if (person.kept_by !== null) throw new LintelError('kept-account', 'The organisation that keeps this account says its address.', {});
    const secret = setting.hasMailer ? undefined : newToken('person', userId, 'shown');
    const row = { address: normal, address_written: written, secret_hash: secret?.hash ?? null, expires_at: new Date(at.getTime() + PROOF_HOURS * 3_600_000) };
    await tx
      .insertInto('lintel_address_proof')
      .values({ person_id: userId, ...row })
      .onConflict((c) => c.column('person_id').doUpdateSet(row))
      .execute();
    await tell({ tx, at, setting }, userId, [written], 'prove-address', { name: person.name, person: userId });
    return secret ? { token: secret.token } : {};
  });
}

/** Makes the secret of a link when it is sent, so that none lies in the outbox; undefined where nothing waits to be proven any more. */
export async function proofToken(db: Kysely<LintelTables>, userId: string, address: string): Promise<string | undefined> {
  const { token, hash } = newToken('person', userId, 'mailed');
  const { numUpdatedRows } = await db
    .updateTable('lintel_address_proof')
    .set({ secret_hash: hash })
    .where('person_id', '=', userId)
    .where('address_written', '=', address)
    .executeTakeFirst();
  return numUpdatedRows > 0n ? token : undefined;
}

/**
 * The link that went to a new address was followed and confirmed by whoever asked for it: from now on it is the person's. The address before is told. A link that was shown and
 * not mailed proves nothing: the address counts, and is not confirmed.
 *
 * @param userId who is signed in. Somebody else who has the link, since the address is theirs, gives it to nobody by following it.
 * @throws LintelError `link-invalid`, `address-taken`.
 */
export async function proveAddress(setting: Setting, userId: string, token: string): Promise<{ readonly userId: string }> {
  const parts = splitToken(token);
  if (parts?.[0] !== 'person' || parts[1] !== userId) throw proofInvalid();
  const secret = parts[2] as string;
  return inTransaction(setting.db, async (tx) => {
    const at = new Date(setting.now());
    const before = await lockPerson(tx, userId);
    const proof = await tx.selectFrom('lintel_address_proof').selectAll().where('person_id', '=', userId).executeTakeFirst();
    const how = howHanded(secret, proof?.secret_hash ?? null);
    if (!how || !proof || !before || proof.expires_at <= at) throw proofInvalid();
    const taken = await tx.selectFrom('lintel_person').select('id').where('address', '=', proof.address).where('id', '<>', userId).executeTakeFirst();
    if (taken) throw new LintelError('address-taken', `There is an account for ${proof.address_written} already.`, {});
    const { address, address_written } = proof;
    await leaveAddress(tx, userId, before.address, { address, address_written, confirmed_at: how === 'mailed' ? at : null }, at);
    await tell({ tx, at, setting }, userId, [before.address_written], 'address-changed', { name: before.name, address: maskAddress(address_written) });
    return { userId };
  });
}

async function leaveAddress(
  tx: Transaction<LintelTables>,
  userId: string,
  before: string,
  set: { readonly address: string; readonly address_written: string; readonly confirmed_at: Date | null },
  at: Date,
): Promise<void> {
  await tx.insertInto('lintel_address_held').values({ person_id: userId, address: before, until: at }).execute();
  await tx.updateTable('lintel_person').set(set).where('id', '=', userId).execute();
  await tx.deleteFrom('lintel_address_proof').where('person_id', '=', userId).execute();
}

/**
 * Takes an address from an account that never proved it, for whoever did. All else stays the account's, which nobody can sign in to by that address any more.
 *
 * @throws LintelError `address-taken` where it is proven.
 */
export async function giveUpAddress(setting: Setting, address: string): Promise<void> {
  await inTransaction(setting.db, async (tx) => {
    const found = await personByAddress(tx, address);
    const person = found && (await lockPerson(tx, found.id));
    if (!found || !person) return;
    if (found.confirmedAt) throw new LintelError('address-taken', `There is an account for ${address} already. Sign in with it to accept.`, {});
    const none = `${WITHOUT_ADDRESS}${found.id}`;
    await leaveAddress(tx, found.id, person.address, { address: none, address_written: none, confirmed_at: null }, new Date(setting.now()));
  });
}

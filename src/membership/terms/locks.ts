import { type Selectable, sql, type Transaction } from 'kysely';
import type { LintelTables } from './tables.js';

/*
 * What is locked, and in what order: tenants first, all that a change needs at once and by id; then people; then what belongs to them. Whoever keeps to it never waits for
 * somebody who waits for them.
 */

/**
 * Locks tenants until the transaction ends. Again within it, nothing is waited for. Answers those that are there, as they are from then on. Records of the application that refer to a
 * tenant are written meanwhile: nothing here changes a tenant's id.
 */
export async function lockTenants(tx: Transaction<LintelTables>, ids: readonly string[]): Promise<readonly Selectable<LintelTables['lintel_tenant']>[]> {
  const { rows } = await sql<
    Selectable<LintelTables['lintel_tenant']>
  >`select * from lintel_tenant where id = any(${[...new Set(ids)]}::text[]) order by id for no key update`.execute(tx);
  return rows;
}

/** Holds a person until the transaction ends: nobody erases them meanwhile. Undefined where there is none. */
export function holdPerson(
  tx: Transaction<LintelTables>,
  id: string,
): Promise<{ readonly is_program: boolean; readonly deactivated_at: Date | null; readonly kept_by: string | null } | undefined> {
  return tx.selectFrom('lintel_person').select(['is_program', 'deactivated_at', 'kept_by']).where('id', '=', id).forKeyShare().executeTakeFirst();
}

/** Locks a person until the transaction ends: from then on they come into nothing, and nothing of theirs is changed. Undefined where there is none. */
export function lockPerson(
  tx: Transaction<LintelTables>,
  id: string,
): Promise<{ readonly name: string; readonly address: string; readonly address_written: string; readonly kept_by: string | null } | undefined> {
  return tx.selectFrom('lintel_person').select(['name', 'address', 'address_written', 'kept_by']).where('id', '=', id).forUpdate().executeTakeFirst();
}

import type { Kysely } from 'kysely';
import { type Proposed, proposeCharter } from './proposal.js';
import { readSchema, rowsOf } from './schema.js';
import { type Reading, recognise, type Said } from './tables.js';

/** What was found in an application's database, and the charter that it makes. */
export interface Begun extends Proposed {
  readonly reading: Reading;
}

/**
 * Reads the tables of an application (PostgreSQL, PGlite, SQLite) and proposes what the charter would say of them: by foreign keys first, by what the rows show then, by names last. It
 * writes nothing, and says what it could not tell.
 */
export async function begin(db: Kysely<any>, said: Said & { readonly keepsPeople?: boolean } = {}): Promise<Begun> {
  const reading = await recognise(await readSchema(db), rowsOf(db), said);
  return { reading, ...proposeCharter(reading, said) };
}

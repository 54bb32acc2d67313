import { type Kysely, SqliteAdapter } from 'kysely';
import type { Shapes } from '../predicate/index.js';
import { SqliteWriter } from './sqlite.js';
import { SqlWriter } from './writer.js';

/** The writer of what a database understands. The one place where it is asked which database it is. */
export function writerFor(db: Kysely<any>, shapes: Shapes): SqlWriter {
  return db.getExecutor().adapter instanceof SqliteAdapter ? new SqliteWriter(shapes) : new SqlWriter(shapes);
}

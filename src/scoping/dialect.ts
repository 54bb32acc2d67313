import { type Kysely, SqliteAdapter } from 'kysely';
import type { Shapes } from '../predicate/index.js';
import { MariaDbWriter } from './mariadb.js';
import { SqliteWriter } from './sqlite.js';
import { isMariaDb } from './tongue.js';
import { SqlWriter } from './writer.js';

/** The writer of what a database understands. */
export function writerFor(db: Kysely<any>, shapes: Shapes): SqlWriter {
  const { adapter } = db.getExecutor();
  if (isMariaDb(adapter)) return new MariaDbWriter(shapes);
  return adapter instanceof SqliteAdapter ? new SqliteWriter(shapes) : new SqlWriter(shapes);
}

import { type CompiledQuery, type DialectAdapter, MysqlAdapter } from 'kysely';
import { LintelError } from '../base/index.js';

/** True for a database of the MySQL family. */
export const isMariaDb = (adapter: DialectAdapter): boolean => adapter instanceof MysqlAdapter;

/** A text, or a name in either sort of quotes. */
const QUOTED = /'(?:[^']|'')*'|"(?:[^"]|"")*"|`(?:[^`]|``)*`/g;

function requoted(part: string): string {
  // The driver puts the next value wherever it sees one.
  if (part.includes('?')) throw new LintelError('scope-refused', `a name with a question mark, ${part}, cannot be asked for in MariaDB; choose another`, {});
  if (part.startsWith('"')) return `\`${part.slice(1, -1).replaceAll('""', '"').replaceAll('`', '``')}\``;
  return part.startsWith("'") ? part.replaceAll('\\', '\\\\') : part;
}

/** What the driver of MariaDB writes into a statement as one value: of an object or a list it makes several, and names. */
function insistOnPlain(value: unknown): void {
  const isPlain =
    value === null || ['string', 'boolean', 'bigint'].includes(typeof value) || Number.isFinite(value) || value instanceof Date || Buffer.isBuffer(value);
  if (!isPlain)
    throw new LintelError(
      'bad-value',
      `a value that is ${Array.isArray(value) ? 'a list' : `of the type ${typeof value}`} cannot be asked for; give one that is plain`,
      {},
    );
}

/** Standard SQL as MariaDB reads it: names in its own quotes, a backslash as itself. */
export const spelledForMariaDb = (sql: string): string => sql.replace(QUOTED, requoted);

/**
 * A compiled statement as its database reads it: ours are in standard SQL, with names in double quotes. Of MariaDB, whose driver writes values into the text itself, only plain ones
 * go on.
 *
 * @throws LintelError `bad-value`, `scope-refused`.
 */
export function inTongue<R>(adapter: DialectAdapter, compiled: CompiledQuery<R>): CompiledQuery<R> {
  if (!isMariaDb(adapter)) return compiled;
  for (const value of compiled.parameters) insistOnPlain(value);
  return { ...compiled, sql: spelledForMariaDb(compiled.sql) };
}

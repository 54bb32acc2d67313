import { LintelError } from '../../base/index.js';
import type { FieldData } from '../../charter/index.js';
import { readValue } from '../../predicate/index.js';
import type { Target } from './target.js';

/**
 * A plain value as its field holds it: of the field's type, since what a database would make of another is not ours to find out, and an id in its one spelling.
 *
 * @throws LintelError `bad-value`.
 */
export function fitting(target: Target, field: string, value: unknown): unknown {
  if (value === null) return null;
  const { role, type, options, scale } = target.fields[field] as FieldData;
  const read = readValue(type, target.boundary.writer.readCell(value, target.shapeOf(field)), scale);
  const takes = read === undefined ? `takes ${type}` : options && !options.includes(String(read)) ? `is one of ${options.join(', ')}` : undefined;
  const quoted = typeof value === 'string' ? JSON.stringify(value).slice(0, 40) : String(value);
  if (takes !== undefined) throw new LintelError('bad-value', `${field} of a ${target.kind} ${takes}, not ${quoted}; nothing was written`, { field });
  // guard written-id-read by agree: An id would be written as it came.
  return target.boundary.writer.cell(role !== 'plain' || type === 'uuid' ? /* guard written-id-read */ read : value, target.shapeOf(field));
}

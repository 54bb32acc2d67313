import { LintelError } from '../../base/index.js';

/** A value of a statement, as it goes to the driver. */
export type Value = string | number | bigint | boolean | Date | null;

/**
 * Copies a value that somebody hands over, so that what is checked is what is sent.
 *
 * @throws LintelError `bad-value` for what is no text, number, yes or no, date or null: what a driver makes of an object is not ours to find out.
 */
export function copyValue(value: unknown): Value {
  if (value === null || typeof value === 'string' || typeof value === 'number' || typeof value === 'bigint' || typeof value === 'boolean') return value;
  if (value instanceof Date) return new Date(Date.prototype.getTime.call(value));
  const what = Array.isArray(value) ? 'a list' : value === undefined ? 'undefined' : `an ${typeof value}`;
  throw new LintelError('bad-value', `scope takes text, numbers, yes or no, dates and null as values, not ${what}`, {});
}

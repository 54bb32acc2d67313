/** The types of value that a predicate may compare. Whatever is not here cannot be compared. */
export const VALUE_TYPES = ['uuid', 'text', 'integer', 'boolean', 'decimal', 'instant'] as const;
export type ValueType = (typeof VALUE_TYPES)[number];

/**
 * A value in its one normal form: uuid in lower case, instant as ISO 8601 in UTC with milliseconds, decimal as a string
 * with exactly its declared number of places, integer as a number within 53 bits.
 */
export type Scalar = string | number | boolean;

const UUID = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/;
const DECIMAL = /^-?(0|[1-9]\d{0,17})(\.\d{1,18})?$/;
const INSTANT = /^\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d(:?\d\d)?)$/;
// NUL and lone surrogates cannot be stored by every database, so they can equal nothing.
const UNSTORABLE = /[\0\p{Cs}]/u;
const LAST_INSTANT = Date.UTC(2038, 0, 1);

function readInstant(raw: unknown): string | undefined {
  if (typeof raw === 'string' && !INSTANT.test(raw)) return undefined;
  if (typeof raw !== 'string' && !(raw instanceof Date)) return undefined;
  const at = new Date(raw);
  const ms = at.getTime();
  return ms >= 0 && ms < LAST_INSTANT ? at.toISOString() : undefined;
}

function readDecimal(raw: unknown, scale: number): string | undefined {
  const text = typeof raw === 'number' || typeof raw === 'bigint' ? String(raw) : raw;
  if (typeof text !== 'string' || !DECIMAL.test(text)) return undefined;
  const [whole = '0', places = ''] = text.split('.');
  if (places.length > scale && /[1-9]/.test(places.slice(scale))) return undefined;
  const fixed = scale === 0 ? whole : `${whole}.${places.slice(0, scale).padEnd(scale, '0')}`;
  return /^-[0.]+$/.test(fixed) ? fixed.slice(1) : fixed;
}

function readInteger(raw: unknown): number | undefined {
  const value = typeof raw === 'bigint' || (typeof raw === 'string' && /^(0|-?[1-9]\d{0,15})$/.test(raw)) ? Number(raw) : raw;
  return Number.isSafeInteger(value) ? (value as number) + 0 : undefined;
}

/**
 * Brings a value into the normal form of its type, or answers undefined when it is of another type: a number is never
 * compared with a text, whatever a database would make of that.
 */
export function readValue(type: ValueType, raw: unknown, scale = 0): Scalar | undefined {
  switch (type) {
    case 'uuid': {
      const text = typeof raw === 'string' ? raw.toLowerCase() : '';
      return UUID.test(text) ? text : undefined;
    }
    case 'text':
      return typeof raw === 'string' && !UNSTORABLE.test(raw) ? raw : undefined;
    case 'boolean':
      return typeof raw === 'boolean' ? raw : undefined;
    case 'integer':
      return readInteger(raw);
    case 'decimal':
      return readDecimal(raw, scale);
    case 'instant':
      return readInstant(raw);
  }
}

/** Those of several values that are of a type, each in its normal form. */
export const readEach = (type: ValueType, all: readonly unknown[]): Scalar[] => all.flatMap((one) => readValue(type, one) ?? []);

/** UTF-16 sorts surrogates before U+E000; code points, and databases, sort them after. */
function byCodePoint(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let i = 0; i < length; i++) {
    const [x, y] = [a.charCodeAt(i), b.charCodeAt(i)];
    if (x === y) continue;
    const [sx, sy] = [x >= 0xd800 && x <= 0xdfff, y >= 0xd800 && y <= 0xdfff];
    return sx === sy ? x - y : sx ? (y >= 0xe000 ? 1 : x - y) : x >= 0xe000 ? -1 : x - y;
  }
  return a.length - b.length;
}

/** Negative, zero or positive, for two values in the normal form of one ordered type. */
export function compareValues(type: ValueType, a: Scalar, b: Scalar): number {
  if (type === 'integer') return (a as number) - (b as number);
  if (type === 'decimal') {
    const [x, y] = [BigInt(String(a).replace('.', '')), BigInt(String(b).replace('.', ''))];
    return x < y ? -1 : x > y ? 1 : 0;
  }
  return byCodePoint(String(a), String(b));
}

/** Types that have an order, so that `before`, `after`, `atLeast` and `atMost` mean something. */
export function isOrdered(type: ValueType): boolean {
  return type === 'integer' || type === 'decimal' || type === 'instant' || type === 'text';
}

import { type Filter, parse } from 'scim2-parse-filter';
import { ScimError } from './error.js';
import { isJson, valueIn } from './json.js';

/** So long is a filter, and so many parts has it. */
const LONGEST = 1000;
const MOST = 30;

/** A filter as it is asked (RFC 7644, section 3.4.2.2): of `eq ne co sw pr and or not`. */
export type Condition =
  | { readonly op: 'and' | 'or'; readonly of: readonly Condition[] }
  | { readonly op: 'not'; readonly of: Condition }
  | { readonly op: 'has'; readonly attribute: string; readonly where: Condition }
  | { readonly op: 'pr'; readonly path: readonly string[] }
  | { readonly op: 'eq' | 'ne' | 'co' | 'sw'; readonly path: readonly string[]; readonly value: unknown };

const bad = (words: string) => new ScimError(400, words, 'invalidFilter');

/** @throws ScimError `invalidFilter`. */
export function readFilter(text: string): Condition {
  // What nests deep is refused before anything goes through it.
  if (text.length > LONGEST) throw bad(`a filter has at most ${LONGEST} characters`);
  if ((text.match(/[([]/g) ?? []).length > MOST) throw bad(`a filter has at most ${MOST} parts`);
  let read: Filter;
  try {
    read = parse(text);
  } catch (error) {
    throw bad(`“${text.slice(0, 100)}” is no filter: ${error instanceof Error ? error.message : String(error)}`);
  }
  let parts = 0;
  const pathOf = (path: string) => {
    // A schema before it names nothing else here.
    const own = path.replace(/^urn:.*:/i, '');
    const names = own.split('.');
    if (names.length > 2 || names.some((name) => !/^[A-Za-z$][\w$-]*$/.test(name))) throw bad(`“${path.slice(0, 100)}” is no attribute`);
    return names;
  };
  const told = (one: Filter): Condition => {
    parts += 1;
    if (parts > MOST) throw bad(`a filter has at most ${MOST} parts`);
    switch (one.op) {
      case 'and':
      case 'or':
        return { op: one.op, of: one.filters.map(told) };
      case 'not':
        return { op: 'not', of: told(one.filter) };
      case '[]':
        return { op: 'has', attribute: pathOf(one.attrPath)[0] as string, where: told(one.valFilter) };
      case 'pr':
        return { op: 'pr', path: pathOf(one.attrPath) };
      case 'eq':
      case 'ne':
      case 'co':
      case 'sw':
        return { op: one.op, path: pathOf(one.attrPath), value: one.compValue };
      default:
        throw bad(`“${String(one.op)}” is not looked for: there are eq, ne, co, sw, pr, and, or, not`);
    }
  };
  return told(read);
}

/** Attributes whose letters count as they are written; of others their case does not (RFC 7643, section 2.2). */
const EXACT = new Set(['id', 'externalid', '$ref']);

/** The values of a path: of one that has several, each. A value of an object of its own is what stands under `value`. */
function valuesAt(object: unknown, [name = '', sub]: readonly string[]): unknown[] {
  const all = [valueIn(object, name)].flat(1).filter((one) => one !== undefined && one !== null);
  return all.flatMap((one) => {
    const value = sub === undefined ? (isJson(one) ? valueIn(one, 'value') : one) : valueIn(one, sub);
    return value === undefined || value === null ? [] : [value];
  });
}

function compares(op: 'eq' | 'co' | 'sw', value: unknown, wanted: unknown, isExact: boolean): boolean {
  if (typeof value === 'boolean' || typeof wanted === 'boolean') return op === 'eq' && String(value).toLowerCase() === String(wanted).toLowerCase();
  if (typeof value === 'number' && typeof wanted === 'number') return op === 'eq' && value === wanted;
  if (typeof value !== 'string' || typeof wanted !== 'string') return false;
  const [a, b] = isExact ? [value, wanted] : [value.toLowerCase(), wanted.toLowerCase()];
  return op === 'eq' ? a === b : op === 'co' ? a.includes(b) : a.startsWith(b);
}

/** True of a resource, or of one value of an attribute, for which a filter holds. Parts of one value are of that value: `emails[type eq "work" and value co "@"]`. */
export function holds(condition: Condition, of: unknown): boolean {
  switch (condition.op) {
    case 'and':
      return condition.of.every((one) => holds(one, of));
    case 'or':
      return condition.of.some((one) => holds(one, of));
    case 'not':
      return !holds(condition.of, of);
    case 'has':
      return [valueIn(of, condition.attribute)].flat(1).some((one) => one !== undefined && holds(condition.where, one));
    case 'pr':
      return valuesAt(of, condition.path).length > 0 || isFilled(of, condition.path);
    default: {
      const values = isJson(of) ? valuesAt(of, condition.path) : condition.path.join('.') === 'value' ? [of] : [];
      const isExact = EXACT.has((condition.path.at(-1) ?? '').toLowerCase());
      if (condition.op === 'ne') return !values.some((value) => compares('eq', value, condition.value, isExact));
      const { op, value: wanted } = condition;
      return values.some((value) => compares(op, value, wanted, isExact));
    }
  }
}

/** An attribute of parts has some. */
function isFilled(of: unknown, path: readonly string[]): boolean {
  const value = path.length === 1 ? valueIn(of, path[0] as string) : undefined;
  return isJson(value) ? Object.keys(value).length > 0 : Array.isArray(value) && value.length > 0;
}

/** The value that an attribute is asked to equal, where that is all that is asked. */
export function equalTo(condition: Condition | undefined, attribute: string): string | undefined {
  if (condition?.op !== 'eq' || condition.path.length !== 1 || condition.path[0]?.toLowerCase() !== attribute.toLowerCase()) return undefined;
  return typeof condition.value === 'string' ? condition.value : undefined;
}

/** The attributes that a filter fixes, for a value that is to be made so: `type eq "work" and primary eq true`. */
export function fixedBy(condition: Condition): Record<string, unknown> | undefined {
  if (condition.op === 'eq' && condition.path.length === 1) return { [condition.path[0] as string]: condition.value };
  if (condition.op !== 'and') return undefined;
  const parts = condition.of.map(fixedBy);
  return parts.every((one) => one !== undefined) ? Object.assign({}, ...parts) : undefined;
}

import { LintelError } from '../base/index.js';
import type { Comparison, Predicate } from './predicate.js';
import type { FieldShape, KindShape, Shapes } from './shape.js';
import { compareValues, readValue, type Scalar } from './value.js';

/**
 * A record in memory, keyed by field name. `null` is an empty field; an absent key was not loaded. Parents, where they
 * were loaded, stand under `parents` by the field that points to them; a list of people stands under its field.
 */
export type RecordData = { readonly [field: string]: unknown };

/** Yes, no, or *not loaded*: the record in hand does not hold what the question needs. */
export type Verdict = boolean | undefined;

export type Test = (record: RecordData) => Verdict;

function valueIn(record: RecordData, field: string, shape: FieldShape, kind: KindShape): Scalar | null | undefined {
  const raw = record[field];
  if (raw === null || raw === undefined) return raw;
  const value = readValue(shape.type, raw, shape.scale);
  if (value === undefined) {
    throw new LintelError(
      'record-mismatch',
      `${kind.table}: ${field} holds ${typeof raw} ${JSON.stringify(raw)?.slice(0, 40)}, which is no ${shape.type}; pass it as the database gave it`,
      { field },
    );
  }
  return value;
}

function holds(op: Comparison['op'], type: FieldShape['type'], a: Scalar, b: Scalar): boolean {
  switch (op) {
    case 'before':
      return compareValues(type, a, b) < 0;
    case 'after':
      return compareValues(type, a, b) > 0;
    case 'atLeast':
      return compareValues(type, a, b) >= 0;
    case 'atMost':
      return compareValues(type, a, b) <= 0;
    default:
      return a === b;
  }
}

function testLink(field: string, { type }: FieldShape, wanted: readonly Scalar[]): Test {
  return (record) => {
    const list = record[field];
    // guard linked-ids-read by agree: Ids in a list would be compared as they were written.
    return Array.isArray(list) ? list.some((one) => wanted.includes(/* guard linked-ids-read (unwrapped) */ readValue(type, one) as Scalar)) : undefined;
  };
}

/** By list: one that many share is gone through once. */
const sets = new WeakMap<readonly Scalar[], ReadonlySet<unknown>>();

function setOf(list: readonly Scalar[]): ReadonlySet<unknown> {
  const known = sets.get(list) ?? new Set<unknown>(list);
  sets.set(list, known);
  return known;
}

/**
 * An engine of JavaScript remembers, for each place in the code that reads a property, where it found it: a place that reads one name of few shapes of object
 * takes a quarter of the time of one that reads any name. The first names get a place of their own, later ones share.
 */
const PLACES: readonly ((field: string) => (record: RecordData) => unknown)[] = [
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
  (field) => (record) => record[field],
];
const readers = new Map<string, (record: RecordData) => unknown>();

function reader(field: string): (record: RecordData) => unknown {
  const place = PLACES[readers.size % PLACES.length] as (typeof PLACES)[number];
  const read = readers.get(field) ?? place(field);
  readers.set(field, read);
  return read;
}

/** What a field may hold, or with `isOther` what it may not; null is empty. */
interface Listed {
  readonly field: string;
  readonly list: ReadonlySet<unknown>;
  readonly isOther: boolean;
}

/** More values than this are not put together anew. */
const FEW = 8;

/** A predicate that turns on one field, by the values that it takes. Undefined for any other. */
function listed(p: Predicate): Listed | undefined {
  if (p.op === 'isEmpty') return { field: p.field, list: new Set([null]), isOther: false };
  if ((p.op === 'is' || p.op === 'in') && 'value' in p.to) {
    const { value } = p.to;
    return { field: p.field, list: Array.isArray(value) ? setOf(value) : new Set([value]), isOther: false };
  }
  const inner = p.op === 'not' ? listed(p.of) : undefined;
  return inner && { ...inner, isOther: !inner.isOther };
}

/** Both at once, where they are of the same field: the values that either takes, or that both do. */
function together(op: 'and' | 'or', a: Listed, b: Listed): Listed | undefined {
  if (a.field !== b.field || a.list.size + b.list.size > FEW) return undefined;
  // Not taken by either is not taken by both.
  const isOther = op === 'or' ? a.isOther || b.isOther : a.isOther && b.isOther;
  const takes = (one: Listed, value: unknown) => one.list.has(value) !== one.isOther;
  const both = (value: unknown) => (op === 'or' ? takes(a, value) || takes(b, value) : takes(a, value) && takes(b, value));
  return { field: a.field, list: new Set([...a.list, ...b.list].filter((value) => both(value) !== isOther)), isOther };
}

/** Takes no value: of no record. */
const NONE = Symbol('none');

function testListed({ field, list, isOther }: Listed, kind: KindShape): Test {
  const shape = kind.fields[field] as FieldShape;
  const read = reader(field);
  const isTaken = !isOther;
  const [one = NONE, other = one] = list;
  const more = list.size > 2 ? list : undefined;
  const isTyped = list.size > (list.has(null) ? 1 : 0);
  // Where equal values are written in one way only, two of the same type are compared as they stand.
  const plain = shape.type === 'text' ? 'string' : shape.type === 'boolean' ? 'boolean' : undefined;
  return (record) => {
    const raw = read(record);
    if (raw === undefined) return undefined;
    if (raw === one || raw === other) return isTaken;
    if (raw === null || typeof raw === plain) return more?.has(raw) ? isTaken : isOther;
    return isTyped && list.has(valueIn(record, field, shape, kind)) ? isTaken : isOther;
  };
}

function testComparison(p: Comparison, kind: KindShape): Test {
  const { field, op, to } = p;
  const shape = kind.fields[field] as FieldShape;
  if ('field' in to) {
    const other = kind.fields[to.field] as FieldShape;
    return (record) => {
      const a = valueIn(record, field, shape, kind);
      const b = valueIn(record, to.field, other, kind);
      if (a === null || b === null) return false;
      return a === undefined || b === undefined ? undefined : holds(op, shape.type, a, b);
    };
  }
  if (!('value' in to)) throw new LintelError('not-specialised', `${op} ${field} still names a fact; specialise it first`);
  const wanted = to.value;
  if (op === 'within' || op === 'among') return () => undefined;
  if (op === 'includes') return testLink(field, shape, [wanted].flat() as Scalar[]);
  const value = wanted as Scalar;
  return (record) => {
    const found = valueIn(record, field, shape, kind);
    return found === undefined ? undefined : found !== null && holds(op, shape.type, found, value);
  };
}

function testParent(p: Extract<Predicate, { op: 'parent' }>, kind: KindShape, shapes: Shapes): Test {
  const to = kind.fields[p.via]?.to as string;
  const test = compile(p.where, to, shapes);
  return (record) => {
    if (record[p.via] === null) return false;
    const parent = (record.parents as RecordData | undefined)?.[p.via] as RecordData | null | undefined;
    return parent === null ? false : parent === undefined ? undefined : test(parent);
  };
}

/** Four at a time, each called at a place of its own, and not in a loop: that is most of what it costs. */
function testAll(parts: readonly Test[], isDecisive: boolean): Test {
  const [a = () => !isDecisive, b, c] = parts;
  const d = parts.length > 4 ? testAll(parts.slice(3), isDecisive) : parts[3];
  if (b === undefined) return a;
  return (record) => {
    const first = a(record);
    if (first === isDecisive) return isDecisive;
    const second = b(record);
    if (second === isDecisive) return isDecisive;
    const third = c === undefined ? !isDecisive : c(record);
    if (third === isDecisive) return isDecisive;
    const fourth = d === undefined ? !isDecisive : d(record);
    if (fourth === isDecisive) return isDecisive;
    return first === undefined || second === undefined || third === undefined || fourth === undefined ? undefined : !isDecisive;
  };
}

/** The parts of `and` or `or`, those of the same field as one. */
function testParts({ op, of }: Extract<Predicate, { op: 'and' | 'or' }>, kindName: string, shapes: Shapes): Test {
  const parts: (Listed | Test)[] = [];
  for (const inner of of) {
    const one = listed(inner);
    const at = parts.findIndex((part) => one && 'field' in part && together(op, part, one));
    if (at === -1) parts.push(one ?? compile(inner, kindName, shapes));
    else parts[at] = together(op, parts[at] as Listed, one as Listed) as Listed;
  }
  const tests = parts.map((part) => ('field' in part ? testListed(part, shapes[kindName] as KindShape) : part));
  return testAll(tests, op === 'or');
}

/** Turns a specialised predicate into a function of the record. */
export function compile(p: Predicate, kindName: string, shapes: Shapes): Test {
  const kind = shapes[kindName] as KindShape;
  const values = listed(p);
  if (values) return testListed(values, kind);
  switch (p.op) {
    case 'always':
      return () => true;
    case 'never':
      return () => false;
    case 'and':
    case 'or':
      return testParts(p, kindName, shapes);
    case 'not': {
      const test = compile(p.of, kindName, shapes);
      return (record) => {
        const verdict = test(record);
        return verdict === undefined ? undefined : !verdict;
      };
    }
    case 'parent':
      return testParent(p, kind, shapes);
    case 'followed':
      throw new LintelError('not-specialised', `${p.via} is still to be followed; specialise it first`);
    default:
      return testComparison(p as Comparison, kind);
  }
}

/** A part of a predicate, and whether it would have had to hold. */
export interface Blame {
  readonly part: Predicate;
  readonly wanted: boolean;
}

/**
 * The smallest parts that keep a specialised predicate from being `wanted` on this record: what a person has to be shown
 * to understand the answer. Parts that were not loaded are blamed too.
 */
export function blame(p: Predicate, record: RecordData, kindName: string, shapes: Shapes, wanted = true): Blame[] {
  if (compile(p, kindName, shapes)(record) === wanted) return [];
  if (p.op === 'not') return blame(p.of, record, kindName, shapes, !wanted);
  if (p.op === 'and' || p.op === 'or') return p.of.flatMap((inner) => blame(inner, record, kindName, shapes, wanted));
  return [{ part: p, wanted }];
}

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
    return Array.isArray(list) ? list.some((one) => wanted.includes(readValue(type, one) as Scalar)) : undefined;
  };
}

/** By list: one that many share is gone through once. */
const sets = new WeakMap<readonly Scalar[], ReadonlySet<Scalar>>();

function testList(p: Comparison, shape: FieldShape, kind: KindShape, list: readonly Scalar[]): Test {
  const wanted = sets.get(list) ?? new Set(list);
  sets.set(list, wanted);
  return (record) => {
    const value = valueIn(record, p.field, shape, kind);
    if (value === undefined) return undefined;
    return value !== null && wanted.has(value);
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
  if (Array.isArray(wanted)) return testList(p, shape, kind, wanted);
  const value = wanted as Scalar;
  // Where equal values are written in one way only, two of the same type are compared as they stand.
  const plain = op === 'is' && (shape.type === 'text' || shape.type === 'boolean') ? typeof value : undefined;
  return (record) => {
    const raw = record[field];
    if (raw === null || raw === undefined) return raw === null ? false : undefined;
    if (typeof raw === plain || (op === 'is' && raw === value)) return raw === value;
    return holds(op, shape.type, valueIn(record, field, shape, kind) as Scalar, value);
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

function testAll(parts: readonly Test[], decisive: boolean): Test {
  return (record) => {
    let open = false;
    for (let i = 0; i < parts.length; i++) {
      const verdict = (parts[i] as Test)(record);
      if (verdict === decisive) return decisive;
      if (verdict === undefined) open = true;
    }
    return open ? undefined : !decisive;
  };
}

/** Turns a specialised predicate into a function of the record. */
export function compile(p: Predicate, kindName: string, shapes: Shapes): Test {
  const kind = shapes[kindName] as KindShape;
  switch (p.op) {
    case 'always':
      return () => true;
    case 'never':
      return () => false;
    case 'and':
    case 'or':
      return testAll(
        p.of.map((inner) => compile(inner, kindName, shapes)),
        p.op === 'or',
      );
    case 'not': {
      const test = compile(p.of, kindName, shapes);
      return (record) => {
        const verdict = test(record);
        return verdict === undefined ? undefined : !verdict;
      };
    }
    case 'isEmpty':
      return (record) => {
        const raw = record[p.field];
        return raw === undefined ? undefined : raw === null;
      };
    case 'parent':
      return testParent(p, kind, shapes);
    case 'followed':
      throw new LintelError('not-specialised', `${p.via} is still to be followed; specialise it first`);
    default:
      return testComparison(p, kind);
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

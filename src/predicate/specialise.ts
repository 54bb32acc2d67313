import { ALWAYS, and, type Comparison, NEVER, not, type Operand, or, type Predicate, takesList } from './predicate.js';
import type { FieldShape, KindShape, Shapes } from './shape.js';
import { readEach, readValue, type Scalar } from './value.js';

/** What is known about the person who asks and about the request, and how a missing fact is to count. */
export interface Knowledge {
  readonly me: Readonly<Record<string, unknown>>;
  readonly context: Readonly<Record<string, unknown>>;
  /** All units at or below this one, itself included; undefined where the tree is not known here. */
  below(unitId: string): readonly string[] | undefined;
  /** The people of a group; undefined where groups are not known here. */
  peopleOf(groupId: string): readonly string[] | undefined;
  /** The specialised `read` decision of a kind for the person who asks. */
  readable(kind: string): Predicate;
}

/** `shrink`: a missing fact makes the predicate hold for fewer records (a reach). `grow`: for more (a limit). */
export type Bias = 'shrink' | 'grow';

/** Units and groups are the library's own, and it keeps their ids as text. */
const OWN_IDS: FieldShape = { type: 'text', column: '' };

function lookUp(source: Readonly<Record<string, unknown>>, path: string): unknown {
  let value: unknown = source;
  for (const step of path.split('.')) {
    if (typeof value !== 'object' || value === null || !Object.hasOwn(value, step)) return undefined;
    value = (value as Record<string, unknown>)[step];
  }
  return value;
}

function factOf(operand: Operand, known: Knowledge): unknown {
  if ('me' in operand) return lookUp(known.me, operand.me);
  if ('context' in operand) return lookUp(known.context, operand.context);
  return 'value' in operand ? operand.value : undefined;
}

/** Undefined unless every item is of the type: a list with one foreign item is no list of this type. */
function readList(shape: FieldShape, raw: unknown): readonly Scalar[] | undefined {
  if (!Array.isArray(raw)) return undefined;
  const values = raw.map((item) => readValue(shape.type, item, shape.scale));
  return values.includes(undefined) ? undefined : [...new Set(values as Scalar[])];
}

/** A list of one group that very many people are in is read once, and not once for each of them. */
const LONG = 100;
const longLists = new WeakMap<readonly string[], { readonly type: FieldShape['type']; readonly all: readonly Scalar[] }>();

/** What units or groups stand for, as the field holds it; undefined where it is not known of one of them. An id of another type is in no such field. */
function expand(ids: readonly Scalar[], of: (id: string) => readonly string[] | undefined, { type }: FieldShape): readonly Scalar[] | undefined {
  const inside = ids.map((id) => of(String(id)));
  if (inside.includes(undefined)) return undefined;
  const [first] = inside;
  const shared = inside.length === 1 && first && first.length > LONG ? first : undefined;
  const known = shared && longLists.get(shared);
  if (known?.type === type) return known.all;
  // guard unit-ids-read by agree: Unit ids would be compared as the membership writes them.
  const all = [...new Set(/* guard unit-ids-read (unwrapped) */ readEach(type, inside.flat()))];
  if (shared) longLists.set(shared, { type, all });
  return all;
}

function specialiseComparison(p: Comparison, shape: FieldShape, known: Knowledge, missing: Predicate): Predicate {
  if ('field' in p.to) return p;
  const raw = factOf(p.to, known);
  if (!takesList(p.op)) {
    const value = readValue(shape.type, raw, shape.scale);
    return value === undefined ? missing : { ...p, to: { value } };
  }
  const list = readList(p.op === 'in' ? shape : OWN_IDS, raw);
  if (list === undefined) return missing;
  const all = p.op === 'in' ? list : expand(list, (id) => (p.op === 'within' ? known.below(id) : known.peopleOf(id)), shape);
  // Without the tree, or the groups, the question stays open: evaluating it says "not loaded".
  if (all === undefined) return { ...p, to: { value: list } };
  if (all.length === 0) return NEVER;
  return all.length === 1 ? { op: 'is', field: p.field, to: { value: all[0] as Scalar } } : { op: 'in', field: p.field, to: { value: all } };
}

/**
 * Resolves every fact of a predicate for one person, so that only the record is left to ask. What comes out is what a
 * developer would have written by hand for this person.
 */
export function specialise(p: Predicate, kindName: string, shapes: Shapes, known: Knowledge, bias: Bias): Predicate {
  const kind = shapes[kindName] as KindShape;
  const again = (inner: Predicate, b: Bias) => specialise(inner, kindName, shapes, known, b);
  switch (p.op) {
    case 'always':
    case 'never':
    case 'isEmpty':
      return p;
    case 'and':
      return and(...p.of.map((inner) => again(inner, bias)));
    case 'or':
      return or(...p.of.map((inner) => again(inner, bias)));
    case 'not':
      return not(again(p.of, bias === 'shrink' ? 'grow' : 'shrink'));
    case 'parent': {
      const to = kind.fields[p.via]?.to as string;
      const where = specialise(p.where, to, shapes, known, bias);
      return where.op === 'never' ? NEVER : { op: 'parent', via: p.via, where };
    }
    case 'followed': {
      const where = known.readable(kind.fields[p.via]?.to as string);
      return where.op === 'never' ? NEVER : { op: 'parent', via: p.via, where };
    }
    default:
      // guard missing-fact-shrinks by agree: A missing fact would count for the person.
      return specialiseComparison(p, kind.fields[p.field] as FieldShape, known, bias === 'shrink' ? /* guard missing-fact-shrinks */ NEVER : ALWAYS);
  }
}

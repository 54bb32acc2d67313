import { didYouMean, LintelError } from '../base/index.js';
import { type Comparison, not, type Operand, type Predicate } from './predicate.js';
import type { KindShape, Shapes } from './shape.js';
import type { Scalar } from './value.js';

declare const carried: unique symbol;

/** A value known only when somebody asks: a fact about them or about the request. */
export type Fact<V> = (Operand & ({ readonly me: string } | { readonly context: string })) & { readonly [carried]?: V };

/** Stands for an id in a fact: such a fact compares with ids of whatever type the charter gives them. */
export interface AnyId {
  readonly [carried]?: 'id';
}
type IdFact<V, Id> = V extends string | number ? Fact<Id> : never;

/** What a comparison may be made with: a constant, a fact, or another field of the same record. */
export type Comparable<V> = V | Fact<V> | FieldTerm<V> | IdFact<V, AnyId>;

interface FieldTerm<V> {
  readonly field: string;
  readonly [carried]?: V;
}

/** A field that holds one value. */
export interface ScalarTerm<V> extends FieldTerm<V> {
  is(other: Comparable<V>): Predicate;
  /** The negation of `is`: also true where the field is empty. */
  isNot(other: Comparable<V>): Predicate;
  /** One of the listed. Of an empty list: never. */
  in(list: readonly V[] | Fact<readonly V[]> | IdFact<V, readonly AnyId[]>): Predicate;
  isEmpty(): Predicate;
  before(other: Comparable<V>): Predicate;
  after(other: Comparable<V>): Predicate;
  atLeast(other: Comparable<V>): Predicate;
  atMost(other: Comparable<V>): Predicate;
}

/** A field that holds a unit: also asked whether it lies at or below some units. */
export interface UnitTerm<V> extends ScalarTerm<V> {
  within(units: Fact<readonly AnyId[]>): Predicate;
}

/** A field that holds a person: also asked whether they belong to some groups. */
export interface PersonTerm<V> extends ScalarTerm<V> {
  /** The person is in one of these groups: *the owner is in my groups*. */
  among(groups: Fact<readonly AnyId[]>): Predicate;
}

/** A field that holds a list of people. */
export interface PeopleTerm<V> {
  includes(person: Comparable<V>): Predicate;
}

/** A field that points to a parent record: the parent's fields are one step away. */
export interface ParentTerm<Parent, V> extends ScalarTerm<V> {
  readonly parent: Parent;
  /** The parent's own `read` decision, with everything that it rests on. */
  isReadable(): Predicate;
}

/** The facts that a rule may name. A fact that is missing counts against the person. */
export interface Me {
  readonly userId: Fact<AnyId>;
  readonly groupIds: Fact<readonly AnyId[]>;
  /** The units in which the person is placed directly. */
  readonly unitIds: Fact<readonly AnyId[]>;
  /** An attribute that the application keeps about the person in this tenant. */
  attribute<V extends Scalar>(name: string): Fact<V>;
}

export const me: Me = {
  userId: { me: 'userId' },
  groupIds: { me: 'groupIds' },
  unitIds: { me: 'unitIds' },
  attribute: (name) => ({ me: `attributes.${name}` }),
};

/** A fact about the request, set by the server only. */
export function context<V extends Scalar>(name: string): Fact<V> {
  return { context: name };
}

function operand(other: unknown): Operand {
  if (typeof other !== 'object' || other === null || Array.isArray(other) || other instanceof Date) {
    return { value: (other instanceof Date ? other.toISOString() : other) as Scalar };
  }
  if ('field' in other) return { field: String(other.field) };
  return other as Operand;
}

type Wrap = (inner: Predicate) => Predicate;

function term(shapes: Shapes, kind: KindShape, field: string, wrap: Wrap): object {
  const compare = (op: Comparison['op']) => (other: unknown) => wrap({ op, field, to: operand(other) });
  const to = kind.fields[field]?.to;
  return {
    field,
    is: compare('is'),
    isNot: (other: unknown) => not(compare('is')(other)),
    in: compare('in'),
    within: compare('within'),
    among: compare('among'),
    includes: compare('includes'),
    isEmpty: () => wrap({ op: 'isEmpty', field }),
    before: compare('before'),
    after: compare('after'),
    atLeast: compare('atLeast'),
    atMost: compare('atMost'),
    isReadable: () => wrap({ op: 'followed', via: field }),
    get parent() {
      if (to === undefined) throw new LintelError('charter-invalid', `${field} points to no parent record`);
      return recordOf(shapes, to, (inner) => wrap({ op: 'parent', via: field, where: inner }));
    },
  };
}

/** The record of a kind, as rules see it: an object with a term for each field. A misspelt field throws with the near match. */
export function recordOf(shapes: Shapes, kindName: string, wrap: Wrap = (inner) => inner): object {
  const kind = shapes[kindName];
  if (!kind) throw new LintelError('charter-invalid', `no such kind "${kindName}"${didYouMean(kindName, Object.keys(shapes))}`);
  return new Proxy({} as Record<string, object>, {
    get(_target, name) {
      if (typeof name !== 'string') return undefined;
      if (!Object.hasOwn(kind.fields, name)) {
        throw new LintelError('charter-invalid', `${kindName} has no field "${name}"${didYouMean(name, Object.keys(kind.fields))}`);
      }
      return term(shapes, kind, name, wrap);
    },
  });
}

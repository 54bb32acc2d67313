import type { Scalar } from './value.js';

/** A fact about the person (`me.userId`), the request (`context.channel`), a constant, or another field of the record. */
export type Operand = { readonly me: string } | { readonly context: string } | { readonly value: Scalar | readonly Scalar[] } | { readonly field: string };

/** The comparisons of one field with one value. */
export const COMPARISONS = ['is', 'before', 'after', 'atLeast', 'atMost'] as const;
/** The comparisons of a field with a list, or of a list with a value. */
export const MEMBERSHIPS = ['in', 'within', 'among', 'includes'] as const;

/** Comparisons whose other side is a list. */
export function takesList(op: string): boolean {
  return op === 'in' || op === 'within' || op === 'among';
}

export interface Comparison {
  readonly op: (typeof COMPARISONS)[number] | (typeof MEMBERSHIPS)[number];
  readonly field: string;
  readonly to: Operand;
}

/**
 * A question about one record with the answer yes or no, as plain data.
 *
 * It is two-valued: a comparison with a field that is empty is false, and its negation true. `isNot` is therefore
 * `not(is)` and holds for an empty field; a rule that means otherwise says `isEmpty`.
 */
export type Predicate =
  | { readonly op: 'always' }
  | { readonly op: 'never' }
  | { readonly op: 'and' | 'or'; readonly of: readonly Predicate[] }
  | { readonly op: 'not'; readonly of: Predicate }
  | { readonly op: 'isEmpty'; readonly field: string }
  | Comparison
  /** The parent that `via` points to exists in the same tenant and satisfies `where`. */
  | { readonly op: 'parent'; readonly via: string; readonly where: Predicate }
  /** The parent that `via` points to may be read: its whole `read` decision, not one of its reaches. */
  | { readonly op: 'followed'; readonly via: string };

export const ALWAYS: Predicate = Object.freeze({ op: 'always' });
export const NEVER: Predicate = Object.freeze({ op: 'never' });

function joined(op: 'and' | 'or', parts: readonly Predicate[]): Predicate {
  const neutral = op === 'and' ? 'always' : 'never';
  const absorbing = op === 'and' ? 'never' : 'always';
  const told: Predicate[] = [];
  for (const part of parts) {
    for (const one of part.op === op ? part.of : [part]) {
      if (one.op === absorbing) return one;
      if (one.op !== neutral) told.push(one);
    }
  }
  if (told.length === 1) return told[0] as Predicate;
  if (told.length === 0) return { op: neutral };
  const seen = new Map(told.map((part) => [JSON.stringify(part), part]));
  const kept = [...seen.values()];
  if (kept.length === 1) return kept[0] as Predicate;
  // `a and (a or b)` is `a`, and `a or (a and b)` too.
  const other = op === 'and' ? 'or' : 'and';
  const left = kept.filter((part) => part.op !== other || !part.of.some((inner) => seen.has(JSON.stringify(inner))));
  return left.length === 1 ? (left[0] as Predicate) : { op, of: left };
}

/** All of them hold. Flattens, drops repetitions, and folds `always` and `never` away. */
export function and(...parts: readonly Predicate[]): Predicate {
  return joined('and', parts);
}

/** At least one of them holds. Of none: never. */
export function or(...parts: readonly Predicate[]): Predicate {
  return joined('or', parts);
}

/** It does not hold. */
export function not(part: Predicate): Predicate {
  if (part.op === 'always') return NEVER;
  if (part.op === 'never') return ALWAYS;
  return part.op === 'not' ? part.of : { op: 'not', of: part };
}

/** Fields of the record itself on which a predicate turns. */
export function ownFields(p: Predicate): string[] {
  if (p.op === 'and' || p.op === 'or') return p.of.flatMap(ownFields);
  if (p.op === 'not') return ownFields(p.of);
  return 'field' in p ? [p.field] : [];
}

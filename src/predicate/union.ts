import { type Comparison, or, type Predicate } from './predicate.js';
import type { Scalar } from './value.js';

/** Of a comparison with constants: what it asks, and the values one of which it takes. */
function oneOf(p: Predicate): { readonly asks: string; readonly values: readonly Scalar[] } | undefined {
  if ((p.op !== 'is' && p.op !== 'in' && p.op !== 'includes') || !('value' in p.to)) return undefined;
  return { asks: `${p.op === 'includes' ? 'includes' : 'is'} ${p.field}`, values: [p.to.value].flat() as Scalar[] };
}

/** What two parts have to agree in to become one. */
function asked(p: Predicate): string | undefined {
  return p.op === 'parent' ? `parent ${p.via}` : oneOf(p)?.asks;
}

/** Parts that ask the same, as one: it holds where one of them does. */
function melt(parts: readonly Predicate[]): Predicate {
  const [first] = parts as readonly [Predicate];
  if (parts.length === 1) return first;
  if (first.op === 'parent') return { ...first, where: anyOf(parts.map((p) => (p as typeof first).where)) };
  const values = [...new Set(parts.flatMap((p) => oneOf(p)?.values ?? []))];
  const op = first.op === 'includes' ? 'includes' : 'in';
  return { op, field: (first as Comparison).field, to: { value: values } };
}

/** More conditions than this are not put to a database. */
const MAX_CONDITIONS = 60;

/** True for a rule that is short enough to be put to a database. */
export function isShort(p: Predicate): boolean {
  return (JSON.stringify(p).match(/"op"/g)?.length ?? 0) <= MAX_CONDITIONS;
}

const partsOf = (p: Predicate): readonly Predicate[] => (p.op === 'and' ? p.of : [p]);

/**
 * At least one of these specialised predicates holds, like `or`, and short where they differ in a value only: what any of ten thousand people reaches of
 * their own becomes one list of ten thousand values. Those that differ in one part melt in that part.
 */
export function anyOf(predicates: readonly Predicate[]): Predicate {
  const all = or(...predicates);
  if (all.op !== 'or') return all;
  const left = new Map(all.of.map((p) => [p, partsOf(p)]));
  // For each place where others may differ: who agrees in all the rest.
  const meeting = new Map<string, [Predicate, Predicate][]>();
  for (const [whole, parts] of left) {
    const texts = parts.map((part) => JSON.stringify(part));
    parts.forEach((part, i) => {
      const asks = asked(part);
      if (asks === undefined) return;
      const key = JSON.stringify([asks, ...texts.filter((_, other) => other !== i).sort()]);
      const met = meeting.get(key);
      if (met) met.push([whole, part]);
      else meeting.set(key, [[whole, part]]);
    });
  }
  const melted: Predicate[] = [];
  for (const met of [...meeting.values()].sort((a, b) => b.length - a.length)) {
    const those = met.filter(([whole]) => left.has(whole));
    if (those.length < 2) continue;
    const [whole, part] = those[0] as [Predicate, Predicate];
    const one = melt(those.map(([, p]) => p));
    const rest = (left.get(whole) as readonly Predicate[]).filter((p) => p !== part);
    melted.push(rest.length === 0 ? one : { op: 'and', of: [...rest, one] });
    for (const [gone] of those) left.delete(gone);
  }
  const result = or(...left.keys(), ...melted);
  // What melted may now agree with something else.
  return melted.length > 0 && result.op === 'or' && result.of.length > 1 ? anyOf(result.of) : result;
}

/**
 * A rule that was worked out for one person, for whom a constant stands in it, as what at least one of many reaches: undefined where it does not come down to
 * that, since the constant is negated, or two parts have to hold for the same person.
 */
export function forOneOf(p: Predicate, one: Scalar, many: readonly Scalar[]): Predicate | undefined {
  const names = JSON.stringify(one);
  const has = (part: Predicate) => JSON.stringify(part).includes(names);
  if (!has(p)) return p;
  switch (p.op) {
    case 'or': {
      const parts = p.of.map((part) => forOneOf(part, one, many));
      return parts.every((part) => part !== undefined) ? or(...parts) : undefined;
    }
    case 'and': {
      const [only, ...more] = p.of.filter(has);
      const widened = only && more.length === 0 ? forOneOf(only, one, many) : undefined;
      return widened && { ...p, of: p.of.map((part) => (part === only ? widened : part)) };
    }
    case 'parent': {
      const where = forOneOf(p.where, one, many);
      return where && { ...p, where };
    }
    case 'is':
    case 'includes':
      return 'value' in p.to && p.to.value === one ? { ...p, op: p.op === 'is' ? 'in' : 'includes', to: { value: many } } : undefined;
    default:
      return undefined;
  }
}

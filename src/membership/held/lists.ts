import { sha256 } from '../../base/index.js';

/*
 * Lists of people that the facts of many hold in common: the people of a group, those whose records an opening opens. What is worked out of one is kept with it, so that
 * it is worked out once and not for everybody who holds it.
 */

const marks = new WeakMap<readonly string[], string>();
const covered = new WeakMap<readonly string[], WeakMap<readonly string[], boolean>>();

/** The same for two lists of the same people, in whatever order. */
export function listMark(list: readonly string[] | undefined): string | undefined {
  if (!list) return undefined;
  const known = marks.get(list) ?? sha256(JSON.stringify(list.toSorted()));
  marks.set(list, known);
  return known;
}

/** True where everybody of the inner list is in the outer one. */
export function covers(outer: readonly string[] | undefined, inner: readonly string[] | undefined): boolean {
  if (!inner || inner.length === 0) return true;
  if (!outer) return false;
  const known = covered.get(outer)?.get(inner);
  if (known !== undefined) return known;
  const all = new Set(outer);
  const does = inner.every((one) => all.has(one));
  covered.set(outer, (covered.get(outer) ?? new WeakMap()).set(inner, does));
  return does;
}

import { insistOnLength, refuse } from './refuse.js';

/** A node of ours: plain, made here, and of nothing that somebody else holds. */
export interface FreshNode {
  kind: string;
  [part: string]: unknown;
}

/** A node as it was handed over: each part of it is looked at once. */
export type Given = Readonly<Record<string, unknown>>;

/** Makes a node of ours from one of a certain kind. */
export type Rule = (given: Given, depth: number) => FreshNode;

/** Makes one of ours from what stands at a sort of place. */
export type Read = (value: unknown, depth: number) => FreshNode;

/** So deep may a query be nested. */
const MAX_DEPTH = 1000;

/** What to write instead of a part that scope does not take. */
const INSTEAD: Readonly<Record<string, string>> = {
  endModifiers: 'lock rows outside of scope',
  fetch: 'write a limit',
  top: 'write a limit',
  from: 'read first, then write by id',
  joins: 'read first, then write by id',
  using: 'read first, then write by id',
  orderBy: 'write by id',
  limit: 'write by id',
  constraint: 'name the columns',
  indexExpression: 'name the columns',
  indexWhere: 'name the columns',
  onDuplicateKey: 'write an upsert: onConflict',
  ignore: 'write an upsert: onConflict',
  replace: 'write an upsert: onConflict',
  defaultValues: 'insert the values',
};

export function refuseNode(kind: unknown, sort: string): never {
  if (kind === 'RawNode') return refuse('a raw SQL fragment', 'it could hold any query; say it with the query builder');
  const what = String(kind).replace(/Node$/, '');
  return refuse(
    `a ${what} where the query has ${/^[aeiou]/.test(sort) ? 'an' : 'a'} ${sort}`,
    'say it with select, join, subquery, with, insert, update or delete',
  );
}

/** The node that a rule makes of one that was handed over, which is not read again. */
// guard node-read-once by queries: A node could be another when it is read again.
const madeBy = /* guard node-read-once (replaced) */ (rule: Rule, given: Given, depth: number): FreshNode => rule(given, depth);

/** A place of this sort takes nodes of these kinds, each by its rule, and no others. They are asked for when they are needed, as they refer to each other. */
export function place(sort: string, rules: () => Readonly<Record<string, Rule>>): Read {
  let byKind: Map<unknown, Rule> | undefined;
  // The first is the only one, or the most frequent.
  let firstKind: unknown;
  let firstRule: Rule | undefined;
  return (value, depth) => {
    if (!byKind) {
      byKind = new Map(Object.entries(rules()));
      for (const [kind, rule] of byKind) if (!firstRule) [firstKind, firstRule] = [kind, rule];
    }
    if (depth > MAX_DEPTH) return refuse(`a query that is nested more than ${MAX_DEPTH} deep`, 'write it in parts');
    if (typeof value !== 'object' || value === null) return refuse(`a ${sort} that is no node`, 'build the query with the query builder');
    const { kind } = value as Given;
    const rule = kind === firstKind ? firstRule : byKind.get(kind);
    return rule ? madeBy(rule, value as Given, depth + 1) : refuseNode(kind, sort);
  };
}

export function maybe(value: unknown, read: Read, depth: number): FreshNode | undefined {
  return value === undefined ? undefined : read(value, depth);
}

/** The item that is made of one that was handed over, which is not read again. */
// guard list-read-once by queries: A list could be another when it is read again.
const itemOf = /* guard list-read-once (replaced) */ <T>(read: (value: unknown, depth: number) => T, given: unknown, depth: number): T => read(given, depth);

export function listOf<T>(value: unknown, read: (value: unknown, depth: number) => T, depth = 0): T[] {
  if (!Array.isArray(value)) return refuse('something else where the query has a list', 'build the query with the query builder');
  // Its length is looked at once, and so is each of its items.
  const { length } = value;
  const items: T[] = [];
  for (let i = 0; i < length; i++) items.push(itemOf(read, value[i], depth));
  return items;
}

export function maybeListOf<T>(value: unknown, read: (value: unknown, depth: number) => T, depth: number): T[] | undefined {
  return value === undefined ? undefined : listOf(value, read, depth);
}

export function oneOf<T>(value: unknown, ...words: readonly T[]): T {
  return words.includes(value as T) ? (value as T) : refuse(`"${String(value)}" there`, `allowed is ${words.join(', ')}`);
}

/** A word of the language: an operator, a function. What it means is asked of its table. */
export function word(value: unknown): string {
  return typeof value === 'string' ? value : refuse('a word that is no text', 'build the query with the query builder');
}

export function name(value: unknown): string {
  const text = word(value);
  insistOnLength(text);
  return text;
}

/** Parts that a rule does not have may only be there if they say nothing. */
export function insistOnOnly(given: Given, what: string, parts: ReadonlySet<string>): void {
  for (const key in given) {
    if (parts.has(key)) continue;
    const value = given[key];
    if (value === undefined || value === false || (Array.isArray(value) && value.length === 0)) continue;
    refuse(`"${key}" in ${what}`, INSTEAD[key] ?? 'leave it out');
  }
}

import type { OperationNode, RootOperationNode } from 'kysely';
import { GRAMMAR, type Part, type Rule, type Sort } from './grammar.js';
import { insistOnLength, refuse } from './refuse.js';
import { copyValue } from './value.js';

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

/** Operators that hold together less than what stands in them: what is printed without marks would be another tree. */
const LOOSE = new Set(['BinaryOperationNode', 'UnaryOperationNode', 'AndNode', 'OrNode']);

/** What would belong to the whole if a select that is united with another were printed without marks around it. */
const TRAILING = ['with', 'orderBy', 'limit', 'offset', 'setOperations'];

/** A node of ours: plain, made here, and of nothing that somebody else holds. */
export interface FreshNode {
  kind: string;
  [part: string]: unknown;
}

function refuseNode(kind: unknown, sort: string): never {
  if (kind === 'RawNode') return refuse('a raw SQL fragment', 'it could hold any query; say it with the query builder');
  if (kind === 'UsingNode') return refuse('another table in a write', 'read first, then write by id');
  const what = String(kind).replace(/Node$/, '');
  return refuse(
    `a ${what} where the query has ${/^[aeiou]/.test(sort) ? 'an' : 'a'} ${sort}`,
    'say it with select, join, subquery, with, insert, update or delete',
  );
}

function listOf(value: unknown, key: string): readonly unknown[] {
  if (!Array.isArray(value)) return refuse(`"${key}" that is no list`, 'build the query with the query builder');
  // Its length is read once, and so is each of its items, below.
  const { length } = value;
  return Array.from({ length }, (_, i) => value[i]);
}

function readPart(part: Part, value: unknown, key: string, depth: number): unknown {
  if ('node' in part) return readNode(value, part.node, depth);
  if ('nodes' in part) return listOf(value, key).map((item) => readNode(item, part.nodes, depth));
  if ('value' in part) return copyValue(value);
  if ('values' in part) return listOf(value, key).map(copyValue);
  if ('texts' in part) {
    const [text, ...more] = listOf(value, key);
    return more.length === 0 && part.texts.includes(text as string) ? [text] : refuseNode('RawNode', '');
  }
  if ('words' in part) return part.words.includes(value as string) ? value : refuse(`"${String(value)}" as ${key}`, `allowed is ${part.words.join(', ')}`);
  if (typeof value !== 'string') return refuse(`a ${key} that is no text`, 'build the query with the query builder');
  if ('name' in part) insistOnLength(value);
  return value;
}

function readNode(value: unknown, sort: string, depth: number): FreshNode {
  if (depth > MAX_DEPTH) return refuse(`a query that is nested more than ${MAX_DEPTH} deep`, 'write it in parts');
  if (typeof value !== 'object' || value === null) return refuse(`a ${sort} that is no node`, 'build the query with the query builder');
  const given = value as Record<string, unknown>;
  const kind = given.kind;
  const rule = GRAMMAR.get(sort)?.get(kind as string);
  if (!rule) return refuseNode(kind, sort);
  const fresh = readParts(given, rule, depth + 1);
  const apart = sort === 'operand' ? LOOSE.has(fresh.kind) : sort === 'setOperand' && fresh.kind !== 'ParensNode' && TRAILING.some((part) => part in fresh);
  return apart ? inParens(fresh) : fresh;
}

/** Each part of a node is read once. */
function readParts(given: Record<string, unknown>, rule: Rule, depth: number): FreshNode {
  const fresh: FreshNode = { kind: rule.kind };
  for (const key in given) {
    if (key === 'kind') continue;
    const part = Object.hasOwn(rule.parts, key) ? rule.parts[key] : undefined;
    const value = given[key];
    if (value === undefined || (!part && (value === false || (Array.isArray(value) && value.length === 0)))) continue;
    if (!part) return refuse(`"${key}" in a ${rule.kind.replace(/(Query)?Node$/, '').toLowerCase()}`, INSTEAD[key] ?? 'leave it out');
    fresh[key] = readPart(part, value, key, depth);
  }
  for (const key in rule.parts) {
    if (rule.parts[key]?.needed && !Object.hasOwn(fresh, key))
      return refuse(`a ${rule.kind.replace(/Node$/, '')} without "${key}"`, 'build the query with the query builder');
  }
  if (fresh.kind === 'RawNode') fresh.parameters = [];
  if (fresh.kind === 'ValueNode' && fresh.immediate) insistOnWritable(fresh);
  if (fresh.kind === 'BinaryOperationNode') setApart(fresh);
  return fresh;
}

/** What is written out is a number, or a word; text is a parameter always, however a session reads what stands in quotes. */
function insistOnWritable(node: FreshNode): void {
  if (typeof node.value === 'number' && !Number.isFinite(node.value)) refuse(`the number ${node.value}`, 'write a finite one');
  node.immediate = node.value === null || ['boolean', 'number', 'bigint'].includes(typeof node.value);
}

const inParens = (node: FreshNode): FreshNode => ({ kind: 'ParensNode', node });

/** The right side of an operator in marks of its own; that of `between` is two, joined by a word. */
function setApart(operation: FreshNode): void {
  const right = operation.rightOperand as FreshNode;
  const isBetween = String((operation.operator as FreshNode).operator).startsWith('between');
  if (isBetween && right.kind !== 'AndNode') refuse('a between without two bounds', 'write eb.between(field, from, to)');
  if (!isBetween && LOOSE.has(right.kind)) operation.rightOperand = inParens(right);
}

/**
 * Reads what a query builder hands over into nodes of our own, each part once, by the grammar: what is checked, narrowed and compiled
 * afterwards is this and nothing else.
 *
 * @throws LintelError `scope-refused`, `bad-value`.
 */
export function readQuery<N extends RootOperationNode>(node: N, sort: Sort = 'statement'): N {
  return readNode(node, sort, 0) as OperationNode as N;
}

import type { RootOperationNode } from 'kysely';
import { GRAMMAR, type Part, type Rule } from './grammar.js';
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

/** Reads one part of a node: once, into something of ours. */
type ReadPart = (value: unknown, depth: number) => unknown;

/** A rule as it is followed. */
interface Steps {
  readonly kind: string;
  readonly parts: ReadonlyMap<string, ReadPart>;
  readonly needed: readonly string[];
}

type Sorts = Map<string, Map<string, Steps>>;

function listOf(value: unknown, key: string, read: ReadPart, depth: number): unknown[] {
  if (!Array.isArray(value)) return refuse(`"${key}" that is no list`, 'build the query with the query builder');
  // Its length is read once, and so is each of its items.
  const { length } = value;
  const items: unknown[] = [];
  for (let i = 0; i < length; i++) items.push(read(value[i], depth));
  return items;
}

function insistOnWord(value: unknown, words: readonly unknown[], key: string): unknown {
  return words.includes(value) ? value : refuse(`"${String(value)}" as ${key}`, `allowed is ${words.join(', ')}`);
}

function insistOnText(value: unknown, key: string): string {
  return typeof value === 'string' ? value : refuse(`a ${key} that is no text`, 'build the query with the query builder');
}

function readerOf(part: Part, key: string, sorts: Sorts): ReadPart {
  if ('node' in part) return nodeReader(part.node, sorts);
  if ('nodes' in part) {
    const read = nodeReader(part.nodes, sorts);
    return (value, depth) => listOf(value, key, read, depth);
  }
  if ('value' in part) return copyValue;
  if ('values' in part) return (value) => listOf(value, key, copyValue, 0);
  if ('texts' in part) return (value) => listOf(value, key, (text) => (part.texts.includes(text as string) ? text : refuseNode('RawNode', '')), 0).slice(0, 1);
  if ('words' in part) return (value) => insistOnWord(value, part.words, key);
  if ('word' in part) return (value) => insistOnText(value, key);
  return (value) => {
    const text = insistOnText(value, key);
    insistOnLength(text);
    return text;
  };
}

function nodeReader(sort: string, sorts: Sorts): ReadPart {
  const rules = sorts.get(sort);
  if (!rules) throw new TypeError(`the grammar has no sort of place "${sort}"`);
  const [isOperand, isUnited] = [sort === 'operand', sort === 'setOperand'];
  return (value, depth) => {
    if (depth > MAX_DEPTH) return refuse(`a query that is nested more than ${MAX_DEPTH} deep`, 'write it in parts');
    if (typeof value !== 'object' || value === null) return refuse(`a ${sort} that is no node`, 'build the query with the query builder');
    const { kind } = value as FreshNode;
    const steps = rules.get(kind);
    if (!steps) return refuseNode(kind, sort);
    const fresh = follow(steps, value as FreshNode, depth + 1);
    const apart = isOperand ? LOOSE.has(fresh.kind) : isUnited && fresh.kind !== 'ParensNode' && TRAILING.some((part) => part in fresh);
    return apart ? inParens(fresh) : fresh;
  };
}

/** Each part of a node is read once; a part that its rule does not have is refused, unless it says nothing. */
function follow({ kind, parts, needed }: Steps, given: FreshNode, depth: number): FreshNode {
  const fresh: FreshNode = { kind };
  for (const key in given) {
    if (key === 'kind') continue;
    const value = given[key];
    if (value === undefined) continue;
    const read = parts.get(key);
    if (read) fresh[key] = read(value, depth);
    else if (value !== false && !(Array.isArray(value) && value.length === 0))
      refuse(`"${key}" in a ${kind.replace(/(Query)?Node$/, '').toLowerCase()}`, INSTEAD[key] ?? 'leave it out');
  }
  for (let i = 0; i < needed.length; i++)
    if (fresh[needed[i] as string] === undefined) refuse(`a ${kind.replace(/Node$/, '')} without "${needed[i]}"`, 'build the query with the query builder');
  if (kind === 'RawNode') fresh.parameters = [];
  else if (kind === 'BinaryOperationNode') setApart(fresh);
  else if (kind === 'ValueNode' && fresh.immediate) insistOnWritable(fresh);
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

/** Every sort of place, with the steps for each kind of node that it takes; those that stand for one rule share them. */
function sortsOf(): Sorts {
  const sorts: Sorts = new Map([...GRAMMAR.keys()].map((sort) => [sort, new Map()]));
  const known = new Map<Rule, Steps>();
  const stepsFor = (rule: Rule): Steps => {
    const steps = known.get(rule);
    if (steps) return steps;
    const parts = Object.entries(rule.parts);
    const made = {
      kind: rule.kind,
      parts: new Map(parts.map(([key, part]) => [key, readerOf(part, key, sorts)])),
      needed: parts.filter(([, { needed }]) => needed).map(([key]) => key),
    };
    known.set(rule, made);
    return made;
  };
  for (const [sort, rules] of GRAMMAR) for (const [kind, rule] of rules) sorts.get(sort)?.set(kind, stepsFor(rule));
  return sorts;
}

const readStatement = nodeReader('statement', sortsOf());

/**
 * Reads what a query builder hands over into nodes of our own, each part once, by the grammar: what is checked, narrowed and compiled
 * afterwards is this and nothing else.
 *
 * @throws LintelError `scope-refused`, `bad-value`.
 */
export function readQuery<N extends RootOperationNode>(node: N): N {
  return readStatement(node, 0) as N;
}

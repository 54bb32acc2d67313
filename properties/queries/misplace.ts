/* What a builder would never write: nodes where none belongs, nodes that are something else when they are read again, and lists that change. */
import type { OperationNode, RootOperationNode } from 'kysely';
import { sql } from 'kysely';
import type { Choices } from '../harness/tape.js';

type AnyNode = { kind: string; [part: string]: any };

const identifier = (name: unknown) => ({ kind: 'IdentifierNode', name });
const table = (name: string) => ({ kind: 'TableNode', table: { kind: 'SchemableIdentifierNode', identifier: identifier(name) } });
const raw = (text: string) => sql.raw(text).toOperationNode() as unknown as AnyNode;
const SECRET = "(select min(name) from hives where id = 'h3')";
const reference = (column: unknown) => ({ kind: 'ReferenceNode', column });

/** What would tell something if it were compiled. */
const FOREIGN: readonly (() => AnyNode)[] = [
  () => table('hives'),
  () => table('lintel_person'),
  () => raw(SECRET),
  () => reference(raw(SECRET)),
  () => reference({ kind: 'ColumnNode', column: raw(SECRET) }),
  () => ({ kind: 'ColumnNode', column: raw(SECRET) }),
  () => reference({ kind: 'ColumnNode', column: identifier('secret') }),
  ...['hives', 'visits', 'entries', 'notes'].map((one) => () => ({ kind: 'FunctionNode', func: 'concat', arguments: [table(one)] })),
  () => ({ kind: 'FunctionNode', func: 'concat', arguments: [{ kind: 'ReferenceNode', table: table('hives'), column: { kind: 'SelectAllNode' } }] }),
  () => ({ kind: 'FunctionNode', func: 'min(secret) || lower', arguments: [{ kind: 'ValueNode', value: 'x' }] }),
  () => ({ kind: 'AggregateFunctionNode', func: 'max', aggregated: [table('hives')] }),
  () => ({ kind: 'AggregateFunctionNode', func: 'count', aggregated: [raw('secret')] }),
  () => ({ kind: 'ValueNode', value: "x' || secret || 'x", immediate: true }),
  () => ({ kind: 'ListNode', items: [raw(SECRET)] }),
  () => ({ kind: 'ValueListNode', values: [raw(SECRET)] }),
  () => ({ kind: 'OperatorNode', operator: '= any (select secret from hives) or true or 1 =' }),
  () => ({ kind: 'AliasNode', node: table('hives'), alias: raw('x') }),
  () => ({ kind: 'IdentifierNode', name: { toString: () => 'secret', replace: () => 'secret' } }),
  () => ({ kind: 'JoinNode', joinType: 'LateralInnerJoin', table: table('hives') }),
];

/** Says one thing when it is read first, and another afterwards. */
function turning(first: AnyNode, then: AnyNode): AnyNode {
  let reads = 0;
  const parts = new Set([...Object.keys(first), ...Object.keys(then)]);
  const turned: AnyNode = { kind: '' };
  const say = (part: string) => {
    reads += 1;
    return (reads <= parts.size ? first : then)[part];
  };
  for (const part of parts) Object.defineProperty(turned, part, { enumerable: true, get: () => say(part) });
  return turned;
}

/** A list that is another when it is read again. */
function turningList(first: readonly unknown[], then: readonly unknown[]): unknown[] {
  const reads = new Map<PropertyKey, number>();
  return new Proxy([...first], {
    get(target, key) {
      const count = (reads.get(key) ?? 0) + 1;
      reads.set(key, count);
      return Reflect.get(count > 1 && key in then ? then : target, key);
    },
  });
}

const isNode = (value: unknown): value is AnyNode => typeof value === 'object' && value !== null && typeof (value as AnyNode).kind === 'string';

/** Every place in a query at which a node stands, and every list of nodes. */
function placesIn(node: AnyNode, found: { holder: any; key: string | number }[] = []): { holder: any; key: string | number }[] {
  for (const [key, part] of Object.entries(node)) {
    if (key === 'value') continue;
    if (isNode(part)) {
      found.push({ holder: node, key });
      placesIn(part, found);
    } else if (Array.isArray(part) && part.some(isNode)) {
      found.push({ holder: node, key });
      part.forEach((item, i) => {
        if (!isNode(item)) return;
        found.push({ holder: part, key: i });
        placesIn(item, found);
      });
    }
  }
  return found;
}

const copyOf = (value: any): any =>
  Array.isArray(value)
    ? value.map(copyOf)
    : isNode(value)
      ? Object.fromEntries(Object.entries(value).map(([key, part]) => [key, key === 'value' ? part : copyOf(part)]))
      : value;

/** Another query of the same builder, with one node of it put where none belongs, or made to turn. */
export function misplaced<N extends RootOperationNode>(query: N, c: Choices): N {
  const copy = copyOf(query);
  const places = placesIn(copy);
  const { holder, key } = c.of(places);
  const there = holder[key];
  if (Array.isArray(there)) {
    holder[key] = turningList(
      there,
      there.map(() => c.of(FOREIGN)()),
    );
    return copy;
  }
  const other = c.oneIn(3) ? copyOf(c.of(places.filter((place) => isNode(place.holder[place.key]))).holder) : c.of(FOREIGN)();
  const foreign = isNode(other) ? other : c.of(FOREIGN)();
  holder[key] = c.oneIn(2) ? foreign : turning(there as OperationNode as unknown as AnyNode, foreign);
  return copy;
}

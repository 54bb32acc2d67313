/* Every comparison of every type with every value of that type, in one charter: rule and rows know each other by a name. */
import type { Case, Row } from './generate.js';
import { ORDERED, VALUES } from './generate.js';
import { fieldsIn, HERE, INSTANTS, KIND_NAMES, KINDS, type KindName, kindData } from './world.js';

type Comparison = Readonly<Record<string, unknown>>;

/** All that a field of the hive may be compared with, each also under a "not". */
function comparisonsOf(field: string, type: string, same: readonly string[]): Comparison[] {
  const values = VALUES[type] as readonly unknown[];
  const facts = [`attributes.${type}`, 'attributes.missing', 'attributes.wrong'].map((me) => ({ me }));
  const rights = [...values.map((value) => ({ value })), ...facts, { context: type }, { context: 'missing' }, ...same.map((other) => ({ field: other }))];
  const isOrdered = type !== 'boolean' && type !== 'uuid';
  const ops = isOrdered ? ORDERED : (['is'] as const);
  const lists = isOrdered ? [[], values.slice(0, 1), values.slice(1, 4)].map((value) => ({ op: 'in', field, to: { value } })) : [];
  const plain = [{ op: 'isEmpty', field }, ...ops.flatMap((op) => rights.map((to) => ({ op, field, to }))), ...lists];
  return plain.flatMap((p) => [p, { op: 'not', of: p }]);
}

/** What a cell may hold: every value and none, and instants also a little later than a record in memory tells apart. */
function cellsOf(type: string): unknown[] {
  const values = VALUES[type] as readonly unknown[];
  return [...values, ...(type === 'instant' ? INSTANTS.map((at) => at.replace('Z', '499Z')) : []), null];
}

/** Rows in one draw: as many as a page may have. */
const SO_MANY = 1000;
const TYPED = { other: [], level: [], price: [], at: ['until'], open: [], code: [] } as const;
export type ComparedField = keyof typeof TYPED;
export const COMPARED = Object.keys(TYPED) as ComparedField[];
const EMPTY = Object.fromEntries(fieldsIn('hive').map(([name, { role }]) => [name, role === 'people' ? [] : null]));

/**
 * One hive for each comparison and value of its field, named after the comparison; who asks reads those for which it holds, or, as a limit, those for which it does
 * not.
 */
export function everyComparison(as: 'reach' | 'limit', compared: readonly ComparedField[] = COMPARED): Case {
  const fields = Object.entries(KINDS.hive.fields);
  const typeOf = (name: string) => fields.find(([field]) => field === name)?.[1].type as string;
  const all = compared.flatMap((field) => comparisonsOf(field, typeOf(field), TYPED[field]).map((p) => ({ field, p })));
  const hive = all.flatMap(({ field }, i): Row[] =>
    cellsOf(typeOf(field)).map((value, k) => ({
      ...EMPTY,
      id: `h${i}-${k}`,
      tenantId: HERE,
      name: `c${i}`,
      until: INSTANTS[1],
      [field]: value,
    })),
  );
  const each = { op: 'or', of: all.map(({ p }, i) => ({ op: 'and', of: [{ op: 'is', field: 'name', to: { value: `c${i}` } }, p] })) };
  const kind = (name: KindName) => ({ ...kindData(name, ['read']), reaches: name === 'hive' ? { each } : {} });
  const main = { label: 'Main', may: { 'hive.read': [as === 'reach' ? 'each' : 'tenant'] } };
  const held = { actions: ['read'], where: each, sentence: 'no', before: false, lasting: true };
  const limits = as === 'limit' ? { hive: { held } } : {};
  const charter = { kinds: Object.fromEntries(KIND_NAMES.map((name) => [name, kind(name)])), roles: { main }, limits };
  const known = Object.fromEntries(Object.entries(VALUES).map(([type, values]) => [type, values[1]]));
  const who = { subject: 'member', attributes: { ...known, wrong: {} }, units: [], groups: [], bases: {}, opened: undefined, context: known } as const;
  const assigned = [{ via: 'me', role: 'main', anchor: 'tenant', anchorId: HERE }] as const;
  const draws = Array.from({ length: Math.ceil(hive.length / SO_MANY) }, (_, i) => {
    const data = { plot: [], hive: hive.slice(i * SO_MANY, (i + 1) * SO_MANY), visit: [], note: [] };
    return { data, who: { ...who, assigned }, writes: [], raw: [] };
  });
  const text = 'text';
  const types = { tenant: text, person: text, unit: text, group: text, plot: text, hive: text, visit: text, note: text } as const;
  return { charter, types, sent: false, draws };
}

/** What is done wrong; then, three by three: in which file this text becomes that. */
export type Planted = readonly [what: string, ...edits: string[]];

/** The guards of scope, each taken out: queries of all shapes have to notice. */
export const SCOPE_GUARDS: readonly Planted[] = [
  ['a pattern is left as it is', 'scoping/writer.ts', 'open % 2 === 1 ?', 'open % 2 === 2 ?'],
  [
    'a condition that can fail stands as it is',
    'scoping/narrow/weigh.ts',
    'node: total ? node : this.behind(node, level, grouped)',
    'node: total ? node : node',
  ],
  ['a select of several rows counts as one that cannot fail', 'scoping/narrow/weigh.ts', 'total: query.total && isSingle(query)', 'total: query.total'],
  ['sums count as what cannot fail', 'scoping/language/operators.ts', 'isTotal: never };', 'isTotal };'],
  [
    'a pattern out of a column counts as what cannot fail',
    'scoping/narrow/weigh.ts',
    '{ ...this.weigh(node, level), total: false }',
    'this.weigh(node, level)',
  ],
  [
    'a piece of SQL of the application counts as what cannot fail',
    'scoping/narrow/weigh.ts',
    "return { type: 'unknown', total: false };\n  }\n\n  /** What an",
    "return { type: 'integer', total: true };\n  }\n\n  /** What an",
  ],
  ['texts of two collations compare', 'scoping/language/static.ts', '&& commonCollation(all) !== MIXED', ''],
  [
    'numbers of a smaller type have no ends',
    'scoping/language/functions.ts',
    "abs: { arity: [1, 1], gives: like(ofType('decimal')) }",
    "abs: { arity: [1, 1], gives: like(ofType('decimal', 'integer')) }",
  ],
  ['a query in the place of a table says nothing of its rows', 'scoping/narrow/nodes.ts', 'source.place || source.query ?', 'source.place ?'],
  ['a group is asked before there is one', 'scoping/narrow/weigh.ts', 'if (grouped) return this.#barrier(ofGroups(), node);', 'if (grouped) return node;'],
  ['what is written is asked of rows out of reach', 'scoping/write/target.ts', 'inReach: () => reached().toNode() as never,\n', ''],
  [
    'a table may stand for a value',
    'scoping/read/grammar.ts',
    '  SelectQueryNode: SELECT,\n  // What the builder',
    '  TableNode: TABLE,\n  SelectQueryNode: SELECT,\n  // What the builder',
    'scoping/narrow/weigh.ts',
    "      case 'RawNode':\n",
    "      case 'TableNode':\n        return VALUE;\n      case 'RawNode':\n",
  ],
  [
    'raw SQL may stand for a name',
    'scoping/read/grammar.ts',
    "const named = place('name', () => NAME);",
    "const named = place('name', () => ({ ...NAME, RawNode: (n) => n as never }));",
    'scoping/narrow/weigh.ts',
    'const { is } = meaningIn(node, level);',
    "const { is } = JSON.stringify(node).includes('RawNode') ? { is: VALUE } : meaningIn(node, level);",
  ],
  [
    'a node is read again after it was looked at',
    'scoping/read/node.ts',
    'return rule ? rule(value as Given, depth + 1) : refuseNode(kind, sort);',
    "return rule ? (rule(value as Given, depth + 1), kind === 'ReferenceNode' || kind === 'FunctionNode' ? (value as never) : rule(value as Given, depth + 1)) : refuseNode(kind, sort);",
  ],
  [
    'a list is read again after it was looked at',
    'scoping/read/node.ts',
    'items.push(read(value[i], depth));',
    'items.push((read(value[i], depth), value[i]));',
  ],
  [
    'columns that the charter does not declare are there beside a table of which nothing is known',
    'scoping/narrow/sources.ts',
    '      source.place?.used.add(column);\n      if (source.columns && !found) continue;',
    '      if (source.columns && !found) continue;\n      source.place?.used.add(column);',
  ],
  ['a masked column stands as it is', 'scoping/narrow/narrow.ts', '|| !this.#boundary.showsPlainly(place.kind, place.used)', ''],
  [
    'whatever is in a select that stands in a condition counts as what cannot fail',
    'scoping/narrow/weigh.ts',
    "return { type: 'boolean', total: this.#select(inside, level).total };",
    "this.#select(inside, level);\n    return { type: 'boolean', total: true };",
  ],
];

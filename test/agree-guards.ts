import type { Planted } from './scope-guards.js';

/** Errors that the comparison of engines has to find. */
export const AGREE_GUARDS: readonly Planted[] = [
  [
    'a tenant condition is dropped',
    'scoping/boundary.ts',
    'return this.#condition(this.#ofTenant(kind), kind, alias, (wall) => wall.tenant(kind, alias));',
    "return verbatim('true');",
  ],
  ['an and becomes an or', 'scoping/writer.ts', "(p.op === 'and') === wanted ? ' and ' : ' or '", "' or '"],
  [
    'what is empty is let through',
    'scoping/writer.ts',
    'return wanted ? yes : sqlText`(${yes}) is not true`',
    'return wanted ? sqlText`(${yes}) is not false` : sqlText`(${yes}) is not true`',
  ],
  [
    'the record as it becomes is forgotten',
    'scoping/write/checks.ts',
    'if (owner === undefined) return [...values, reaches(target, action as string)];',
    'if (owner === undefined) return values;',
  ],
  [
    'an alias is forgotten',
    'scoping/writer.ts',
    'if (kind.tenantField !== undefined) return this.column(kind, kind.tenantField, alias);',
    'if (kind.tenantField !== undefined) return name((kind.fields[kind.tenantField] as FieldShape).column);',
  ],
  ['a missing fact counts for the person', 'predicate/specialise.ts', "bias === 'shrink' ? NEVER : ALWAYS", 'ALWAYS'],
  [
    'what is empty is lost in a negation',
    'scoping/writer.ts',
    'return wanted ? yes : sqlText`(${yes}) is not true`',
    'return wanted ? yes : sqlText`not (${yes})`',
  ],
  [
    'a parent is sought in every tenant',
    'scoping/writer.ts',
    'return own && theirs ? sqlText`${this.sameTenant(theirs, own)} and ${isNamed}` : isNamed;',
    'return isNamed;',
  ],
  [
    'what has its tenant through another is of every tenant',
    'predicate/shape.ts',
    "return { op: 'parent', via, where: ofTenant(fields[via]?.to as string, shapes, tenantId) };",
    "return { op: 'parent', via, where: ALWAYS };",
  ],
  [
    'what has its tenant through another is looked up in every tenant',
    'scoping/policies/rule.ts',
    `as "p" where \${inline(this.tenant(kind, 'p'))};`,
    'as "p";',
  ],
  [
    'a row that comes to be in no tenant is not looked at',
    'scoping/write/write.ts',
    'shape.throughField === undefined ? sqlText',
    'shape.throughField !== "" ? sqlText',
  ],
  ['a mask is forgotten', 'scoping/boundary.ts', 'return shows === undefined ? column : sqlText`case when ${shows} then ${column} end`', 'return column'],
  ['a written parent is not looked for', 'scoping/write/checks.ts', "if (role === 'parent') return", "if (role === 'parent' && sign === '') return"],
  [
    'an anchor is ignored',
    'standing/grants.ts',
    "if (anchor.on === 'tenant') return { op: 'always' };",
    "if (anchor.on !== 'record') return { op: 'always' };",
  ],
  ['ids in a list are compared as they come', 'predicate/evaluate.ts', 'wanted.includes(readValue(type, one) as Scalar)', 'wanted.includes(one as Scalar)'],
  ['units are taken for what the membership keeps', 'predicate/specialise.ts', 'readEach(type, inside.flat())', 'inside.flat() as Scalar[]'],
  ['who asks is taken for what the membership keeps', 'standing/standing.ts', 'return readValue(type, this.userId) ?? null;', 'return this.userId ?? null;'],
  ['an id is written as it came', 'scoping/write/fitting.ts', "role !== 'plain' || type === 'uuid' ? read : value", 'value'],
  ['a number is compared as its column would hold it', 'scoping/writer.ts', "field.type === 'integer' ? '::bigint' : ''", "''"],
  ['a column that pads is taken', 'store/check.ts', "text: ['text',", "text: ['bpchar', 'text',"],
  ['a column that rounds is taken', 'store/check.ts', 'found.places != null && found.places < (', 'found.places != null && found.places < 0 * ('],
  [
    'ids in a narrower column are not widened',
    'scoping/policies/rule.ts',
    '::${this.idType(kind)} from ${inline(this.qualified(kind))}',
    ' from ${inline(this.qualified(kind))}',
  ],
  ['what is read after a write is not narrowed', 'scoping/boundary.ts', "where ${this.#held(kind, 't', holdsBack)})`", 'where true)`'],
  ['a list of people changes past the action that its field names', 'scoping/linking.ts', "and ${boundary.reached(kind, action, 't')}", ''],
  [
    'whoever is named is linked',
    'scoping/linking.ts',
    'const unknown = people.find((one) => !found.includes(one));',
    'const unknown = people.find((one) => !found && one);',
  ],
];

/** Errors that it has to find where a MariaDB is among the engines. */
export const MARIADB_GUARDS: readonly Planted[] = [
  [
    'MariaDB: a collation that pads is taken',
    'store/mariadb.ts',
    'collation === null ? null : collation === BINARY',
    'collation === null ? null : /_bin$/.test(collation)',
  ],
  [
    'MariaDB: what became of rows is not looked at',
    'scoping/write/steps.ts',
    'if (failing && (await on.count(failing(written))) === 0) return;',
    'if (failing) return;',
  ],
  [
    'MariaDB: instants are compared finer than to the millisecond',
    'scoping/mariadb.ts',
    "field.type === 'instant' ? sqlText`cast(${column} as datetime(3))` : column",
    'column',
  ],
  [
    'MariaDB: what is written is not what was reached',
    'scoping/write/steps.ts',
    'const reached = steps.reached ? ids(await on.rows(steps.reached)) : ids(changing);',
    'const reached = steps.reached ? ids(await on.rows(steps.reached)).slice(1) : ids(changing);',
  ],
];

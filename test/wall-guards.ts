import type { Planted } from './scope-guards.js';

const [GROUND, DDL, REACH] = ['scoping/policies/ground.ts', 'scoping/policies/ddl.ts', 'scoping/policies/reach.ts'];

/** The guards of the row policies, each taken out: whoever attacks them from inside a connection has to get through. */
export const WALL_GUARDS: readonly Planted[] = [
  ['what is not declared may be read', DDL, 'grant select (${list}), insert (${list}), update (${list}), delete on', 'grant select, insert, update, delete on'],
  ['what is asked without a signature is answered', GROUND, ') is not true then return false; end if;', ') is false then return false; end if;'],
  ['statements stay prepared', GROUND, "  execute 'deallocate all';\n", ''],
  ['a mark is bound to the key of a row', DDL, 'row(${columns})::text', '${this.#column(this.#shape.idField, alias)}::text'],
  ['a standing is bound to its transaction alone', GROUND, " || int8send(currval('${WALL}.turn'))`", '`'],
  [
    'temporary objects may be made, and stand before others',
    DDL,
    'revoke temporary, create on database',
    'revoke create on database',
    GROUND,
    "  execute 'discard temp';\n",
    '',
    GROUND,
    "literal(['pg_catalog', ...schemasOf(charter), 'pg_temp'].join(', '))",
    "literal(['pg_temp', 'pg_catalog', ...schemasOf(charter)].join(', '))",
  ],
  [
    'what a connection claims to hold is held',
    REACH,
    "${once(`told('holds', ${literal(key)})`, undefined, claimed(key))} is not null`",
    '${verbatim(claimed(key))}`',
  ],
  ['a row that is locked is looked up in a list from before', REACH, "action === 'read' && image === 'before'", "action !== 'create' && image === 'before'"],
];

/** Guards of what scope asks of the wall, each taken out: a test has to notice. */
export const WALLED_GUARDS: readonly Planted[] = [
  ['a new owner’s right is asked of what the giver sees', 'scoping/boundary.ts', 'if (!looksAside(where)) return', 'if (looksAside(where) || true) return'],
  ['what does another thing is called the same', 'scoping/policies/rule.ts', '`${plain.slice(0, 44)}_${hashOf([does]).slice(0, 12)}`', 'plain'],
  [
    'what is asked counts in every transaction',
    GROUND,
    "`${BOUND} || ' asks ' || question`",
    "`' asks ' || question`",
    'scoping/policies/carry.ts',
    '`${toHex((row as { turn: Uint8Array }).turn)} asks ${question}`',
    "`${row ? '' : toHex(key.inner)} asks ${question}`",
  ],
];

import { anyOf, comparesTotally, joinedBy, joinsTotally, MIXED, type Static, type StaticType } from './static.js';

/** What a function makes of its arguments. It looks at nothing but them, whatever it is called with. */
export interface FunctionRule {
  /** How many it takes, at least and at most. */
  readonly arity: readonly [least: number, most: number];
  readonly gives: (values: readonly Static[]) => Static;
  /** Databases that do not have it, or mean something else by it. */
  readonly notOn?: readonly ('sqlite' | 'mariadb')[];
}

const MANY = 100;
const isTotal = (values: readonly Static[]) => values.every(({ total }) => total);
const ofType =
  (...types: StaticType[]) =>
  (values: readonly Static[]) =>
    values.every(({ total, type }) => total && (type === 'value' || types.includes(type)));
const fixed =
  (type: StaticType, total: (values: readonly Static[]) => boolean) =>
  (values: readonly Static[]): Static => ({ type, total: total(values) });
/** As its first argument is. */
const like =
  (total: (values: readonly Static[]) => boolean, growth = 1) =>
  (values: readonly Static[]): Static => {
    const first = values[0] as Static;
    return { ...first, total: total(values), ...(first.type === 'text' && { joined: (first.joined ?? 1) * growth }) };
  };
const never = () => false;
/** In two collations at once there is no telling which letters are large. */
const inOneCollation = (values: readonly Static[]) => ofType('text')(values) && values.every(({ collation }) => collation !== MIXED);
const picks = (values: readonly Static[]): Static => anyOf(values);
const compares = (values: readonly Static[]): Static => ({ ...anyOf(values), total: comparesTotally(values) });

/** Every function that a query may use: one line says what it takes, what comes of it, when it cannot fail, and where there is none. */
export const FUNCTIONS: Readonly<Record<string, FunctionRule>> = {
  // guard abs-of-integer-partial by queries: The absolute value of the least integer would fail on hidden rows.
  abs: { arity: [1, 1], gives: like(/* guard abs-of-integer-partial (replaced) */ ofType('decimal')) },
  char_length: { arity: [1, 1], gives: fixed('integer', ofType('text')), notOn: ['sqlite'] },
  coalesce: { arity: [1, MANY], gives: picks },
  concat: {
    arity: [1, MANY],
    gives: (values) => ({ type: 'text', total: joinsTotally(values), collation: anyOf(values).collation ?? MIXED, joined: joinedBy(values) }),
  },
  greatest: { arity: [1, MANY], gives: compares, notOn: ['sqlite'] },
  least: { arity: [1, MANY], gives: compares, notOn: ['sqlite'] },
  length: { arity: [1, 1], gives: fixed('integer', ofType('text')) },
  // A letter may take three in the other case.
  lower: { arity: [1, 1], gives: like(inOneCollation, 3) },
  nullif: { arity: [2, 2], gives: (values) => ({ ...(values[0] as Static), total: comparesTotally(values) }) },
  replace: { arity: [3, 3], gives: like(never) },
  round: { arity: [1, 2], gives: like(never) },
  trim: { arity: [1, 1], gives: like(ofType('text')) },
  upper: { arity: [1, 1], gives: like(inOneCollation, 3) },
};

const numbers = (values: readonly Static[]): Static => ({ type: 'decimal', total: ofType('integer')(values) });
const yes = fixed('boolean', ofType('boolean'));
/** A count, of whatever there is. */
const counts = fixed('integer', isTotal);

/** Every aggregate and window function that a query may use. */
export const AGGREGATES: Readonly<Record<string, FunctionRule>> = {
  avg: { arity: [1, 1], gives: numbers },
  bool_and: { arity: [1, 1], gives: yes, notOn: ['sqlite', 'mariadb'] },
  bool_or: { arity: [1, 1], gives: yes, notOn: ['sqlite', 'mariadb'] },
  count: { arity: [1, 1], gives: counts },
  dense_rank: { arity: [0, 0], gives: counts },
  max: { arity: [1, 1], gives: compares },
  min: { arity: [1, 1], gives: compares },
  rank: { arity: [0, 0], gives: counts },
  row_number: { arity: [0, 0], gives: counts },
  sum: { arity: [1, 1], gives: numbers },
};

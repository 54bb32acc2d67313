import { anyOf, comparesTotally, joinedBy, joinsTotally, MIXED, type Static, type StaticType } from './static.js';

/** What an operator makes of its sides. A pattern is asked by itself. */
export interface Operator {
  /** Which sides it takes: one, two, two bounds, a list or a select on the right, a word that is written out, a pattern. */
  readonly takes: 'one' | 'two' | 'bounds' | 'list' | 'word' | 'pattern' | 'select';
  readonly gives: (sides: readonly Static[]) => StaticType;
  /** Databases that do not have it, or mean something else by it. */
  readonly notOn?: readonly ('sqlite' | 'mariadb')[];
  /** It fails on no values of these types. */
  readonly isTotal: (sides: readonly Static[]) => boolean;
}

const yesOrNo = (): StaticType => 'boolean';
const isTotal = (sides: readonly Static[]) => sides.every(({ total }) => total);
const areYesOrNo = (sides: readonly Static[]) => sides.every(({ total, type }) => total && (type === 'boolean' || type === 'value'));
const never = () => false;

const compares: Operator = { takes: 'two', gives: yesOrNo, isTotal: comparesTotally };
const among: Operator = { ...compares, takes: 'list' };
const isWord: Operator = { takes: 'word', gives: yesOrNo, isTotal };
/** Whether the pattern itself can fail is for whoever reads it. Not in two collations. */
const matches: Operator = {
  takes: 'pattern',
  gives: yesOrNo,
  isTotal: (sides) => isTotal(sides) && sides.every(({ type, collation }) => (type === 'text' || type === 'value') && collation !== MIXED),
};
/** Numbers have ends, and a division has no answer for nothing: it fails on some rows. */
// guard arithmetic-partial by queries: Arithmetic would be asked of hidden rows, and overflow there.
const reckons: Operator = { ...compares, gives: (sides) => anyOf(sides).type, /* guard arithmetic-partial */ isTotal: never };
const finds: Operator = { takes: 'select', gives: yesOrNo, isTotal };

/** Every operator that a query may use: one line says what it takes, what comes of it, and when it cannot fail. */
export const OPERATORS: Readonly<Record<string, Operator>> = {
  '=': compares,
  '!=': compares,
  '<>': compares,
  '<': compares,
  '<=': compares,
  '>': compares,
  '>=': compares,
  'is distinct from': { ...compares, notOn: ['mariadb'] },
  'is not distinct from': { ...compares, notOn: ['mariadb'] },
  between: { ...compares, takes: 'bounds' },
  in: among,
  'not in': among,
  is: isWord,
  'is not': isWord,
  like: matches,
  'not like': matches,
  ilike: { ...matches, notOn: ['sqlite', 'mariadb'] },
  'not ilike': { ...matches, notOn: ['sqlite', 'mariadb'] },
  // To MariaDB it is an "or".
  '||': { takes: 'two', gives: () => 'text', isTotal: joinsTotally, notOn: ['mariadb'] },
  '+': reckons,
  '-': reckons,
  '*': reckons,
  '/': reckons,
  '%': reckons,
};

/** Those with one side. */
export const PREFIXES: Readonly<Record<string, Operator>> = {
  not: { takes: 'one', gives: yesOrNo, isTotal: areYesOrNo },
  '-': { ...reckons, takes: 'one' },
  exists: finds,
  'not exists': finds,
};

/** What comes of an operator and its sides. */
export function operate(operator: Operator, sides: readonly Static[]): Static {
  const type = operator.gives(sides);
  const joined = type === 'text' ? joinedBy(sides) : 0;
  const collation = type === 'text' ? anyOf(sides).collation : undefined;
  return { type, total: operator.isTotal(sides), ...(joined > 0 && { joined }), ...(collation !== undefined && { collation }) };
}

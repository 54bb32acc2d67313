/* What stands in the place of guards that cannot be taken out: each gets what makes the sound value. */
import { sql } from 'kysely';
import { ALWAYS, type Predicate } from '../../src/predicate/index.js';
import { Fragment, verbatim } from '../../src/scoping/fragment.js';

type Replace<T> = (make: () => T) => unknown;
const replacement = <T>(replace: Replace<T>): Replace<any> => replace;
let tries = 0;

/** With another beginning and end of its text. */
function rewrapped({ texts, values }: Fragment, change: (text: string, at: 'begin' | 'end') => string): Fragment {
  const begun = texts.map((text, i) => (i === 0 ? change(text, 'begin') : text));
  return new Fragment(
    begun.map((text, i) => (i === texts.length - 1 ? change(text, 'end') : text)),
    values,
  );
}

export const REPLACEMENTS: Readonly<Record<string, Replace<any>>> = {
  // accounts
  'link-once': () => sql`update lintel_link set asked_at = asked_at`,
  'tries-by-person': replacement<string>((make) => `${make()} ${tries++ % 2}`),
  // agree
  'tenant-condition': () => verbatim('true'),
  'empty-compares-false': replacement<Fragment>((make) => rewrapped(make(), (text, at) => (at === 'begin' ? `(${text}` : `${text}) is not false`))),
  'negation-of-empty': () => (yes: Fragment) => rewrapped(yes, (text, at) => (at === 'begin' ? `not (${text}` : `${text})`)),
  'tenant-column-qualified': replacement<Fragment>((make) => rewrapped(make(), (text, at) => (at === 'begin' ? text.slice(text.indexOf('.') + 1) : text))),
  'tenant-through-parent': replacement<Predicate>(() => ALWAYS),
  'unit-anchor': replacement<Predicate>(() => ALWAYS),
  'padding-column-refused': replacement<readonly string[]>((make) => ['bpchar', ...make()]),
  // mariadb
  'reached-rows-written': replacement<readonly unknown[]>((make) => make().slice(1)),
  // arrival
  'source-keeps-its-gifts': () => sql<boolean>`false`,
  'provider-session-one-tenant': () => null,
  'attempt-of-this-browser': () => (of: object, now: number) => ({ ...of, nonce: '', verifier: '', back: '/', begun: now }),
  'bar-outlives-erased': () => (tx: any) => tx.deleteFrom('lintel_identity_bar'),
  // looks
  'trial-rolled-back': () => 'commit',
  // queries
  'abs-of-integer-partial': () => (values: readonly { total: boolean; type: string }[]) =>
    values.every(({ total, type }) => total && ['value', 'decimal', 'integer'].includes(type)),
  'table-is-no-value': replacement<unknown>((make) => {
    // In the grammar the rules of what may be a value; where values are weighed, a refusal.
    try {
      return { TableNode: (node: any) => structuredClone({ kind: 'TableNode', table: node.table }), ...(make() as object) };
    } catch {
      return { type: 'value', total: true };
    }
  }),
  'name-is-no-sql': replacement<any>((make) => {
    try {
      const made = make();
      return 'IdentifierNode' in made ? { ...made, RawNode: (node: unknown) => node } : made;
    } catch {
      return { is: { type: 'value', total: true }, sources: [] };
    }
  }),
  'node-read-once': () => (rule: (node: any, depth: number) => unknown, given: { kind: string }, depth: number) => {
    const made = rule(given, depth);
    return ['ReferenceNode', 'FunctionNode'].includes(given.kind) ? given : made;
  },
  'list-read-once': () => (read: (value: unknown, depth: number) => unknown, given: unknown, depth: number) => {
    read(given, depth);
    return given;
  },
  // wall
  'unsigned-question-refused': () => 'is false',
};
(globalThis as any).lintelReplacements = REPLACEMENTS;

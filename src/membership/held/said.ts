import { entryOf } from '../../base/index.js';
import { type AttributeData, type Charter, canonicalJson, readAttribute, type Setter } from '../../charter/index.js';

type BySource = Readonly<Record<string, Readonly<Record<string, unknown>>>>;

/** Under which name the member has said something themselves; under the empty one stands what people here have. */
export const SAID_BY: Readonly<Record<Exclude<Setter, 'source'>, string>> = { people: '', member: 'member' };

/** A fact about a member, and whose word it is. */
export interface Said {
  readonly value: unknown;
  readonly by: Setter;
}

/**
 * What is known of somebody by the charter, by name: of those who may say it, the first who does. Sources that say it differently say nothing, and nor does what is of no
 * such type.
 */
export function saidOf(attributes: Readonly<Record<string, AttributeData>>, bySource: BySource): Record<string, Said> {
  const own: readonly string[] = Object.values(SAID_BY);
  const brought = agreed(Object.fromEntries(Object.entries(bySource).filter(([source]) => !own.includes(source))));
  const said: Readonly<Record<Setter, Readonly<Record<string, unknown>>>> = {
    source: brought,
    people: bySource[SAID_BY.people] ?? {},
    member: bySource[SAID_BY.member] ?? {},
  };
  return Object.fromEntries(
    Object.entries(attributes).flatMap(([name, data]) => {
      const [first] = data.setBy.map((by): Said => ({ value: readAttribute(data, entryOf(said[by], name)), by })).filter(({ value }) => value !== undefined);
      return first ? [[name, first]] : [];
    }),
  );
}

/** Where the charter declares none, whatever is said counts. */
export const attributesOf = ({ data: { attributes } }: Charter, bySource: BySource): Record<string, unknown> =>
  attributes ? Object.fromEntries(Object.entries(saidOf(attributes, bySource)).map(([name, { value }]) => [name, value])) : agreed(bySource);

/** What sources say alike. Where two differ it is not known. */
function agreed(bySource: BySource): Record<string, unknown> {
  const [first = {}, ...others] = Object.values(bySource);
  if (others.length === 0) return first;
  const said = new Map<string, string[]>();
  for (const [name, value] of Object.values(bySource).flatMap(Object.entries)) said.set(name, [...(said.get(name) ?? []), canonicalJson(value)]);
  return Object.fromEntries([...said].flatMap(([name, [one, ...rest]]) => (rest.every((other) => other === one) ? [[name, JSON.parse(one as string)]] : [])));
}

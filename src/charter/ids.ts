import type { ValueType } from '../predicate/index.js';
import type { CharterData } from './data.js';
import type { FieldRole } from './field.js';

/** What is known by an id all over a charter. Records are so by kind. */
export type Identified = 'tenant' | 'person' | 'unit' | 'group';

const HOLDS: Partial<Readonly<Record<FieldRole, Identified>>> = {
  tenant: 'tenant',
  owner: 'person',
  maker: 'person',
  person: 'person',
  people: 'person',
  unit: 'unit',
  group: 'group',
};

/** Types that an id may have. */
export const ID_TYPES: readonly ValueType[] = ['uuid', 'text', 'integer'];

/** Every field that holds such an id, with its type and where it stands. */
export function idFields(kinds: CharterData['kinds']): { readonly what: Identified; readonly type: ValueType; readonly place: string }[] {
  return Object.entries(kinds).flatMap(([kind, { fields }]) =>
    Object.entries(fields).flatMap(([field, { role, type }]) => {
      const what = HOLDS[role];
      return what ? [{ what, type, place: `kinds.${kind}.fields.${field}` }] : [];
    }),
  );
}

const KNOWN = new WeakMap<CharterData['kinds'], Map<Identified, ValueType>>();

/** The type that a charter gives to the ids of tenants, people, units or groups; `text` where no field holds one. */
export function idType({ data: { kinds } }: { readonly data: CharterData }, what: Identified): ValueType {
  const types = KNOWN.get(kinds) ?? new Map(idFields(kinds).map((field) => [field.what, field.type]));
  KNOWN.set(kinds, types);
  return types.get(what) ?? 'text';
}

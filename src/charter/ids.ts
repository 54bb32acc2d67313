import type { Problem, ValueType } from '../predicate/index.js';
import type { CharterData } from './data.js';
import type { FieldRole } from './field.js';

/** What is known by an id all over a charter. Records are so by kind. */
export type Identified = 'tenant' | 'person' | 'unit' | 'group';

/** What a field holds the id of, by what it is for. */
export const HOLDS: Partial<Readonly<Record<FieldRole, Identified>>> = {
  tenant: 'tenant',
  owner: 'person',
  maker: 'person',
  person: 'person',
  people: 'person',
  unit: 'unit',
  group: 'group',
};

/** Types that an id may have. */
const ID_TYPES: readonly ValueType[] = ['uuid', 'text', 'integer'];

/** Every field that holds such an id, with its type and where it stands. */
function idFields(kinds: CharterData['kinds']): { readonly what: Identified; readonly type: ValueType; readonly place: string }[] {
  return Object.entries(kinds).flatMap(([kind, { fields }]) =>
    Object.entries(fields).flatMap(([field, { role, type }]) => {
      const what = HOLDS[role];
      return what ? [{ what, type, place: `kinds.${kind}.fields.${field}` }] : [];
    }),
  );
}

/** What is compared with one another is of one type: ids of people, whatever they are to a record; of tenants, units and groups; and of a parent where it is named. */
export function idProblems(kinds: CharterData['kinds']): Problem[] {
  const problems: Problem[] = [];
  const first = new Map<Identified, { readonly type: string; readonly place: string }>();
  for (const { what, type, place } of idFields(kinds)) {
    const one = first.get(what) ?? { type, place };
    first.set(what, one);
    if (type !== one.type)
      problems.push({ path: `${place}.type`, message: `holds the id of a ${what} as ${type}, and ${one.place} as ${one.type}; give both one type` });
  }
  for (const [name, { fields }] of Object.entries(kinds)) {
    for (const [field, { role, type, to }] of Object.entries(fields)) {
      const path = `kinds.${name}.fields.${field}.type`;
      const id = to === undefined ? undefined : Object.values(kinds[to]?.fields ?? {}).find((f) => f.role === 'id');
      if (role !== 'plain' && !ID_TYPES.includes(type)) problems.push({ path, message: `an id is ${ID_TYPES.join(', ')}, not ${type}` });
      else if (id && id.type !== type) problems.push({ path, message: `names a ${to}, whose ids are ${id.type}, as ${type}; give both one type` });
    }
  }
  return problems;
}

const KNOWN = new WeakMap<CharterData['kinds'], Map<Identified, ValueType>>();

/** The type that a charter gives to the ids of tenants, people, units or groups; `text` where no field holds one. */
export function idType({ data: { kinds } }: { readonly data: CharterData }, what: Identified): ValueType {
  const types = KNOWN.get(kinds) ?? new Map(idFields(kinds).map((field) => [field.what, field.type]));
  KNOWN.set(kinds, types);
  return types.get(what) ?? 'text';
}

import type { LinkTable, ValueType } from '../predicate/index.js';

/** What a field is for. Only `plain` fields are free of meaning to the library. */
export type FieldRole = 'id' | 'tenant' | 'owner' | 'maker' | 'person' | 'unit' | 'group' | 'parent' | 'people' | 'plain';

/** One field of a kind, as plain data. */
export interface FieldData {
  readonly role: FieldRole;
  readonly type: ValueType;
  /** Name of the column; by default the field's name in snake case. A field of people has none. */
  readonly column?: string;
  /** Places after the point, for a decimal. */
  readonly scale?: number;
  /** The only values that the field takes. */
  readonly options?: readonly string[];
  /** The kind of the parent, for a parent field. */
  readonly to?: string;
  /** False for a parent that is only referred to: its readers do not read this record by that. Default true. */
  readonly follow?: boolean;
  /** True for a parent whose tenant is the record's. */
  readonly through?: boolean;
  readonly link?: LinkTable;
  /** The action that it takes to change this field, instead of `update`. */
  readonly change?: string;
  /** The action that it takes to read this field, on top of reading the record. */
  readonly read?: string;
  /** The field as people call it; by default made from its name. */
  readonly label?: string;
}

declare const carried: unique symbol;

/** A declared field: its data, and in its type the value, the names it mentions and the parent it points to. */
export interface Field<V = unknown, Role extends FieldRole = FieldRole, Names extends string = string, To extends string = string>
  extends Omit<FieldData, 'role'> {
  readonly role: Role;
  readonly [carried]?: { readonly value: V; readonly names: Names; readonly to: To };
}

interface Common {
  readonly column?: string;
  readonly label?: string;
  readonly change?: string;
  readonly read?: string;
}
interface Keyed {
  readonly column?: string;
  readonly label?: string;
  /** How the database keeps the id. Default `uuid`. */
  readonly type?: 'uuid' | 'text' | 'integer';
}
type Names<O> = (O extends { readonly change: infer C extends string } ? C : never) | (O extends { readonly read: infer R extends string } ? R : never);
type IdValue<O> = O extends { readonly type: 'integer' } ? number : string;

function keyed<V, R extends FieldRole, N extends string = never, T extends string = never>(
  role: R,
  options: Keyed & Common & { to?: string; follow?: boolean; through?: boolean } = {},
): Field<V, R, N, T> {
  return { ...options, role, type: options.type ?? 'uuid' };
}
function plain<V, N extends string>(type: ValueType, options: Common & { scale?: number; options?: readonly string[] } = {}): Field<V, 'plain', N, never> {
  return { ...options, role: 'plain', type };
}

/** The record's own id. */
export function id<const O extends Keyed = {}>(options?: O): Field<IdValue<O>, 'id', never, never> {
  return keyed('id', options);
}
/** The tenant that the record belongs to; stamped, and never changed. */
export function tenant<const O extends Keyed = {}>(options?: O): Field<IdValue<O>, 'tenant', never, never> {
  return keyed('tenant', options);
}
/** Who the record belongs to: a person. For a group that owns, give the kind a {@link group} field beside it or instead. May be empty; an unowned record is open only to a reach that says `isEmpty`. */
export function owner<const O extends Keyed & Common = {}>(options?: O): Field<IdValue<O>, 'owner', Names<O>, never> {
  return keyed('owner', options);
}
/** Who made the record; stamped, and never changed. */
export function maker<const O extends Keyed = {}>(options?: O): Field<IdValue<O>, 'maker', never, never> {
  return keyed('maker', options);
}
/** Another person that the record names. */
export function person<const O extends Keyed & Common = {}>(options?: O): Field<IdValue<O>, 'person', Names<O>, never> {
  return keyed('person', options);
}
/** The unit that the record lies in. */
export function unit<const O extends Keyed & Common = {}>(options?: O): Field<IdValue<O>, 'unit', Names<O>, never> {
  return keyed('unit', options);
}
/** A group that the record belongs to, or is assigned to: `record.crewId.in(me.groupIds)` reaches it. Changed only by the action that it names. */
export function group<const O extends Keyed & Common = {}>(options?: O): Field<IdValue<O>, 'group', Names<O>, never> {
  return keyed('group', options);
}
/** The record that this one hangs on. Whoever may read the parent has the built-in reach `followed` here. */
export function parent<const To extends string, const O extends Keyed & Common & { readonly follow?: boolean } = {}>(
  to: To,
  options?: O,
): Field<IdValue<O>, 'parent', Names<O>, To> {
  return keyed('parent', { ...options, to });
}
/**
 * The parent through which the record has its tenant, for a table without a column for it, instead of {@link tenant}. Else a {@link parent} like any. The parent's id is unique
 * by itself, and a record without a parent is nobody's.
 */
export function through<const To extends string, const O extends Keyed & Common & { readonly follow?: boolean } = {}>(
  to: To,
  options?: O,
): Field<IdValue<O>, 'parent', Names<O>, To> {
  return keyed('parent', { ...options, to, through: true });
}
/** Several people, kept in a table of their own which carries the record and the person, and the tenant if it has a column for it. */
export function people<const O extends LinkTable & { readonly type?: 'uuid' | 'text' | 'integer'; readonly change?: string; readonly label?: string }>(
  options: O,
): Field<readonly IdValue<O>[], 'people', Names<O>, never> {
  const { table, tenant, record, user, type = 'uuid', ...rest } = options;
  return { ...rest, role: 'people', type, link: { table, ...(tenant !== undefined && { tenant }), record, user } };
}
/** A text. */
export function text<const O extends Common = {}>(options?: O): Field<string, 'plain', Names<O>, never> {
  return plain('text', options);
}
/** One of a few fixed texts. */
export function oneOf<const V extends readonly [string, ...string[]], const O extends Common = {}>(
  values: V,
  options?: O,
): Field<V[number], 'plain', Names<O>, never> {
  return plain('text', { ...options, options: values });
}
/** Yes or no. */
export function flag<const O extends Common = {}>(options?: O): Field<boolean, 'plain', Names<O>, never> {
  return plain('boolean', options);
}
/** A whole number within 53 bits. */
export function integer<const O extends Common = {}>(options?: O): Field<number, 'plain', Names<O>, never> {
  return plain('integer', options);
}
/** A number with a fixed count of places after the point (0 to 18), held as a string so that nothing is rounded. */
export function decimal<const O extends Common & { readonly scale: number }>(options: O): Field<string, 'plain', Names<O>, never> {
  return plain('decimal', options);
}
/** A moment from 1970 to 2037, compared by the millisecond. */
export function instant<const O extends Common = {}>(options?: O): Field<Date | string, 'plain', Names<O>, never> {
  return plain('instant', options);
}

import { ALWAYS, NEVER, type Predicate } from './predicate.js';
import { readValue, type ValueType } from './value.js';

/** A table that joins a record to people: it carries the record's id and the person's id. */
export interface LinkTable {
  readonly table: string;
  /** The column of the tenant. Absent: a link is of its record's tenant, and the record's id is unique by itself. */
  readonly tenant?: string;
  readonly record: string;
  readonly user: string;
}

/** What a predicate needs to know of one field. */
export interface FieldShape {
  readonly type: ValueType;
  readonly column: string;
  /** Places after the point, for a decimal. */
  readonly scale?: number;
  /** The kind whose id this field holds. */
  readonly to?: string;
  /** True for a field that holds a person. */
  readonly person?: true;
  /** True for a field that holds a unit. */
  readonly unit?: true;
  /** Where a list of people is kept, for a field that has many. Such a field has no column. */
  readonly link?: LinkTable;
}

/** What a predicate needs to know of one kind of record. */
export interface KindShape {
  readonly table: string;
  readonly schema?: string;
  readonly fields: Readonly<Record<string, FieldShape>>;
  readonly idField: string;
  /** Absent for a kind that belongs to no tenant, or has it through a parent. */
  readonly tenantField?: string | undefined;
  /** The field of the parent whose tenant is the record's. */
  readonly throughField?: string | undefined;
}

/** The tables and fields of all kinds, by kind. */
export type Shapes = Readonly<Record<string, KindShape>>;

/** The record is of this tenant; always, for a kind that belongs to none. */
export function ofTenant(kind: string, shapes: Shapes, tenantId: string): Predicate {
  const { tenantField, throughField: via, fields } = shapes[kind] as KindShape;
  // guard tenant-through-parent by agree: A record whose tenant comes through a parent would be in every tenant.
  if (via !== undefined)
    return { op: 'parent', via, where: /* guard tenant-through-parent (replaced) */ ofTenant(fields[via]?.to as string, shapes, tenantId) };
  if (tenantField === undefined) return ALWAYS;
  const value = readValue((fields[tenantField] as FieldShape).type, tenantId);
  return value === undefined ? NEVER : { op: 'is', field: tenantField, to: { value } };
}

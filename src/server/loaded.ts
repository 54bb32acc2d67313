import type { KindShape, RecordData, Shapes } from '../predicate/index.js';

interface Extras {
  readonly may?: unknown;
  readonly could?: unknown;
  readonly parents?: unknown;
}

/** What the library itself attached to a record that it loaded. */
const ATTACHED = new WeakMap<object, Extras>();

/** Remembers of a record what the library attached to it: only that counts when the record comes back. */
export function attach<R extends object>(record: R, extras: Extras): R {
  ATTACHED.set(record, extras);
  return record;
}

/** Of a record that is of a tenant through its parents, so much of them that this shows. */
function parentsHere(kind: string, shapes: Shapes, tenantId: string): Readonly<Record<string, RecordData>> | undefined {
  const { throughField, fields } = shapes[kind] as KindShape;
  if (throughField === undefined) return undefined;
  const to = fields[throughField]?.to as string;
  const { tenantField } = shapes[to] as KindShape;
  return { [throughField]: tenantField === undefined ? { parents: parentsHere(to, shapes, tenantId) } : { [tenantField]: tenantId } };
}

/** Records that were found, with what they were asked for besides; and where they are of one tenant, what shows it. */
export function found<R extends RecordData>(records: R[], ...of: readonly [kind: string, shapes: Shapes, tenantId: string] | readonly []): R[] {
  const parents = of.length === 0 ? undefined : parentsHere(...of);
  for (const record of records) {
    const { may, could } = record as { readonly may?: readonly string[]; readonly could?: object };
    if (may || parents)
      attach(record, { ...(may && { may: Object.freeze([...may]) }), ...(could && { could: Object.freeze({ ...could }) }), ...(parents && { parents }) });
  }
  return records;
}

/**
 * A record as it counts on a server: with what the library attached to it, whatever stands there now. A body that somebody sent is not the record that was loaded,
 * and neither is one that is made of both.
 */
export function counted(record: RecordData): RecordData {
  const attached = ATTACHED.get(record);
  if (!attached && !['may', 'could', 'parents'].some((extra) => extra in record)) return record;
  const { may: _may, could: _could, parents: _parents, ...fields } = record;
  return { ...fields, ...attached };
}

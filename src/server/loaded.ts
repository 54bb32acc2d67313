import type { RecordData } from '../predicate/index.js';

interface Extras {
  readonly may?: unknown;
  readonly parents?: unknown;
}

/** What the library itself attached to a record that it loaded. */
const ATTACHED = new WeakMap<object, Extras>();

/** Remembers of a record what the library attached to it: only that counts when the record comes back. */
export function attach<R extends object>(record: R, extras: Extras): R {
  ATTACHED.set(record, extras);
  return record;
}

/** Records that were found, with what they were asked for besides. */
export function found<R extends RecordData>(records: R[]): R[] {
  for (const record of records) if (record.may) attach(record, { may: Object.freeze([...(record.may as string[])]) });
  return records;
}

/**
 * A record as it counts on a server: with what the library attached to it, whatever stands there now. A body that somebody sent is not the record that was loaded,
 * and neither is one that is made of both.
 */
export function counted(record: RecordData): RecordData {
  const attached = ATTACHED.get(record);
  if (!attached && !('may' in record) && !('parents' in record)) return record;
  const { may: _may, parents: _parents, ...fields } = record;
  return { ...fields, ...attached };
}

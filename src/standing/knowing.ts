import { entryOf } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import type { KindShape, RecordData } from '../predicate/index.js';
import { decide, type Question } from './decide.js';
import type { Could } from './decision.js';
import { type Facts, withoutOthers } from './facts.js';
import type { Reaches } from './reach.js';
import { type DecideOptions, Standing } from './standing.js';

/** So much of a parent through which a record has its tenant that this shows. */
function ofTenantAlone(reaches: Reaches, kind: string, record: RecordData): RecordData {
  const { tenantField, throughField, fields } = reaches.charter.shapes[kind] as KindShape;
  if (tenantField !== undefined) return { [tenantField]: record[tenantField] };
  const above = (record.parents as Record<string, RecordData> | undefined)?.[throughField ?? ''];
  return throughField === undefined || !above ? {} : { parents: { [throughField]: ofTenantAlone(reaches, fields[throughField]?.to as string, above) } };
}

/** What somebody may know of a record that is there. */
const shown = (viewer: Reaches, kind: string, now: Question['now'], record: RecordData): RecordData | undefined => knownOf(viewer, kind, record, now);

/**
 * What somebody may know of a record: it without what is hidden from them, as if that had not been loaded. Undefined for one that they may not read.
 *
 * @param isTheirs it is a record to be, whose fields are what they gave.
 */
function knownOf(viewer: Reaches, kind: string, record: RecordData, now: Question['now'], isTheirs = false): RecordData | undefined {
  const { charter } = viewer;
  const may = (action: string) => decide(viewer, { permission: charter.permission(`${kind}.${action}`), record, touching: [], now }, undefined).allowed;
  // guard look-hides-records by looks: A decision could rest on records that are hidden from whoever looks.
  if (!isTheirs && !may('read')) return undefined;
  const shape = charter.shapes[kind] as KindShape;
  const known: Record<string, unknown> = {};
  const parents: Record<string, RecordData> = {};
  for (const [field, { read }] of Object.entries(charter.kind(kind).fields)) {
    // guard look-hides-fields by looks: A decision could rest on fields that are hidden from whoever looks.
    if (!Object.hasOwn(record, field) || /* guard look-hides-fields */ (read !== undefined && !isTheirs && !may(read))) continue;
    known[field] = record[field];
    const { to } = shape.fields[field] ?? {};
    const parent = to === undefined ? undefined : entryOf((record.parents ?? {}) as Record<string, RecordData | null>, field);
    if (!parent) continue;
    // guard look-hides-parents by looks: A decision could rest on parents that are hidden from whoever looks.
    const seen =
      /* guard look-hides-parents (unwrapped) */ shown(viewer, to as string, now, parent) ??
      (shape.throughField === field ? ofTenantAlone(viewer, to as string, parent) : undefined);
    if (seen) parents[field] = seen;
  }
  return { ...known, parents };
}

/** A standing where the facts of whoever looks as somebody else are at hand, on a server: what they may not know, no answer rests on. */
export class KnowingStanding<T extends CharterTypes = CharterTypes> extends Standing<T> {
  #alone: Standing<T> | undefined;

  /** Whoever looks may know of everybody, and of who is where. */
  get #knowsAll(): boolean {
    const { viewer } = this.reaches;
    const everybody = this.charter.permission('member.read');
    // guard look-blocked-knows-nobody by looks: Whoever has something to do first would know of everybody.
    return (
      !viewer || /* guard look-blocked-knows-nobody */ (!viewer.isBlocked(everybody) && viewer.grantsFor(everybody).some(({ reach }) => reach === 'tenant'))
    );
  }

  /** @internal Whoever is looked as, as far as whoever looks may know them. */
  get shown(): Standing<T> {
    return this.own;
  }

  protected override ownFacts(): Facts {
    const facts = super.ownFacts();
    // guard look-hides-people by looks: A decision could rest on who else is where.
    return this.#knowsAll ? facts : /* guard look-hides-people */ withoutOthers(facts);
  }

  protected override could(action: T['permissions'], record: RecordData | undefined, options: DecideOptions | undefined): Could {
    const { viewer } = this.reaches;
    const { kind, action: name } = this.charter.permission(action);
    if (!viewer || !kind || !record) return this.#boundAlone(super.ownCould(action, record, options), options);
    const known = knownOf(viewer, kind, record, this.options.now ?? Date.now, name === 'create');
    return known ? super.ownCould(action, known, options) : this.unknown(action);
  }

  /** Whether there could be such a record is known where that does not turn on who else is in a group or unit. */
  #boundAlone(could: Could, options: DecideOptions | undefined): Could {
    // guard look-bounds-without-people (negated) by looks: A bound could rest on who else is where.
    if (this.#knowsAll) return could;
    this.#alone ??= new Standing(this.charter, { ...this.own.facts, people: {}, below: {}, inPlace: [] }, this.options);
    const action = could.action as T['permissions'];
    return this.#alone.decide(action, undefined, options).allowed === could.allowed ? could : this.unknown(action);
  }
}

import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import { idType } from '../charter/index.js';
import { type FieldShape, type LinkTable, readEach, readValue, type Scalar } from '../predicate/index.js';
import type { Boundary } from './boundary.js';
import { type Fragment, joinFragments, name, sqlText } from './fragment.js';
import { putLinks } from './journal/put.js';
import { refuse } from './read/refuse.js';

const MAX_PEOPLE = 1000;

/** Reads a list as it is to be, or who comes and who goes. @throws LintelError `bad-value`, `too-many`. */
function readChange(
  kind: string,
  field: string,
  shape: FieldShape,
  change: unknown,
): { readonly all?: Scalar[]; readonly add: Scalar[]; readonly remove: Scalar[] } {
  const bad = (what: string) => {
    throw new LintelError('bad-value', `${field} of a ${kind} takes a list of people, or { add, remove }, not ${what}; nothing was written`, { field });
  };
  const people = (list: unknown): Scalar[] => {
    if (list === undefined) return [];
    if (!Array.isArray(list)) return bad(typeof list);
    if (list.length > MAX_PEOPLE) throw new LintelError('too-many', `${list.length} people at once; at most ${MAX_PEOPLE}`, {});
    return [...new Set(list.map((one) => readValue(shape.type, one) ?? bad(`${String(one)}, which is no id of a person`)))] as Scalar[];
  };
  if (Array.isArray(change)) return { all: people(change), add: [], remove: [] };
  if (typeof change !== 'object' || change === null) return bad(String(change));
  const { add, remove, ...rest } = change as { add?: unknown; remove?: unknown };
  const [other] = Object.keys(rest);
  return other === undefined ? { add: people(add), remove: people(remove) } : bad(`one with “${other}”`);
}

/** A row of the link table for each of these people. */
function rowsFor(boundary: Boundary, link: LinkTable, id: Scalar, people: readonly Scalar[]): Fragment {
  const { facts, charter } = boundary.standing;
  const tenant = link.tenant === undefined ? [] : [readValue(idType(charter, 'tenant'), facts.tenant.id) as Scalar];
  const columns = [...(link.tenant === undefined ? [] : [link.tenant]), link.record, link.user].map((column) => name(column));
  const rows = people.map(
    (user) =>
      sqlText`(${joinFragments(
        [...tenant, id, user].map((value) => sqlText`${value}`),
        ', ',
      )})`,
  );
  return sqlText`insert into ${name(link.table)} (${joinFragments(columns, ', ')}) values ${joinFragments(rows, ', ')}`;
}

/** @throws LintelError `no-such-value` unless these are active members. */
async function insistOnMembers(tx: Kysely<any>, boundary: Boundary, kind: string, field: string, people: readonly Scalar[]): Promise<void> {
  const { support } = boundary;
  const { type } = boundary.shape(kind).fields[field] as FieldShape;
  const found = support.conditions
    ? readEach(
        type,
        (
          await sqlText`select "u"."id" from unnest(${people.map(String)}::text[]) as "u"("id") where ${support.conditions.person(name('u', 'id'))}`.rows<{
            id: unknown;
          }>(tx)
        ).map(({ id }) => id),
      )
    : readEach(type, await support.existing('person', people.map(String)));
  const unknown = people.find((one) => !found.includes(one));
  // guard linked-people-known by agree: Somebody who is no member here could be linked.
  if (unknown !== undefined)
    throw new LintelError('no-such-value', `${field} of a ${kind} names somebody that there is not for you: ${String(unknown)}; nothing was written`, {
      kind,
      field,
    });
}

/**
 * Links people to one record, and takes them off it, in a transaction that is open: by the action that the field names, which has to reach the record. The record is locked first, so that of two
 * who change its list at once neither undoes what the other did.
 *
 * @returns false where the record is out of reach or not there.
 */
export async function linkPeople(tx: Kysely<any>, boundary: Boundary, kind: string, field: string, id: Scalar | null, change: unknown): Promise<boolean> {
  const shape = boundary.shape(kind);
  const own = shape.fields[field] as FieldShape & { readonly link: LinkTable };
  const { fields, shared } = boundary.standing.charter.kind(kind);
  if (shared) refuse(`a write to ${kind}, which is shared by all tenants`, 'only the platform writes it');
  const action = fields[field]?.change;
  if (action === undefined) refuse(`a change of ${field}`, 'declare in the charter which action changes it: { change: "appoint" }');
  const { all, add, remove } = readChange(kind, field, own, change);
  if (id === null) return false;
  const { writer } = boundary;
  const is = writer.equals(writer.column(shape, shape.idField, 't'), id, shape.fields[shape.idField] as FieldShape);
  // guard link-needs-action by agree: A list of people would change without the action that its field names.
  const locked =
    await sqlText`select 1 from ${writer.table(shape)} as "t" where ${is}${/* guard link-needs-action */ sqlText` and ${boundary.reached(kind, action, 't')}`}${writer.lock('t')}`.rows(
      tx,
    );
  if (locked.length === 0) return false;
  // Read after the lock: what somebody else changed meanwhile is in it.
  const [row] = await sqlText`select ${writer.people(shape, own.link, 't')} as "people" from ${writer.table(shape)} as "t" where ${is}`.rows<{
    people: unknown;
  }>(tx);
  const was = readEach(own.type, writer.readCell(row?.people, own) as unknown[]);
  const becomes = (all ?? [...was, ...add]).filter((one, i, list) => !remove.includes(one) && list.indexOf(one) === i);
  const [added, gone] = [becomes.filter((one) => !was.includes(one)), was.filter((one) => !becomes.includes(one))];
  if (added.length > 0) {
    await insistOnMembers(tx, boundary, kind, field, added);
    await rowsFor(boundary, own.link, id, added).rows(tx);
  }
  if (gone.length > 0) {
    const ofRecord = sqlText`exists (select 1 from ${writer.table(shape)} as "t" where ${is} and ${writer.linkIs(shape, own.link, 't', own.link.table)})`;
    await sqlText`delete from ${name(own.link.table)} where ${writer.writeList(name(own.link.table, own.link.user), gone, own)} and ${ofRecord}`.rows(tx);
  }
  if (added.length + gone.length > 0) await putLinks(tx, boundary, kind, field, action as string, [id, was, becomes]);
  return true;
}

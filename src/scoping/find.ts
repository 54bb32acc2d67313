import type { Kysely } from 'kysely';
import { didYouMean, LintelError, PREPARED } from '../base/index.js';
import { compareValues, type FieldShape, type KindShape, type RecordData, readValue, type Scalar } from '../predicate/index.js';
import type { Boundary } from './boundary.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';
import type { SqlWriter } from './writer.js';

/** Which records `find` gives, in which order, and with what. */
export interface FindOptions {
  /** Fields that must have this value; `null` asks for an empty field. */
  readonly where?: Readonly<Record<string, unknown>>;
  /** Field to sort by, or `-field` for the other direction. The id breaks ties. */
  readonly order?: string;
  /** Default 50, at most 1000. */
  readonly limit?: number;
  /** So many records are passed over; default 0. */
  readonly offset?: number;
  /** Permissions to answer for each record: those that hold are listed under its key `may`. */
  readonly may?: readonly string[];
}

const MAX_LIMIT = 1000;

function valueCondition(boundary: Boundary, kind: string, field: string, raw: unknown): Fragment {
  const shape = fieldShape(boundary, kind, field);
  const column = boundary.visible([field, shape], kind, 't');
  if (raw === null) return sqlText`${column} is null`;
  const value = readValue(shape.type, raw, shape.scale);
  // A value of another type can equal nothing, and must not reach the database.
  return value === undefined ? verbatim('false') : boundary.writer.equals(column, value, shape);
}

function fieldShape(boundary: Boundary, kind: string, field: string): FieldShape {
  const { fields } = boundary.shape(kind);
  const shape = Object.hasOwn(fields, field) ? fields[field] : undefined;
  if (shape && !shape.link) return shape;
  const known = boundary.columnFields(kind).map(([name]) => name);
  throw new LintelError('unknown-field', `${kind} has no field "${field}"${didYouMean(field, known)}`, { kind, field });
}

/** @param alike in the one order that all databases have, of values: for lists out of several to be made one. */
function orderBy(boundary: Boundary, kind: string, order: string | undefined, alike: boolean): Fragment {
  const { idField, fields } = boundary.shape(kind);
  const by = (column: Fragment, field: string) => (alike ? boundary.writer.comparable(column, fields[field] as FieldShape) : column);
  const id = by(boundary.writer.column(boundary.shape(kind), idField, 't'), idField);
  if (order === undefined) return id;
  const field = order.replace(/^-/, '');
  const column = boundary.visible([field, fieldShape(boundary, kind, field)], kind, 't');
  return sqlText`${boundary.writer.ordered(by(sqlText`(${column})`, field), order.startsWith('-'))}, ${id}`;
}

/**
 * Lists of records of one kind, each in the order that {@link find} gives `alike`, as one.
 *
 * @returns those from `offset` on, at most `limit`.
 */
export function merged(shape: KindShape, lists: readonly (readonly RecordData[])[], { order, limit = 50, offset = 0 }: FindOptions): RecordData[] {
  const field = order?.replace(/^-/, '');
  const turn = order?.startsWith('-') ? -1 : 1;
  const compareIn = (of: string, a: RecordData, b: RecordData): number => {
    const { type, scale } = shape.fields[of] as FieldShape;
    const [x, y] = [a, b].map((record) => readValue(type, record[of], scale));
    // What is empty stands behind all else.
    if (x === undefined || y === undefined) return Number(x === undefined) - Number(y === undefined);
    return compareValues(type, x, y);
  };
  const all = lists.flat().sort((a, b) => (field === undefined ? 0 : turn * compareIn(field, a, b)) || compareIn(shape.idField, a, b));
  return all.slice(offset, offset + limit);
}

/** Fields under their names, as each dialect writes them: the same for everybody, so written once for each kind. */
const NAMED = new WeakMap<KindShape, Partial<Record<SqlWriter['vocabulary'], ReadonlyMap<string, Fragment>>>>();

function named(writer: SqlWriter, shape: KindShape, field: string): Fragment {
  const all = NAMED.get(shape) ?? {};
  NAMED.set(shape, all);
  const written = ([of, { column, link }]: [string, FieldShape]) =>
    [of, sqlText`${link ? writer.people(shape, link, 't') : name('t', column)} as ${name(of)}`] as const;
  all[writer.vocabulary] ??= new Map(Object.entries(shape.fields).map(written));
  return all[writer.vocabulary]?.get(field) as Fragment;
}

/**
 * Records of one kind that a standing may read, keyed by field, with lists of people loaded. A field that is masked on a
 * record is left out of it.
 *
 * @param alike of one of several lists that are to be made {@link merged | one}: all that stand before the end of the part.
 */
export async function find(db: Kysely<unknown>, boundary: Boundary, kind: string, options: FindOptions = {}, alike = false): Promise<RecordData[]> {
  const { limit = 50, offset = 0, may = [] } = options;
  if (!Number.isInteger(limit) || limit < 0 || limit > MAX_LIMIT)
    throw new LintelError('bad-limit', `limit is ${limit}; it must be a whole number up to ${MAX_LIMIT}`);
  if (!Number.isInteger(offset) || offset < 0) throw new LintelError('bad-offset', `offset is ${offset}; it must be a whole number`);
  const { charter } = boundary.standing;
  const shape = charter.kind(kind) && boundary.shape(kind);
  const columns: Fragment[] = [];
  const masked: string[] = [];
  for (const [field, f] of Object.entries(shape.fields)) {
    const shows = f.link ? undefined : boundary.shows(kind, field, 't');
    if (shows === undefined) columns.push(named(boundary.writer, shape, field));
    else {
      columns.push(sqlText`case when ${shows} then ${boundary.writer.column(shape, field, 't')} end as ${name(field)}, ${shows} as ${name(`shows ${field}`)}`);
      masked.push(field);
    }
  }
  for (const permission of may) {
    const asked = charter.permission(permission);
    if (asked.kind !== kind) throw new LintelError('unknown-action', `"${permission}" is not about a ${kind}`, { action: permission });
    // What is found is read.
    if (asked.action !== 'read') columns.push(sqlText`coalesce(${boundary.reached(kind, asked.action as string, 't')}, false) as ${name(`may ${permission}`)}`);
  }
  const conditions = Object.entries(options.where ?? {}).map(([field, raw]) => valueCondition(boundary, kind, field, raw));
  const where = joinFragments([boundary.reached(kind, 'read', 't'), ...conditions], ' and ');
  // A record that is named is one at most: nothing to order, or to page.
  const isOne = Object.hasOwn(options.where ?? {}, shape.idField) && options.order === undefined && limit > 0 && offset === 0;
  const part = isOne
    ? verbatim(PREPARED)
    : sqlText` order by ${orderBy(boundary, kind, options.order, alike)} limit ${alike ? offset + limit : limit} offset ${alike ? 0 : offset}`;
  const rows = await sqlText`select ${joinFragments(columns, ', ')} from ${boundary.writer.table(shape)} as "t" where ${where}${part}`.rows<
    Record<string, unknown>
  >(db);
  const yes = (cell: unknown) => cell === true || cell === 1;
  return rows.map((row) => {
    const record: Record<string, unknown> = {};
    for (const [field, f] of Object.entries(shape.fields)) {
      if (!masked.includes(field) || yes(row[`shows ${field}`])) record[field] = boundary.writer.readCell(row[field], f);
    }
    if (may.length > 0) record.may = may.filter((permission) => permission === `${kind}.read` || yes(row[`may ${permission}`]));
    return record;
  });
}

/** Records of the tenant by their ids, as they stand in the database, with their lists and without their parents. */
async function rawRows(db: Kysely<unknown>, boundary: Boundary, kind: string, ids: readonly Scalar[]): Promise<RecordData[]> {
  const { writer } = boundary;
  const shape = boundary.shape(kind);
  const idShape = shape.fields[shape.idField] as FieldShape;
  const columns = Object.entries(shape.fields).map(
    ([field, f]) => sqlText`${f.link ? writer.people(shape, f.link, 't') : writer.column(shape, field, 't')} as ${name(field)}`,
  );
  const column = writer.column(shape, shape.idField, 't');
  const named = ids.length === 1 ? writer.equals(column, ids[0] as Scalar, idShape) : writer.writeList(column, ids, idShape);
  const rows = await sqlText`select ${joinFragments(columns, ', ')} from ${writer.table(shape)} as "t" where ${boundary.tenant(kind, 't')} and ${named}`.rows<
    Record<string, unknown>
  >(db);
  return rows.map((row) => Object.fromEntries(Object.entries(shape.fields).map(([field, f]) => [field, writer.readCell(row[field], f)])));
}

/** Under which key a record of a kind is known. */
const keyOf = (kind: string, id: unknown) => JSON.stringify([kind, String(id)]);

/**
 * Records of the tenant as they stand in the database, whoever asks, with their lists and their parents: what a decision is made about. Never shown to anybody.
 * One statement for each kind on each of the ways up.
 *
 * @returns by id, those that there are.
 */
export async function loadEach(
  db: Kysely<unknown>,
  boundary: Boundary,
  kind: string,
  ids: readonly unknown[],
  known: Loaded = new Map(),
): Promise<ReadonlyMap<unknown, RecordData>> {
  const shape = boundary.shape(kind);
  const idShape = shape.fields[shape.idField] as FieldShape;
  const read = new Map<unknown, Scalar>();
  for (const id of ids) {
    const value = readValue(idShape.type, id, idShape.scale);
    // What is no id of this type is the id of nothing.
    if (value !== undefined) read.set(id, value);
  }
  const missing = [...new Set(read.values())].filter((value) => !known.has(keyOf(kind, value)));
  const rows = missing.length === 0 ? [] : await rawRows(db, boundary, kind, missing);
  for (const value of missing) known.set(keyOf(kind, value), undefined);
  const parents = await loadParentsOf(db, boundary, kind, rows, known);
  for (const [i, row] of rows.entries()) known.set(keyOf(kind, row[shape.idField]), { ...row, parents: parents[i] });
  const there = new Map<unknown, RecordData>();
  for (const [id, value] of read) {
    const record = known.get(keyOf(kind, value));
    if (record) there.set(id, record);
  }
  return there;
}

/** One of {@link loadEach}. */
export async function loadRaw(db: Kysely<unknown>, boundary: Boundary, kind: string, id: unknown): Promise<RecordData | undefined> {
  return (await loadEach(db, boundary, kind, [id])).get(id);
}

/** True where there is a record of this id, of whatever tenant. It is no answer to anybody: it would tell of others. */
export async function isAnywhere(db: Kysely<any>, { standing: { charter }, writer }: Boundary, kind: string, id: unknown): Promise<boolean> {
  const shape = charter.shapes[kind] as KindShape;
  const idShape = shape.fields[shape.idField] as FieldShape;
  const value = readValue(idShape.type, id, idShape.scale);
  if (value === undefined) return false;
  const is = writer.equals(writer.column(shape, shape.idField, 't'), value, idShape);
  return (await sqlText`select 1 as "one" from ${writer.table(shape)} as "t" where ${is}`.rows(db)).length > 0;
}

/** Records that were loaded already: one that several ways lead to is loaded once. */
type Loaded = Map<string, RecordData | undefined>;

/** The parents that records name, as they stand in the database, by the fields that name them; null for one that is not there. */
async function loadParentsOf(
  db: Kysely<unknown>,
  boundary: Boundary,
  kind: string,
  records: readonly RecordData[],
  known: Loaded,
): Promise<Record<string, RecordData | null>[]> {
  const parents = records.map((): Record<string, RecordData | null> => ({}));
  for (const [field, { to }] of Object.entries(boundary.shape(kind).fields)) {
    if (to === undefined) continue;
    const named = records.map((record) => record[field] ?? undefined);
    const there = await loadEach(
      db,
      boundary,
      to,
      named.filter((id) => id !== undefined),
      known,
    );
    for (const [i, id] of named.entries()) if (id !== undefined) (parents[i] as Record<string, RecordData | null>)[field] = there.get(id) ?? null;
  }
  return parents;
}

/** The parents that one record names. */
export async function loadParents(db: Kysely<unknown>, boundary: Boundary, kind: string, record: RecordData): Promise<Record<string, RecordData | null>> {
  return (await loadParentsOf(db, boundary, kind, [record], new Map()))[0] as Record<string, RecordData | null>;
}

/** What is shown of a record to somebody who has to name it and may not read it. */
export interface Choice {
  readonly id: unknown;
  readonly label: string | null;
}

/** Records of a kind that may be named as a parent: those that may be read, and those that the action `choose` shows. */
export async function choices(
  db: Kysely<unknown>,
  boundary: Boundary,
  kind: string,
  options: { readonly like?: string; readonly limit?: number } = {},
): Promise<Choice[]> {
  const { like = '', limit = 50 } = options;
  const { label } = boundary.standing.charter.kind(kind);
  const shape = boundary.shape(kind);
  // A label that is masked from somebody who reads the record is not shown by choosing it either, nor by the order.
  const shown = boundary.visible([label, shape.fields[label] as FieldShape], kind, 't');
  const where = boundary.writer.condition(boundary.choosable(kind), kind, 't');
  const search = like === '' ? verbatim('true') : sqlText`lower(${shown}) like ${`%${like.toLowerCase().replace(/[\\%_]/g, '\\$&')}%`} escape '\\'`;
  const rows =
    await sqlText`select ${boundary.writer.column(shape, shape.idField, 't')} as "id", ${shown} as "label" from ${boundary.writer.table(shape)} as "t" where ${boundary.tenant(kind, 't')} and ${where} and ${search} order by ${shown}, 1 limit ${Math.min(limit, MAX_LIMIT)}`.rows<Choice>(
      db,
    );
  return rows;
}

import type { Kysely } from 'kysely';
import { didYouMean, inTransaction, LintelError } from '../base/index.js';
import { type FieldShape, readValue, type Scalar } from '../predicate/index.js';
import { Boundary } from './boundary.js';
import { isAnywhere } from './find.js';
import { linkPeople } from './linking.js';
import { ScopedDb } from './scope.js';

/** Which of the named records were changed, and which were not: out of reach or not there, which is not told apart. */
export interface ChangeAnswer {
  readonly changed: readonly unknown[];
  readonly unchanged: readonly unknown[];
}

const MAX_IDS = 1000;
/** What every column of numbers holds that an id may stand in: PostgreSQL's `integer`. */
const NARROW = 2 ** 31 - 1;
/** SQLSTATE `numeric_value_out_of_range`; of MariaDB `ER_WARN_DATA_OUT_OF_RANGE`. */
const OUT_OF_RANGE = new Set<unknown>(['22003', 'ER_WARN_DATA_OUT_OF_RANGE']);

/** What a change sets, taken apart: lists of people, and columns in the steps in which they are set. */
interface Wanted {
  readonly lists: readonly (readonly [field: string, people: unknown])[];
  readonly steps: readonly Readonly<Record<string, unknown>>[];
}

/** A new owner is given after the other changes, as the reach may end with it. @throws LintelError `unknown-field` with the near match. */
function wantedOf(whole: Boundary, kind: string, values: Readonly<Record<string, unknown>>): Wanted {
  const { fields } = whole.standing.charter.kind(kind);
  const { fields: shapes } = whole.shape(kind);
  const lists: [string, unknown][] = [];
  const plain: Record<string, unknown> = {};
  const owning: Record<string, unknown> = {};
  for (const [field, value] of Object.entries(values)) {
    const shape = Object.hasOwn(shapes, field) ? shapes[field] : undefined;
    if (!shape)
      throw new LintelError('unknown-field', `${kind} has no field "${field}"${didYouMean(field, Object.keys(shapes))} that a change could set`, {
        kind,
        field,
      });
    if (shape.link) lists.push([field, value]);
    else (fields[field]?.role === 'owner' ? owning : plain)[shape.column] = value;
  }
  return { lists, steps: [plain, owning].filter((step) => Object.keys(step).length > 0) };
}

/** The id as its column has it; null for one of nothing. */
async function idIn(tx: Kysely<any>, boundary: Boundary, kind: string, id: unknown): Promise<Scalar | null> {
  const { fields, idField } = boundary.shape(kind);
  // What is no id of this type is the id of nothing.
  const read = readValue((fields[idField] as FieldShape).type, id) ?? null;
  // Nor is what its column is too narrow for.
  return typeof read === 'number' && Math.abs(read) > NARROW && !(await isAnywhere(tx, boundary, kind, read)) ? null : read;
}

/** @returns whether the record is in reach. @throws LintelError `write-out-of-reach` where a part of it is. */
async function changeOne(tx: Kysely<any>, boundary: Boundary, kind: string, id: unknown, { lists, steps }: Wanted): Promise<boolean> {
  const { table, fields, idField } = boundary.shape(kind);
  const scope = new ScopedDb<any>(tx, boundary);
  const is = await idIn(tx, boundary, kind, id);
  const reached: boolean[] = [];
  for (const [field, people] of lists) reached.push(await linkPeople(tx, boundary, kind, field, is, people));
  for (const step of steps) {
    const { numUpdatedRows } = await scope
      .updateTable(table)
      .set(step)
      .where((fields[idField] as FieldShape).column, '=', is)
      .executeTakeFirstOrThrow();
    reached.push(numUpdatedRows === 1n);
  }
  // The first step may have reached what the second does not: then nothing of the whole was right.
  if (new Set(reached).size > 1)
    throw new LintelError('write-out-of-reach', `a part of what is to be changed of ${kind} ${String(id)} is out of your reach; nothing was written`, {
      kind,
      id,
    });
  return reached[0] === true;
}

/** Changes named records through scope, in one transaction, and says of each whether it was. A list of people is given whole, or as `{ add, remove }`. */
export async function change(
  db: Kysely<any>,
  whole: Boundary,
  kind: string,
  ids: readonly unknown[],
  values: Readonly<Record<string, unknown>>,
): Promise<ChangeAnswer> {
  if (ids.length > MAX_IDS) throw new LintelError('too-many', `${ids.length} records at once; at most ${MAX_IDS}`, {});
  const wanted = wantedOf(whole, kind, values);
  const isLinking = wanted.lists.length > 0;
  const inside = (boundary: Boundary) =>
    inTransaction(db, async (tx) => {
      // The membership is locked before records are, as it is elsewhere. Where that is in another database, nobody is taken off records until this has ended.
      if (isLinking) await (boundary.support.keepMembership ?? boundary.writer.linksOf(boundary.standing.facts.tenant.id)?.keep)?.rows(tx);
      const changed: unknown[] = [];
      const unchanged: unknown[] = [];
      for (const id of new Set(ids)) ((await changeOne(tx, boundary, kind, id, wanted)) ? changed : unchanged).push(id);
      return { changed, unchanged };
    });
  const { holding } = whole.support;
  // Nobody is removed between being found and being linked, wherever they are known.
  const done = isLinking && holding ? holding((support) => inside(new Boundary(whole.standing, support, whole.writer))) : inside(whole);
  return done.catch((error: unknown) => {
    if (!OUT_OF_RANGE.has((error as { code?: unknown } | null)?.code)) throw error;
    throw new LintelError('bad-value', `a value for a ${whole.standing.charter.kind(kind).one} is out of the range of its column; nothing was written`, {
      kind,
    });
  });
}

/** Gives what one person owns to another, through scope, in a transaction that is open. Answers how many there were, and how many more the standing reads. */
export async function handOver(
  tx: Kysely<any>,
  boundary: Boundary,
  kind: string,
  from: string,
  to: string,
): Promise<{ readonly handed: number; readonly left: number }> {
  const owner = boundary.standing.charter.fieldWith(kind, 'owner');
  if (owner === undefined) throw new LintelError('no-owner', `${boundary.standing.charter.kind(kind).many} have no owner to hand over from`, { kind });
  const { table, fields } = boundary.shape(kind);
  const { column, type } = fields[owner] as FieldShape;
  const scope = new ScopedDb<any>(tx, boundary);
  const [was, becomes] = [readValue(type, from), readValue(type, to)];
  const { numUpdatedRows } = await scope
    .updateTable(table)
    .set({ [column]: becomes })
    .where(column, '=', was)
    .executeTakeFirstOrThrow();
  const left = await scope
    .selectFrom(table)
    .select((eb) => eb.fn.countAll<string>().as('count'))
    .where(column, '=', was)
    .executeTakeFirstOrThrow();
  return { handed: Number(numUpdatedRows), left: Number(left.count) };
}

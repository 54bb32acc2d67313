import type { Kysely } from 'kysely';
import { didYouMean, inTransaction, LintelError } from '../base/index.js';
import { type FieldShape, readValue } from '../predicate/index.js';
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

/**
 * Changes named records through scope, in one transaction, and says of each whether it was. A list of people is given whole, or as `{ add, remove }`. A new owner is given after the other
 * changes, as the reach may end with it.
 */
export async function change(
  db: Kysely<any>,
  whole: Boundary,
  kind: string,
  ids: readonly unknown[],
  values: Readonly<Record<string, unknown>>,
): Promise<ChangeAnswer> {
  const { charter } = whole.standing;
  const { fields } = charter.kind(kind);
  const { table, fields: shapes, idField } = whole.shape(kind);
  if (ids.length > MAX_IDS) throw new LintelError('too-many', `${ids.length} records at once; at most ${MAX_IDS}`, {});
  const lists = Object.entries(values).filter(([field]) => Object.hasOwn(shapes, field) && shapes[field]?.link);
  const columns = Object.entries(values).flatMap(([field, value]) => {
    const shape = Object.hasOwn(shapes, field) ? shapes[field] : undefined;
    if (shape?.link) return [];
    if (!shape)
      throw new LintelError('unknown-field', `${kind} has no field "${field}"${didYouMean(field, Object.keys(shapes))} that a change could set`, {
        kind,
        field,
      });
    return { column: shape.column, value, owner: fields[field]?.role === 'owner' };
  });
  const steps = [columns.filter((c) => !c.owner), columns.filter((c) => c.owner)]
    .filter((step) => step.length > 0)
    .map((step) => Object.fromEntries(step.map((c) => [c.column, c.value])));
  const inside = (boundary: Boundary) =>
    inTransaction(db, async (tx) => {
      const changed: unknown[] = [];
      const unchanged: unknown[] = [];
      const scope = new ScopedDb<any>(tx, boundary);
      // The membership is locked before records are, as it is elsewhere. Where that is in another database, nobody is taken off records until this has ended.
      const kept = boundary.support.keepMembership ?? boundary.writer.linksOf(boundary.standing.facts.tenant.id)?.keep;
      if (lists.length > 0) await kept?.rows(tx);
      for (const id of new Set(ids)) {
        const counts: bigint[] = [];
        const { column, type } = shapes[idField] as FieldShape;
        // What is no id of this type is the id of nothing.
        const read = readValue(type, id) ?? null;
        // Nor is what its column is too narrow for.
        const is = typeof read === 'number' && Math.abs(read) > NARROW && !(await isAnywhere(tx, boundary, kind, read)) ? null : read;
        for (const [field, people] of lists) counts.push((await linkPeople(tx, boundary, kind, field, is, people)) ? 1n : 0n);
        for (const step of steps) {
          const { numUpdatedRows } = await scope.updateTable(table).set(step).where(column, '=', is).executeTakeFirstOrThrow();
          counts.push(numUpdatedRows);
        }
        // The first step may have reached what the second does not: then nothing of the whole was right.
        if (new Set(counts).size > 1)
          throw new LintelError('write-out-of-reach', `a part of what is to be changed of ${kind} ${String(id)} is out of your reach; nothing was written`, {
            kind,
            id,
          });
        (counts[0] === 1n ? changed : unchanged).push(id);
      }
      return { changed, unchanged };
    });
  const { holding } = whole.support;
  // Nobody is removed between being found and being linked, wherever they are known.
  const done = lists.length > 0 && holding ? holding((support) => inside(new Boundary(whole.standing, support, whole.writer))) : inside(whole);
  return done.catch((error: unknown) => {
    if (!OUT_OF_RANGE.has((error as { code?: unknown } | null)?.code)) throw error;
    throw new LintelError('bad-value', `a value for a ${charter.kind(kind).one} is out of the range of its column; nothing was written`, {
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

import type { RawNode } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Seen } from '../journal/put.js';
import { checkFailure } from './failure.js';

/** A column of the result that carries our count, and one that tells a real row from none. */
export const COUNT = 'lintelcount';
export const ROW = 'lintelrow';

type Ids = readonly unknown[];

/** The same as one statement, as steps, for a database where no write stands inside a query; they are to run in one transaction. */
export interface WriteSteps {
  /** Ids of the rows that the write reaches, locked. Absent for an insert. */
  readonly reached?: RawNode;
  /** Rows that are to be returned although they will be gone. */
  readonly leaving?: (ids: Ids) => RawNode;
  /** The write. Answers the ids of what it wrote, unless they are only counted. */
  readonly write: (ids: Ids) => RawNode;
  /** It tells how many it wrote: all that were reached, or somebody was faster. */
  readonly isCounted: boolean;
  /** For each written row which check failed, if one did. */
  readonly failed?: (ids: Ids) => RawNode;
  /** Where a plain read may be of an earlier moment: counts the rows of which a check fails now. */
  readonly failing?: (ids: Ids) => RawNode;
  readonly returned?: (ids: Ids) => RawNode;
  readonly journal?: JournalSteps;
  readonly upsert?: UpsertSteps;
}

/** What is put down of a write, as steps. */
export interface JournalSteps {
  /** Rows as they are before; of an upsert, those that are there already. Absent for an insert. */
  readonly before?: (ids: Ids) => RawNode;
  /** Rows as they became. Absent for a delete. */
  readonly after?: (ids: Ids) => RawNode;
  readonly put: (before: readonly Seen[], after: readonly Seen[] | undefined) => RawNode | undefined;
}

/** A row that an upsert finds there: its id, and that of the given row which meets it. */
export interface Met {
  readonly lintelid: unknown;
  readonly lintelgiven: number | string;
  readonly lintelok: number | boolean | null;
}

/** An insert of rows of which some are there already: those are looked for first, and changed. */
export interface UpsertSteps {
  readonly given: number;
  readonly met: RawNode;
  readonly insert: (rows: readonly number[]) => RawNode;
  /** Absent where nothing is to happen to them. */
  readonly change?: (met: readonly Met[]) => RawNode;
}

/** A connection in an open transaction. */
export interface Runs {
  /** Rows, past every plugin. */
  rows(node: RawNode): Promise<any[]>;
  /** Rows as the caller gets them. */
  shown(node: RawNode): Promise<any[]>;
  count(node: RawNode): Promise<number>;
}

const faster = () => new LintelError('try-again', 'Somebody changed what this was to change in the same moment. Nothing was written; try again.', {});
const ids = (rows: readonly { lintelid: unknown }[]) => rows.map((row) => row.lintelid);

/** Takes the steps of a write. Answers what it returns, and how many rows it wrote. @throws LintelError; then the transaction has to be taken back. */
export async function takeSteps(steps: WriteSteps, on: Runs): Promise<{ readonly returned: any[]; readonly count: number }> {
  const { journal, upsert } = steps;
  const met: Met[] = upsert ? await on.rows(upsert.met) : [];
  const changing = upsert?.change ? met.filter(({ lintelok }) => Boolean(Number(lintelok))) : [];
  // guard reached-rows-written by mariadb: Other rows would be written than those in reach.
  const reached = steps.reached ? /* guard reached-rows-written (replaced) */ ids(await on.rows(steps.reached)) : ids(changing);
  const leaving = steps.leaving && reached.length > 0 ? await on.shown(steps.leaving(reached)) : [];
  const before = journal?.before ? await on.rows(journal.before(reached)) : [];
  const written = upsert ? await upserted(upsert, met, changing, on) : await wrote(steps, reached, on);
  const put = journal?.put(before, journal.after && (await on.rows(journal.after(written))));
  if (put) await on.rows(put);
  await insistOnHolding(steps, written, on);
  return { returned: steps.returned ? await on.shown(steps.returned(written)) : leaving, count: written.length };
}

async function wrote(steps: WriteSteps, reached: Ids, on: Runs): Promise<Ids> {
  if (!steps.isCounted) return ids(await on.rows(steps.write(reached)));
  if (reached.length > 0 && (await on.count(steps.write(reached))) !== reached.length) throw faster();
  return reached;
}

/** What is new is made, and what is there and in reach is changed. */
async function upserted(steps: UpsertSteps, met: readonly Met[], changing: readonly Met[], on: Runs): Promise<Ids> {
  const there = new Set(met.map(({ lintelgiven }) => Number(lintelgiven)));
  const fresh = Array.from({ length: steps.given }, (_, i) => i).filter((i) => !there.has(i));
  const made =
    fresh.length === 0
      ? []
      : ids(
          await on.rows(steps.insert(fresh)).catch(async (error: unknown) => {
            // Of what was made since, or of what another key of the table refuses?
            throw (await on.rows(steps.met)).length > met.length ? faster() : error;
          }),
        );
  if (steps.change && changing.length > 0 && (await on.count(steps.change(changing))) !== changing.length) throw faster();
  return [...made, ...ids(changing)];
}

async function insistOnHolding({ failed, failing }: WriteSteps, written: Ids, on: Runs): Promise<void> {
  if (!failed || written.length === 0) return;
  // guard written-rows-checked by mariadb: What became of written rows would not be looked at.
  if (failing && /* guard written-rows-checked */ (await on.count(failing(written))) === 0) return;
  const first = (await on.rows(failed(written))).find((row) => row.lintelfailed !== null);
  if (first) throw checkFailure(first.lintelfailed);
  if (failing) throw faster();
}

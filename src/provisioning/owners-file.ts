import { type Kysely, sql } from 'kysely';
import { inParts, isLintelError, LintelError } from '../base/index.js';
import type { ServerStanding } from '../server/index.js';
import { LineError, type LineProblem, named, readLines } from './lines.js';

/** A record, and whose it is to be from now on; null: nobody's. */
export interface Owned {
  readonly line: number;
  readonly record: string;
  readonly owner: string | null;
}

/** What a list of records and owners says. */
export interface OwnersFile {
  /** In the order of the file; only to be used where there are no problems. */
  readonly records: readonly Owned[];
  readonly problems: readonly LineProblem[];
}

/** What became of records that are to be somebody's. */
export interface HandReport {
  handed: number;
  /** Whose they are already. */
  same: number;
  readonly refused: { readonly record: string; readonly code: string; readonly words: string }[];
}

function ownerField(standing: ServerStanding<any>, kind: string): string {
  const field = standing.charter.fieldWith(kind, 'owner');
  if (field === undefined) throw new LintelError('no-owner', `${standing.charter.kind(kind).many} have no owner`, { kind });
  return field;
}

/**
 * Reads a list of records as CSV: `record`, by its id, and `owner`, by the address, the id or the name of a member; empty for nobody. The whole is read before anything is done.
 *
 * @param standing for whoever may see the members.
 * @throws LintelError `unknown-kind`, `no-owner` for a kind without one; `bad-file`, `too-many`.
 */
export async function readOwnersFile(text: string, standing: ServerStanding<any>, kind: string): Promise<OwnersFile> {
  ownerField(standing, kind);
  const members = await standing.members.list();
  const times = new Map<string, number>();
  for (const { name } of members) times.set(name.toLowerCase(), (times.get(name.toLowerCase()) ?? 0) + 1);
  const names = members.flatMap(({ userId, address, name }) => [
    { id: userId, called: address },
    // A name that two have names neither.
    ...(times.get(name.toLowerCase()) === 1 ? [{ id: userId, called: name }] : []),
  ]);
  const { lines, problems } = readLines(text, ['record', 'owner'], 'record');
  const seen = new Map<string, number>();
  const records: Owned[] = [];
  for (const { line, cell, read, report, isSound } of lines) {
    const record = cell('record');
    const owner = cell('owner') === '' ? null : read('owner', () => named(names, cell('owner'), 'member', 'owner'));
    const twice = seen.get(record);
    if (record === '') report(new LineError('no-record', 'say which record, by its id', 'record'));
    else if (twice !== undefined) report(new LineError('said-twice', `${record} stands in line ${twice} already`, 'record'));
    seen.set(record, line);
    if (isSound() && owner !== undefined) records.push({ line, record, owner });
  }
  return { records, problems };
}

/** So many records are one transaction. */
const TOGETHER = 100;

/**
 * Makes records somebody's, each by the rules of scope for whoever does it: it takes the action that guards the owner, and the new one has to be able to read it. In parts of 100, each a
 * transaction; again with the same it does nothing.
 *
 * @param how `dryRun`: says what it would do, and does nothing.
 * @returns what could not be done, record by record; a record that is not there and one that is out of reach are not told apart.
 * @throws LintelError `no-owner`, `not-found` for somebody who is no member, `only-a-look` for somebody who looks as another.
 */
export async function handRecords(
  standing: ServerStanding<any>,
  kind: string,
  records: readonly Owned[],
  { dryRun = false, progress }: { readonly dryRun?: boolean; readonly progress?: (done: number) => void } = {},
): Promise<HandReport> {
  void standing.memberId;
  const report: HandReport = { handed: 0, same: 0, refused: [] };
  let looked = 0;
  for (const part of inParts(records, TOGETHER)) {
    await standing.together(async (inside, tx) => {
      await sql`savepoint lintel_tried`.execute(tx);
      for (const one of part) await handOne(tx, inside, kind, one, report);
      if (dryRun) await sql`rollback to savepoint lintel_tried`.execute(tx);
      await sql`release savepoint lintel_tried`.execute(tx);
    });
    looked += part.length;
    progress?.(looked);
  }
  return report;
}

async function handOne(tx: Kysely<any>, standing: ServerStanding<any>, kind: string, { record, owner }: Owned, report: HandReport): Promise<void> {
  const field = ownerField(standing, kind);
  const idField = standing.charter.shapes[kind]?.idField as string;
  await sql`savepoint lintel_handed`.execute(tx);
  try {
    const [found] = (await standing.find(kind, { where: { [idField]: record } })) as Record<string, unknown>[];
    if (!found) throw new LintelError('not-found', `There is no such ${standing.charter.kind(kind).one}.`, {});
    const is = found[field] === null || found[field] === undefined ? null : String(found[field]);
    if (is === owner) report.same += 1;
    else {
      const { changed } = await standing.change(kind, [found[idField]], { [field]: owner } as never);
      if (changed.length === 0) throw new LintelError('write-out-of-reach', `You may not say whose this ${standing.charter.kind(kind).one} is.`, {});
      report.handed += 1;
    }
    await sql`release savepoint lintel_handed`.execute(tx);
  } catch (error) {
    if (!isLintelError(error)) throw error;
    await sql`rollback to savepoint lintel_handed`.execute(tx);
    report.refused.push({ record, code: error.code, words: error.message });
  }
}

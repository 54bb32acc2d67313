import { LintelError } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import * as membership from '../membership/index.js';
import { type KindShape, readValue } from '../predicate/index.js';
import { type Boundary, type JournalLine, readJournal } from '../scoping/index.js';
import type { Standing } from '../standing/index.js';
import type { Workplace } from './workplace.js';

/** Somebody in a journal, of whom whoever reads it may know. */
export interface InJournal {
  readonly userId: string;
  readonly name: string;
}

/** What was done to one record at one moment, as far as it is shown to somebody. */
export interface JournalEntry extends Omit<JournalLine, 'actor' | 'way'> {
  /** Who did it. Null: somebody of whom this person may not know, or whoever wrote past the library. */
  readonly by: InJournal | null;
  /** In whose place; null where this person may not know of them. */
  readonly for?: InJournal | null;
  /** By which care of the platform's. */
  readonly care?: string;
  /** It was a program. */
  readonly program?: true;
}

/** Some of a journal, the newest first. */
export interface JournalPart {
  readonly items: readonly JournalEntry[];
  /** With it as `after` the next part begins; absent at the end. A part may be short, or empty, and have a next one. */
  readonly next?: string;
}

/** Which part: default the newest 50; at most 200. */
export interface WhichPart {
  readonly limit?: number;
  readonly after?: string;
}

/** What was done to records, for one person. */
export interface Journal<Kind extends string = string> {
  /**
   * What was done to one record, which this person reaches by what shows its journal; to one that is gone, as it was last.
   *
   * @throws LintelError `no-journal` for a kind that keeps none; `not-found`, `refused`.
   */
  (kind: Kind, id: membership.Id, part?: WhichPart): Promise<JournalPart>;
  /** What a member did, to records that this person reaches. @throws LintelError `not-found` for somebody of whom they may not know. */
  of(userId: membership.Id, part?: WhichPart): Promise<JournalPart>;
  /** What was done lately, to records that this person reaches. */
  recent(part?: WhichPart): Promise<JournalPart>;
}

const MOST = 200;

/** The journal as one standing may read it. */
export function journalOf<T extends CharterTypes>(
  standing: Standing<T>,
  place: Workplace,
  boundary: Boundary,
  insist: (action: string, id: membership.Id) => Promise<void>,
): Journal {
  const { setting, db } = place;
  async function read(query: { kind?: string; record?: string; actor?: string }, { limit = 50, after }: WhichPart = {}): Promise<JournalPart> {
    if (!Number.isInteger(limit) || limit < 1 || limit > MOST)
      throw new LintelError('bad-limit', `limit is ${limit}; it must be a whole number from 1 to ${MOST}`);
    const { lines, next } = await readJournal(db, boundary, { ...query, limit, ...(after !== undefined && { after }) });
    const people = await membership.toldPeople(
      setting,
      standing,
      lines.flatMap(({ actor, way }) => [actor, way.for].flatMap((id) => id ?? [])),
    );
    const items = lines.map(({ actor, way: { for: of, ...way }, ...line }): JournalEntry => {
      return { ...line, by: (actor && people.get(actor)) || null, ...(of !== undefined && { for: people.get(of) ?? null }), ...way };
    });
    return { items, ...(next !== undefined && { next }) };
  }
  const ofRecord = async (kind: string, id: membership.Id, part?: WhichPart): Promise<JournalPart> => {
    const { journal } = standing.charter.kind(kind);
    if (!journal) throw new LintelError('no-journal', `${kind} keeps no journal; say journal: true in the charter`, { kind });
    const { idField, fields } = standing.charter.shapes[kind] as KindShape;
    const record = readValue(fields[idField]?.type ?? 'text', id);
    const found = record === undefined ? { items: [] } : await read({ kind, record: String(record) }, part);
    // Nothing of it is shown: it has none yet, or is not there for this person.
    if (found.items.length === 0 && part?.after === undefined) await insist(`${kind}.${journal.shownBy ?? 'read'}`, id);
    return found;
  };
  return Object.assign(ofRecord, {
    of: async (userId: membership.Id, part?: WhichPart) => {
      const actor = membership.spelled(setting.charter, 'person', userId);
      if (actor !== standing.userId) await membership.insistOnKnown(setting, standing, actor);
      return read({ actor }, part);
    },
    recent: (part?: WhichPart) => read({}, part),
  });
}

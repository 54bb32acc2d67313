import { isLintelError, type LintelError } from '../base/index.js';
import { type CharterTypes, readCharter } from '../charter/index.js';
import { type FieldChange, type JournalLine, linesSince } from '../scoping/index.js';
import type { Lintel, ServerStanding } from '../server/index.js';
import { everythingMet } from '../standing/index.js';
import { TRIAL_MS, undone } from '../store/index.js';

/** What came of something that somebody tried. */
export interface TriedAs<R> {
  /** What the work answered; absent where it was refused. */
  readonly answer?: R;
  /** Why it was refused. */
  readonly refused?: LintelError;
  /** What would have changed, record by record, in order. */
  readonly changed: readonly {
    readonly kind: string;
    readonly record: string;
    readonly what: JournalLine['what'];
    readonly fields: Readonly<Record<string, FieldChange>>;
  }[];
}

/**
 * As a person, tries something, tells what would have changed, and takes it back: in a test, without signing in as anybody. Obligations count as met. All kinds but shared ones are
 * watched, whether they keep a journal or not; the records have to be in the library's database.
 *
 * @param work gets the person's standing, in one transaction that is taken back.
 * @throws LintelError `trial-too-long` after five seconds; what the work throws, but for a refusal of ours, which is answered.
 * @example
 * const { changed } = await tryAs(lintel, { user: 'tobias', tenant: 'alderbrook' }, (tobias) => tobias.change('hive', ['a-hive-01'], { name: 'Amber' }));
 */
export async function tryAs<T extends CharterTypes, R>(
  lintel: Lintel<T>,
  who: { readonly user: string | number; readonly tenant: string | number },
  work: (standing: ServerStanding<T>) => Promise<R>,
): Promise<TriedAs<R>> {
  const { data } = lintel.charter;
  const kinds = Object.entries(data.kinds).map(([name, kind]) => [name, kind.shared ? kind : { ...kind, journal: {} }]);
  const watched = readCharter({ ...data, kinds: Object.fromEntries(kinds) });
  return undone(await lintel.recordsOf(who.tenant), TRIAL_MS, async (db) => {
    const inside = lintel.overCharter(db, watched as never);
    const standing = await inside.enter({ ...who, fulfilled: everythingMet(watched) });
    const { result, lines } = await linesSince(db, watched as never, () =>
      work(standing).then(
        (answer) => ({ answer }),
        (error: unknown) => {
          if (isLintelError(error)) return { refused: error };
          throw error;
        },
      ),
    );
    return { ...result, changed: lines.map(({ kind, record, what, fields }) => ({ kind, record, what, fields })) };
  });
}

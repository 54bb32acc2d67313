import type { Kysely } from 'kysely';
import { isLintelError, LintelError } from '../base/index.js';
import * as membership from '../membership/index.js';
import type { Facts } from '../standing/index.js';
import { TRIAL_MS, undone } from '../store/index.js';
import type { Workplace } from './workplace.js';

/** @throws LintelError `trial-elsewhere`: what it names would not be taken back. */
export function elsewhere(what: string, instead: string): never {
  throw new LintelError('trial-elsewhere', `in a trial ${what} would not be taken back; ${instead}`, {});
}

/**
 * Does something as the person looked as, in one transaction that is taken back. That it is tried, by whom and as whom, is on record before it begins, how it came out after.
 *
 * @param outcome how it came out, in a few words for the record.
 */
export async function tryIn<R>(
  place: Workplace,
  facts: Facts,
  what: string,
  work: (inside: Workplace, facts: Facts) => Promise<R>,
  outcome: (result: R) => string,
): Promise<R> {
  const { look } = facts;
  const { setting } = place;
  if (!look?.tries || look.trying) throw new LintelError('not-for-trial', 'nothing is tried here: begin a look with tries, and come in by it', {});
  const trying = { ...look, trying: true } as const;
  // guard trial-on-record by looks: A trial would not be on record.
  const id = await /* guard trial-on-record (unwrapped) */ membership.putTrial(setting, facts, what);
  const end = (how: string) => membership.putOutcome(setting, facts, id, how);
  try {
    const result = await undone(place.db as Kysely<any>, TRIAL_MS, (db) =>
      work(
        { ...place, db, copyFor: undefined, trialOf: place.db, setting: { ...setting, db, tried: { user: facts.me.userId as string, look: trying } } },
        { ...facts, look: trying },
      ),
    );
    await end(outcome(result));
    return result;
  } catch (error) {
    await end(isLintelError(error) ? error.code : 'failed');
    throw error;
  }
}

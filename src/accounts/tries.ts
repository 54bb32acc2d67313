import { type Kysely, sql } from 'kysely';
import { RateLimiterMemory, RateLimiterRes } from 'rate-limiter-flexible';
import { LintelError } from '../base/index.js';
import type { AccountTables } from './tables.js';

/** So many wrong ones are free; then each has to wait, from one second on and twice as long each time; the tenth locks for a quarter of an hour, and twice as long each time after. */
const FREE = 5;
export const LOCKS = 10;
const LOCK_SECONDS = 15 * 60;
const FORGIVEN_HOURS = 24;

/**
 * Counts a try, in the database for all processes, before anything is hashed: of several at once each is counted. Undefined: it is not the time for one, and nothing was
 * counted. Else which wrong one it would be. Whoever got it right has not tried: {@link forgive}.
 *
 * @param key a keyed hash of the address that was typed, account or none.
 */
export async function countTry(db: Kysely<AccountTables>, key: string, now: number): Promise<number | undefined> {
  const at = new Date(now);
  const wrong = sql`case when t.at < ${new Date(now - FORGIVEN_HOURS * 3_600_000)} then 1 else t.wrong + 1 end`;
  const seconds = sql`case when ${wrong} < ${sql.lit(FREE)} then 0 when ${wrong} < ${sql.lit(LOCKS)} then power(2, ${wrong} - ${sql.lit(FREE)})
    else least(${sql.lit(FORGIVEN_HOURS * 3600)}, ${sql.lit(LOCK_SECONDS)} * power(2, least(${wrong} - ${sql.lit(LOCKS)}, 20))) end`;
  // guard tries-wait by accounts: Somebody who guesses would not have to wait between tries.
  const { rows } = await sql<{ wrong: number }>`insert into lintel_try as t (key, wrong, open_at, at) values (${key}, 1, ${at}, ${at})
    on conflict (key) do update set wrong = ${wrong}, open_at = ${at}::timestamptz + make_interval(secs => ${seconds}), at = ${at}${/* guard tries-wait */ sql` where t.open_at <= ${at}`} returning t.wrong`.execute(
    db,
  );
  return rows[0]?.wrong;
}

export async function forgive(db: Kysely<AccountTables>, key: string): Promise<void> {
  await db.deleteFrom('lintel_try').where('key', '=', key).execute();
}

/** Slows a place down that tries much, whomever it tries: sixty in a minute. In memory: each process for itself. */
export class Places {
  readonly #limiter = new RateLimiterMemory({ points: 60, duration: 60 });

  /** @returns what takes it back, for whoever got it right. @throws LintelError `too-fast`. */
  async count(place: string | undefined): Promise<() => Promise<unknown>> {
    if (place === undefined) return async () => undefined;
    await this.#limiter.consume(place).catch((refused: unknown) => {
      if (!(refused instanceof RateLimiterRes)) throw refused;
      throw new LintelError('too-fast', 'Too many tries. Wait a little.', { seconds: Math.ceil(refused.msBeforeNext / 1000) });
    });
    return () => this.#limiter.reward(place);
  }
}

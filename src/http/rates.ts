import { RateLimiterMemory, RateLimiterRes } from 'rate-limiter-flexible';
import { LintelError } from '../base/index.js';

/** For each request of a person, a place whence requests come may send so many: there may be many people behind one. */
const PEOPLE_AT_A_PLACE = 20;
/** Of what tells that somebody guesses, a key, a link, a tenant, one for so many requests: of one person, and of whoever is not signed in from one place. */
const REQUESTS_A_GUESS = 10;

/** Counts what is asked, before anything is read for it. In memory: each process for itself. */
export class Rates {
  readonly #people: RateLimiterMemory;
  readonly #places: RateLimiterMemory;
  readonly #guesses: RateLimiterMemory;

  constructor(perMinute = 600) {
    this.#people = new RateLimiterMemory({ points: perMinute, duration: 60 });
    this.#places = new RateLimiterMemory({ points: perMinute * PEOPLE_AT_A_PLACE, duration: 60 });
    this.#guesses = new RateLimiterMemory({ points: Math.ceil(perMinute / REQUESTS_A_GUESS), duration: 60 });
  }

  /**
   * @param who the person who is signed in, or a key; absent for nobody, of whom the place alone counts.
   * @param isPerson whoever is signed in is answered also from a place where somebody guesses.
   * @param place whence it comes; where that is not known, nothing counts by place, so that one client cannot shut out all.
   * @returns to be called where what was asked is what somebody asks who guesses.
   * @throws LintelError `too-fast`.
   */
  async count(who: string | undefined, isPerson: boolean, place: string | undefined, cost: number): Promise<() => Promise<void>> {
    const guesser = isPerson ? who : place && `at ${place}`;
    const guesses = guesser === undefined ? null : await this.#guesses.get(guesser);
    if (guesses && guesses.remainingPoints <= 0) throw tooFast(guesses);
    if (place !== undefined) await take(this.#places, place, cost);
    if (who !== undefined) await take(this.#people, who, cost);
    else if (place !== undefined) await take(this.#people, `at ${place}`, cost);
    return async () => {
      if (guesser !== undefined) await this.#guesses.consume(guesser).catch(() => undefined);
    };
  }
}

const tooFast = ({ msBeforeNext }: RateLimiterRes) =>
  new LintelError('too-fast', 'Too many requests. Wait a moment.', { seconds: Math.ceil(msBeforeNext / 1000) });

async function take(limiter: RateLimiterMemory, key: string, points: number): Promise<void> {
  await limiter.consume(key, points).catch((refused: unknown) => {
    throw refused instanceof RateLimiterRes ? tooFast(refused) : refused;
  });
}

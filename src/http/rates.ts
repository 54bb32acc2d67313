import { RateLimiterMemory, RateLimiterRes } from 'rate-limiter-flexible';
import { LintelError } from '../base/index.js';

/** For each request of a person, a place whence requests come may send so many: there may be many people behind one. */
const PEOPLE_AT_A_PLACE = 20;
/** Of what tells that somebody guesses, a key, a link, a tenant, so many from one place in a minute. */
const GUESSES = 60;

/** Counts what is asked, before anything is read for it. In memory: each process for itself. */
export class Rates {
  readonly #people: RateLimiterMemory;
  readonly #places: RateLimiterMemory;
  readonly #guesses = new RateLimiterMemory({ points: GUESSES, duration: 60 });

  constructor(perMinute: number) {
    this.#people = new RateLimiterMemory({ points: perMinute, duration: 60 });
    this.#places = new RateLimiterMemory({ points: perMinute * PEOPLE_AT_A_PLACE, duration: 60 });
  }

  /**
   * @param who the person who is signed in, or a key; absent for nobody, of whom the place alone counts.
   * @param isPerson whoever is signed in guesses nothing: they are answered also from a place where somebody does.
   * @param place whence it comes; where that is not known, nothing counts by place, so that one client cannot shut out all.
   * @throws LintelError `too-fast`.
   */
  async count(who: string | undefined, isPerson: boolean, place: string | undefined, cost: number): Promise<void> {
    if (place !== undefined) {
      const guesses = await this.#guesses.get(place);
      if (!isPerson && guesses && guesses.consumedPoints >= GUESSES) throw tooFast(guesses);
      await take(this.#places, place, cost);
    }
    if (who !== undefined) await take(this.#people, who, cost);
    else if (place !== undefined) await take(this.#people, `at ${place}`, cost);
  }

  /** Something was asked that whoever guesses asks. */
  async guessed(place: string | undefined): Promise<void> {
    if (place !== undefined) await this.#guesses.consume(place).catch(() => undefined);
  }
}

const tooFast = ({ msBeforeNext }: RateLimiterRes) =>
  new LintelError('too-fast', 'Too many requests. Wait a moment.', { seconds: Math.ceil(msBeforeNext / 1000) });

async function take(limiter: RateLimiterMemory, key: string, points: number): Promise<void> {
  await limiter.consume(key, points).catch((refused: unknown) => {
    throw refused instanceof RateLimiterRes ? tooFast(refused) : refused;
  });
}

import { RateLimiterMemory, RateLimiterRes } from 'rate-limiter-flexible';
import { LintelError } from '../base/index.js';

const QUARTER = 15 * 60;

/**
 * Tries of passwords, counted before anything is hashed: of one address, ten in a quarter of an hour from one place and a hundred from all; of all addresses, sixty in a minute
 * from one place. Whoever got it right has not tried. In memory: each process for itself.
 */
export class Tries {
  readonly #atPlace = new RateLimiterMemory({ points: 10, duration: QUARTER });
  readonly #ofAddress = new RateLimiterMemory({ points: 100, duration: QUARTER });
  readonly #ofPlace = new RateLimiterMemory({ points: 60, duration: 60 });

  /** @returns what takes the try back. @throws LintelError `too-fast`, the same whether there is such an account or not. */
  async count(address: string, place: string | undefined): Promise<() => Promise<void>> {
    const counted = [
      ...(place === undefined ? [] : [[this.#ofPlace, place] as const, [this.#atPlace, JSON.stringify([address, place])] as const]),
      [this.#ofAddress, address] as const,
    ];
    for (const [limiter, key] of counted)
      await limiter.consume(key).catch((refused: unknown) => {
        if (!(refused instanceof RateLimiterRes)) throw refused;
        throw new LintelError('too-fast', 'Too many tries. Wait a little.', { seconds: Math.ceil(refused.msBeforeNext / 1000) });
      });
    return async () => {
      for (const [limiter, key] of counted) await limiter.reward(key);
    };
  }
}

import { LintelError } from '../base/index.js';
import type { Facts } from '../standing/index.js';

/** So many are kept; those that were not asked for longest go first. */
const MOST = 10_000;

/** Facts that were read a moment ago: never older than so many seconds, counted from before they were read, nor than anything in them that ends. */
export class KeptFacts {
  readonly #bound: number;
  readonly #kept = new Map<string, { readonly facts: Facts; readonly until: number }>();

  /** @throws LintelError `bad-cache`. */
  constructor(seconds: number) {
    if (!(seconds > 0 && seconds <= 60)) throw new LintelError('bad-cache', `the cache keeps for ${seconds} seconds; it can be from above 0 to 60`, {});
    this.#bound = seconds * 1000;
  }

  /** @param now when it is asked, in milliseconds: what is read now counts from here. */
  async get(key: string, now: number, read: () => Promise<Facts>): Promise<Facts> {
    const known = this.#kept.get(key);
    if (known && now < known.until) {
      this.#kept.delete(key);
      this.#kept.set(key, known);
      return known.facts;
    }
    const facts = await read();
    const ends = facts.endsAt === undefined ? Number.POSITIVE_INFINITY : Date.parse(facts.endsAt);
    this.#kept.delete(key);
    this.#kept.set(key, { facts, until: Math.min(now + this.#bound, ends) });
    if (this.#kept.size > MOST) this.#kept.delete(this.#kept.keys().next().value as string);
    return facts;
  }
}

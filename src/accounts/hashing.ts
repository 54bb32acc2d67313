import { randomBytes } from 'node:crypto';
import { availableParallelism } from 'node:os';
import { LintelError, needed } from '../base/index.js';

/** @throws LintelError `option-missing`. */
const argon2 = () => needed('a password', '@node-rs/argon2', () => import('@node-rs/argon2'));

/** Argon2id, as the OWASP password storage cheat sheet has it: 19 MiB, twice, one lane. */
const PARAMETERS = { memoryCost: 19_456, timeCost: 2, parallelism: 1 } as const;
const isToday = (kept: string) => kept.startsWith(`$argon2id$v=19$m=${PARAMETERS.memoryCost},t=${PARAMETERS.timeCost},p=${PARAMETERS.parallelism}$`);

/** So many may wait, and so many of them from one place. */
const WAITING = 256;
const WAITING_AT_PLACE = 32;

type Work = () => void;

/**
 * Hashes passwords, a few at once: what is left of the machine is for everybody else. Who waits is served place by place, so that one that sends many keeps nobody else out.
 */
export class Hashing {
  readonly #atOnce = Math.max(1, Math.floor(availableParallelism() / 2));
  readonly #places = new Map<string, Work[]>();
  #running = 0;
  #waiting = 0;
  /** How many were hashed, for whoever counts. */
  runs = 0;
  /** Compared with where there is no such account, so that the answer takes as long. */
  #nobody: Promise<string> | undefined;

  /** @throws LintelError `too-fast` where too many wait. */
  async hash(password: string, place: string | undefined): Promise<string> {
    const { hash } = await argon2();
    return this.#turn(place, () => hash(password, PARAMETERS));
  }

  /** @param kept absent where there is no account: it takes as long, and is never right. @throws LintelError `too-fast`. */
  async isRight(kept: string | undefined, password: string, place: string | undefined): Promise<boolean> {
    const { hash, verify } = await argon2();
    this.#nobody ??= hash(randomBytes(16).toString('hex'), PARAMETERS);
    const nobody = await this.#nobody;
    if (kept !== undefined) return this.#turn(place, () => verify(kept, password));
    // guard no-account-no-hash by accounts: The time of an answer would tell whether there is an account.
    await this.#turn(place, () => verify(nobody, password));
    return false;
  }

  /** True of a hash that was made as none is made today. */
  isOld(kept: string): boolean {
    return !isToday(kept);
  }

  async #turn<R>(place = '', work: () => Promise<R>): Promise<R> {
    if (this.#running >= this.#atOnce) await this.#wait(place);
    else this.#running += 1;
    this.runs += 1;
    try {
      return await work();
    } finally {
      this.#next();
    }
  }

  #wait(place: string): Promise<void> {
    const here = this.#places.get(place) ?? [];
    if (this.#waiting >= WAITING || here.length >= WAITING_AT_PLACE)
      throw new LintelError('too-fast', 'Too many sign in at once. Wait a little.', { seconds: 2 });
    this.#waiting += 1;
    return new Promise((resolve) => {
      here.push(resolve);
      this.#places.set(place, here);
    });
  }

  /** Hands its place to the next, of another place each time. */
  #next(): void {
    const [first] = this.#places;
    if (!first) {
      this.#running -= 1;
      return;
    }
    const [place, here] = first;
    const next = here.shift() as Work;
    this.#waiting -= 1;
    this.#places.delete(place);
    if (here.length > 0) this.#places.set(place, here);
    next();
  }
}

import fc from 'fast-check';
import { shorter, shrunkBy } from './shrink.js';

/** A sequence of choices that numbers on a tape fix. Where the tape is over each choice is the first: what is drawn ends. */
export class Choices {
  readonly #tape: readonly number[];
  #at = 0;

  constructor(tape: readonly number[]) {
    this.#tape = tape;
  }

  /** The first choices are the plainest: a smaller number on the tape is a smaller case. */
  next(below: number): number {
    return (this.#tape[this.#at++] ?? 0) % below;
  }

  of<T>(all: readonly T[]): T {
    return all[this.next(all.length)] as T;
  }

  /** True now and then; never where the tape is over. */
  oneIn(n: number): boolean {
    return this.next(n) === n - 1;
  }
}

/** Divisible by every bound up to 16, so that no choice is likelier than another. */
const NUMBERS = 720_720;

function* smaller(tape: readonly number[]): Generator<readonly number[]> {
  for (let kept = 0; kept < tape.length; kept = (kept << 1) | 1) yield tape.slice(0, kept);
  yield* shorter(tape);
  for (const [at, n] of tape.entries())
    for (const less of new Set([0, n % 16, n >> 1, n - 1])) if (less >= 0 && less < n) yield tape.map((other, i) => (i === at ? less : other));
}

/** Tapes of so many numbers, which get shorter and smaller. */
export const tapes = (length: number): fc.Arbitrary<readonly number[]> =>
  shrunkBy(fc.array(fc.noBias(fc.integer({ min: 0, max: NUMBERS - 1 })), { minLength: length, maxLength: length }), smaller);

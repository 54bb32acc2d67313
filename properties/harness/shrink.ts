import fc, { type Random, Stream, Value } from 'fast-check';

class Shrunk<T> extends fc.Arbitrary<T> {
  readonly #of: fc.Arbitrary<T>;
  readonly #smaller: (value: T) => Iterable<T>;

  constructor(of: fc.Arbitrary<T>, smaller: (value: T) => Iterable<T>) {
    super();
    this.#of = of;
    this.#smaller = smaller;
  }

  override generate(random: Random, bias: number | undefined): Value<T> {
    return new Value(this.#of.generate(random, bias).value_, undefined);
  }

  override canShrinkWithoutContext(_value: unknown): _value is T {
    return true;
  }

  override shrink(value: T): Stream<Value<T>> {
    return new Stream(this.#smaller(value)[Symbol.iterator]() as IterableIterator<T>).map((one) => new Value(one, undefined));
  }
}

/** Draws as another does, and makes a value smaller in a way of its own: the first that still fails is made smaller in turn. */
export const shrunkBy = <T>(of: fc.Arbitrary<T>, smaller: (value: T) => Iterable<T>): fc.Arbitrary<T> => new Shrunk(of, smaller);

/** A list without parts of it, the largest first. */
export function* shorter<T>(list: readonly T[], least = 0): Generator<T[]> {
  for (let length = Math.max(1, list.length >> 1); length >= 1; length >>= 1)
    for (let at = list.length - length; at >= 0; at -= length) if (list.length - length >= least) yield [...list.slice(0, at), ...list.slice(at + length)];
}

/** The same in order, at most so many at a time: for what is not sent or asked in one piece. */
export function* inParts<V>(all: readonly V[], size: number): Generator<readonly V[]> {
  for (let i = 0; i < all.length; i += size) yield all.slice(i, i + size);
}

/** Edit distance with transpositions (optimal string alignment), for near matches in messages. */
function distance(a: string, b: string): number {
  let [above, row] = [[], Array.from({ length: b.length + 1 }, (_, j) => j)] as [number[], number[]];
  for (let i = 1; i <= a.length; i++) {
    const next = [i];
    for (let j = 1; j <= b.length; j++) {
      const [left, up, diagonal] = [next[j - 1], row[j], row[j - 1]] as [number, number, number];
      const best = Math.min(left + 1, up + 1, diagonal + Number(a[i - 1] !== b[j - 1]));
      next.push(a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1] ? Math.min(best, (above[j - 2] as number) + 1) : best);
    }
    [above, row] = [row, next];
  }
  return row[b.length] as number;
}

/** The candidate closest to `word`, if it is close enough to be what was meant (a third of its letters, at least one). */
export function nearest(word: string, candidates: Iterable<string>): string | undefined {
  if (word.length > 80) return undefined;
  const bound = Math.max(1, Math.floor(word.length / 3));
  let best: string | undefined;
  let bestDistance = bound + 1;
  for (const candidate of candidates) {
    const d = distance(word.toLowerCase(), candidate.toLowerCase());
    if (d < bestDistance) [best, bestDistance] = [candidate, d];
  }
  return best;
}

/** `; did you mean X?` or nothing: the tail of a message about an unknown name. */
export function didYouMean(word: string, candidates: Iterable<string>): string {
  const near = nearest(word, candidates);
  return near === undefined ? '' : `; did you mean ${near}?`;
}

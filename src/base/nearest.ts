/** Edit distance with transpositions (optimal string alignment), for near matches in messages. */
function distance(a: string, b: string): number {
  const rows: number[][] = [Array.from({ length: b.length + 1 }, (_, j) => j)];
  for (let i = 1; i <= a.length; i++) {
    const row = [i];
    for (let j = 1; j <= b.length; j++) {
      const cost = a[i - 1] === b[j - 1] ? 0 : 1;
      let best = Math.min((rows[i - 1]?.[j] ?? 0) + 1, (row[j - 1] ?? 0) + 1, (rows[i - 1]?.[j - 1] ?? 0) + cost);
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1]) {
        best = Math.min(best, (rows[i - 2]?.[j - 2] ?? 0) + 1);
      }
      row.push(best);
    }
    rows.push(row);
  }
  return rows[a.length]?.[b.length] ?? 0;
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

/** One line of `bench/results.json`. */
export interface Result {
  readonly name: string;
  readonly unit: string;
  readonly ours: number;
  readonly baseline: number;
  readonly ratio: number;
  /** What is compared with what, and the bound that the ratio is to keep. */
  readonly note: string;
  /** Absent: reported without one. */
  readonly bound?: number;
}

export const medianOf = (values: number[]): number => values.sort((a, b) => a - b)[values.length >> 1] ?? 0;
const round = (value: number) => Number(value.toPrecision(4));

/** So long both ways are done before anything is measured, in milliseconds: what is compiled as it runs then is. A server runs for longer. */
const WARM_MS = 2000;

/** A line of two medians, in microseconds. */
export function result(name: string, note: string, bound: number | undefined, ours: number, baseline: number): Result {
  return { name, unit: 'µs', ours: round(ours), baseline: round(baseline), ratio: round(ours / baseline), note, ...(bound !== undefined && { bound }) };
}

/** Measures two ways of doing the same in turns, so that what else the machine does falls on both. Answers medians, in microseconds. */
export async function compare(
  name: string,
  note: string,
  bound: number | undefined,
  rounds: number,
  each: number,
  ours: () => unknown,
  baseline: () => unknown,
): Promise<Result> {
  const ways = [
    { work: ours, times: [] as number[] },
    { work: baseline, times: [] as number[] },
  ];
  const began = performance.now();
  for (let turn = 0; ways.some(({ times }) => times.length < rounds); turn++) {
    const isWarm = performance.now() - began > 2 * WARM_MS;
    for (const { work, times } of turn % 2 === 0 ? ways : ways.toReversed()) {
      const start = performance.now();
      for (let i = 0; i < each; i++) {
        const result = work();
        if (result instanceof Promise) await result;
      }
      if (isWarm) times.push(((performance.now() - start) * 1000) / each);
    }
  }
  const [a, b] = ways.map(({ times }) => medianOf(times)) as [number, number];
  return result(name, note, bound, a, b);
}

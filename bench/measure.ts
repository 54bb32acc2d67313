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

const median = (values: number[]): number => values.sort((a, b) => a - b)[values.length >> 1] ?? 0;
const round = (value: number) => Number(value.toPrecision(4));

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
  const times: [number[], number[]] = [[], []];
  for (let round_ = -Math.ceil(rounds / 5); round_ < rounds; round_++) {
    const order = round_ % 2 === 0 ? [0, 1] : [1, 0];
    for (const which of order) {
      const work = which === 0 ? ours : baseline;
      const start = process.hrtime.bigint();
      for (let i = 0; i < each; i++) {
        const result = work();
        if (result instanceof Promise) await result;
      }
      const spent = Number(process.hrtime.bigint() - start) / 1000 / each;
      // The first rounds only warm up.
      if (round_ >= 0) (times[which as 0 | 1] as number[]).push(spent);
    }
  }
  const [a, b] = [median(times[0]), median(times[1])];
  return { name, unit: 'µs', ours: round(a), baseline: round(b), ratio: round(a / b), note, ...(bound !== undefined && { bound }) };
}

import fc from 'fast-check';
import type { Opened } from './property.js';

export interface SearchOptions {
  readonly cases: number;
  readonly seed: number;
  /** Default true: a case that is wrong is made as small as it gets. */
  readonly shrinks?: boolean;
  /** Told how many cases were judged. */
  readonly progress?: (done: number) => void;
}

export interface Wrong<Case> {
  readonly case: Case;
  /** What is wrong with it. */
  readonly sentence: string;
}

class Failure extends Error {}

/** What is wrong with a case, whichever way it shows. */
async function judged<Case>({ judge }: Opened<Case>, one: Case): Promise<string | undefined> {
  return judge(one).catch((error: unknown) => (error instanceof Error ? `breaks: ${error.stack ?? error.message}` : `breaks: ${String(error)}`));
}

/** Draws cases and judges them; answers the first that is wrong, made small. */
export async function search<Case>(
  opened: Opened<Case>,
  { cases, seed, shrinks = true, progress = () => {} }: SearchOptions,
): Promise<Wrong<Case> | undefined> {
  let done = 0;
  let last: Wrong<Case> | undefined;
  const property = fc.asyncProperty(opened.cases, async (one) => {
    const sentence = await judged(opened, one);
    if (last === undefined) progress(++done);
    if (sentence === undefined) return;
    last = { case: one, sentence };
    throw new Failure(sentence);
  });
  const { failed } = await fc.check(property, { numRuns: cases, seed, endOnFailure: !shrinks, verbose: 0 });
  return failed ? last : undefined;
}

/** Judges one case that was kept. */
export async function again<Case>(opened: Opened<Case>, one: Case): Promise<string | undefined> {
  return judged(opened, one);
}

import { useCallback, useState } from 'react';
import { Refusal } from '../client/index.js';

/** Something that somebody does on a form: whether it is under way, what was refused, and how to do the same once more. */
export interface Doing {
  readonly busy: boolean;
  readonly error: (Refusal & { again?: () => void }) | undefined;
}

export type Run = (work: () => Promise<void>) => Promise<void>;

/** Runs what a form does, and keeps what was refused. */
export function useDoing(): Doing & { readonly run: Run } {
  const [{ busy, error }, setState] = useState<Doing>({ busy: false, error: undefined });
  const run = useCallback(async (work: () => Promise<void>): Promise<void> => {
    setState({ busy: true, error: undefined });
    try {
      await work();
      setState({ busy: false, error: undefined });
    } catch (reason) {
      const refusal = reason instanceof Refusal ? reason : new Refusal(0, 'no-answer', 'Something went wrong. Try again.');
      setState({ busy: false, error: Object.assign(refusal, { again: () => void run(work) }) });
    }
  }, []);
  return { busy, error, run };
}

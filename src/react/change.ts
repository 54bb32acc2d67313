import { useState } from 'react';
import type { Answered } from '../client/index.js';
import type { Step } from '../server/index.js';
import { type Doing, useDoing } from './doing.js';
import { useClient, usePlace } from './place.js';
import { useTenant } from './standing.js';

/** What a change would do, as it comes over HTTP. */
export type ProposalItem = Answered<'propose'>;
/** What was done by one step. */
export type DoneItem = Answered<'change'>['done'][number];

/** A change of the membership: shown first, then carried out or left. */
export interface Change extends Doing {
  /** What it would do, and what stands against it; undefined while nothing is shown. */
  readonly proposal: ProposalItem | undefined;
  /** What the page calls it, as it was handed to `show`. */
  readonly about: string;
  /** What was carried out last: ids of what was made, secrets that are shown once. */
  readonly done: readonly DoneItem[];
  /** Works out what steps would do. Nothing is written. */
  readonly show: (steps: readonly Step[], about?: string) => Promise<void>;
  /** Carries out what is shown, if it would still do the same. All lists of the page are read again. */
  readonly carryOut: () => Promise<void>;
  readonly leave: () => void;
}

/**
 * Changes of the membership of the tenant that is entered, each shown before it is carried out.
 *
 * @param onDone called once one was carried out.
 */
export function useChange(onDone?: (done: Change['done']) => void): Change {
  const client = useClient();
  const { changed } = usePlace();
  const tenant = useTenant();
  const [shown, setShown] = useState<{ readonly proposal: ProposalItem; readonly about: string }>();
  const [done, setDone] = useState<Change['done']>([]);
  const { run, ...doing } = useDoing();
  return {
    ...doing,
    proposal: shown?.proposal,
    about: shown?.about ?? '',
    done,
    show: (steps, about = '') =>
      run(async () => {
        const proposal = await client.propose({ tenant, steps });
        setShown({ proposal, about });
      }),
    carryOut: () =>
      run(async () => {
        if (!shown) return;
        const answer = await client.change({ tenant, ...shown.proposal });
        setShown(undefined);
        setDone(answer.done);
        changed();
        onDone?.(answer.done);
      }),
    leave: () => setShown(undefined),
  };
}

import { type Change, changeTenant } from '../change/index.js';
import { onRecord } from '../record/index.js';
import type { Done, Setting, Step } from '../terms/index.js';
import { insistOnSame, type Proposal } from './proposal.js';
import { runSteps } from './run.js';

/** How changes are carried out. */
export interface Carrying {
  /** Why, for the record. */
  readonly reason?: string | undefined;
  /** Carried out only if it would do now what it said it would. */
  readonly proposal?: Proposal;
  /** The mark of the latest change that the actor has seen: nothing is done if there is a later one. */
  readonly seen?: string | undefined;
}

/**
 * Carries out changes of one tenant's membership, all in one transaction: each with its event on record, or none of them. Whatever the
 * steps are, nobody ends with more than the actor may give, and the actor with no more than before.
 *
 * @throws LintelError `refused`, `own-power`, `beyond-power`, `last-keyholder`, `proposal-stale`, `changed-meanwhile`, and what the steps themselves refuse.
 */
export async function carryOut(
  setting: Setting,
  tenantId: string,
  actorId: string,
  steps: readonly Step[],
  { reason, proposal, seen }: Carrying = {},
): Promise<readonly Done[]> {
  if (steps.length === 0) return [];
  const work = async (change: Change) => {
    const { done, before, after } = await runSteps(change, steps, { reads: proposal !== undefined });
    if (proposal) await insistOnSame(change, proposal, before, after);
    return { result: done.map(({ was: _, ...told }) => told), entry: done.map((one) => onRecord(one, reason)) };
  };
  return changeTenant(setting, tenantId, actorId, work, { seen });
}

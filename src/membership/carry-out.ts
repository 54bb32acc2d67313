import { type AuditEntry, changeTenant, type Setting } from './change.js';
import { insistOnSame, type Proposal } from './proposal.js';
import { runSteps } from './run.js';
import type { Done, Step } from './step.js';

/**
 * Carries out changes of one tenant's membership, all in one transaction: each with its event on record, or none of them. Whatever the
 * steps are, nobody ends with more than the actor may give, and the actor with no more than before.
 *
 * @param proposal carried out only if it would do now what it said it would.
 * @throws LintelError `refused`, `own-power`, `beyond-power`, `last-keyholder`, `proposal-stale`, and what the steps themselves refuse.
 */
export async function carryOut(
  setting: Setting,
  tenantId: string,
  actorId: string,
  steps: readonly Step[],
  reason?: string,
  proposal?: Proposal,
): Promise<readonly Done[]> {
  if (steps.length === 0) return [];
  return changeTenant(setting, tenantId, actorId, async (change) => {
    const { done, before, after } = await runSteps(change, steps, { reads: proposal !== undefined });
    if (proposal) await insistOnSame(change, proposal, before, after);
    const entry = done.map(({ what, event, words }): AuditEntry => ({ what, event, words: { ...words, ...(reason && { reason }) } }));
    return { result: done, entry };
  });
}

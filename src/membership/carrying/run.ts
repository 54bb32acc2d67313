import { connectionSteps, domainSteps } from '../admission/index.js';
import { type Change, type Handlers, heldBy } from '../change/index.js';
import { asIfAccepted, enrollingSteps, invitationSteps, joiningSteps, programSteps, tenantSteps } from '../coming/index.js';
import {
  attributeSteps,
  deputySteps,
  type Going,
  goThrough,
  groupSteps,
  type Holdings,
  handingSteps,
  holderSteps,
  insistOnNeeds as insistOnNeedsOf,
  memberSteps,
  openingSteps,
  roleSteps,
  unitSteps,
} from '../steps/index.js';
import { inOneSpelling, type Step, takenBack } from '../terms/index.js';

/** How each step is done. */
export const HANDLERS: Handlers<Step['do']> = {
  ...holderSteps,
  ...attributeSteps,
  ...roleSteps,
  ...groupSteps,
  ...unitSteps,
  ...memberSteps,
  ...programSteps,
  ...openingSteps,
  ...tenantSteps,
  ...joiningSteps,
  ...invitationSteps,
  ...deputySteps,
  ...enrollingSteps,
  ...connectionSteps,
  ...domainSteps,
  ...handingSteps,
};

/** @throws LintelError `unknown-step`, `refused` where somebody may not take a step at all, whatever there is. */
export const insistOnNeeds = (by: Pick<Change, 'actor'>, step: Step): void => insistOnNeedsOf(HANDLERS, by, step);

/** Goes through the steps in a change that is under way, and tells what people held before and after, those among them who are still to come. The first that is refused ends it. */
export async function runSteps(change: Change, given: readonly Step[], going: Going = {}) {
  const steps = given.map((step) => inOneSpelling(change.setting.charter, step));
  const { done, before, after, known } = await goThrough(change, steps, HANDLERS, going);
  const invites = going.reads && steps.some((step) => step.do === 'invite' || step.do === 'expect' || step.do === 'enrol');
  const comers: Holdings = invites
    ? await takenBack(change.tx, async (tx) => heldBy({ ...change, tx }, await asIfAccepted({ ...change, tx }, steps)))
    : new Map();
  return { done, before, after: new Map([...after, ...comers]), known };
}

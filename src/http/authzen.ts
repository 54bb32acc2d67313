import type * as z from 'zod';
import { isLintelError, LintelError } from '../base/index.js';
import { NOBODY, spelled } from '../membership/index.js';
import type { Lintel, ServerStanding } from '../server/index.js';
import { everythingMet } from '../standing/index.js';
import type * as s from './authzen-schemas.js';

type Evaluation = z.infer<typeof s.evaluation>;
type Evaluations = z.infer<typeof s.evaluations>;
type Verdict = z.infer<typeof s.verdict>;

/**
 * Answers the questions of the AuthZEN Authorization API 1.0, sections 6 and 7, in one tenant. The subject's type is `user`; the action is a permission of
 * the charter, or the action alone where the resource's type is its kind. What is wrongly asked is a `false` with a reason, as section 5.5 has it.
 */
export function authzen(lintel: Lintel<any>, standing: ServerStanding<any>) {
  const subjects = new Map<string, Promise<ServerStanding<any>>>();

  function standingOf(user: string): Promise<ServerStanding<any>> {
    if (user === standing.userId) return Promise.resolve(standing);
    const known = subjects.get(user) ?? enter(user);
    subjects.set(user, known);
    return known;
  }

  /** Somebody of whom the asker may not know is answered for like somebody who is no member. */
  async function enter(user: string): Promise<ServerStanding<any>> {
    const known = await standing.members.knowsOf(user, 'access.ask');
    return lintel.enter({ tenant: standing.facts.tenant.id, user: known ? user : NOBODY, fulfilled: everythingMet(lintel.charter) });
  }

  async function evaluate({ subject, action, resource }: Evaluation): Promise<Verdict> {
    if (subject.type !== 'user') return { decision: false, context: { reason: `subjects are of the type user, not ${subject.type}` } };
    const who = await standingOf(spelled(lintel.charter, 'person', subject.id));
    try {
      const name = action.name.includes('.') ? action.name : `${resource.type}.${action.name}`;
      const { kind } = lintel.charter.permission(name);
      if (kind !== undefined && kind !== resource.type) return { decision: false, context: { reason: `${name} is not about a ${resource.type}` } };
      const decision = kind === undefined || resource.id === '' ? who.decide(name) : await who.decideById(name, resource.id);
      return { decision: decision.allowed, ...(!decision.allowed && { context: { reason: decision.words } }) };
    } catch (error) {
      if (!isLintelError(error)) throw error;
      return { decision: false, context: { reason: error.message } };
    }
  }

  async function evaluateAll({ evaluations, options, ...usual }: Evaluations): Promise<Verdict | { evaluations: Verdict[] }> {
    const whole = ({ subject, action, resource, context }: Partial<Evaluation>): Evaluation => {
      if (!subject || !action || !resource) throw new LintelError('bad-request', 'An evaluation needs a subject, an action and a resource.', {});
      return { subject, action, resource, ...(context && { context }) };
    };
    if (evaluations === undefined || evaluations.length === 0) return evaluate(whole(usual));
    const all: Verdict[] = [];
    for (const one of evaluations) {
      const verdict = await evaluate(whole({ ...usual, ...one }));
      all.push(verdict);
      if (options?.evaluations_semantic === 'deny_on_first_deny' && !verdict.decision) break;
      if (options?.evaluations_semantic === 'permit_on_first_permit' && verdict.decision) break;
    }
    return { evaluations: all };
  }

  return { evaluate, evaluateAll };
}

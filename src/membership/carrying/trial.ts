import { LintelError } from '../../base/index.js';
import { type Arrived, arriveIn, type Claims, checkRules, connectionOf, readTerms, triedMark } from '../admission/index.js';
import { changeTenant, heldBy, insistOnSetter } from '../change/index.js';
import { type AdmissionRule, type ClaimNames, type ConnectionTerms, type Setting, takenBack } from '../terms/index.js';
import { happenings, type Looked, type Proposed, proposedOf } from './proposal.js';

/** Claims, as somebody would come with them. What is left out of the connection is as it is kept. */
export interface Trial {
  readonly connection: string;
  readonly claims: Claims;
  readonly rules?: readonly AdmissionRule[];
  readonly names?: ClaimNames;
  readonly terms?: ConnectionTerms;
}

/** What would become of somebody, and who would gain and lose what by it. */
interface Tried extends Proposed {
  readonly arrived: Arrived;
}

/**
 * Works out what would happen if somebody came with these claims: it is done and taken back. With rules that are not kept yet it is what these would do. From then on a connection that is like
 * this can be turned on, or be changed into it.
 *
 * @throws LintelError `refused`, `prove-first`, `not-found`, `bad-rule`; `no-subject`, `claims-too-large`.
 */
export async function tryArrival(setting: Setting, tenantId: string, actorId: string, { connection: id, claims, rules, names, terms }: Trial): Promise<Tried> {
  const { looked, arrived } = await changeTenant(setting, tenantId, actorId, async (change) => {
    insistOnSetter(change);
    const kept = await connectionOf(change.tx, tenantId, id);
    const connection = {
      ...kept,
      rules: rules === undefined ? kept.rules : [...rules],
      claims: names ?? kept.claims,
      terms: terms === undefined ? kept.terms : readTerms(terms),
      // Whoever tries it would save it.
      by_id: actorId,
    };
    checkRules(change.actor.charter as never, connection.rules);
    await change.tx
      .updateTable('lintel_connection')
      .set({ tried: triedMark(connection) })
      .where('tenant_id', '=', tenantId)
      .where('id', '=', id)
      .execute();
    const seen = await takenBack(change.tx, async (tx) => {
      const inside = { ...change, tx };
      const { result } = await arriveIn(inside, { tenantId, connectionId: id, claims }, connection);
      const users = result.userId === undefined ? [] : [result.userId];
      return { arrived: result, after: await heldBy(inside, users) };
    });
    const before = await heldBy(change, [...seen.after.keys()]);
    const { said } = seen.arrived;
    const one: Looked = {
      steps: [],
      latest: change.latest,
      problems: said ? [new LintelError(said.code, said.words, {})] : [],
      happened: happenings(before, seen.after),
      after: seen.after,
      known: () => true,
      handed: [],
    };
    return { result: { looked: one, arrived: seen.arrived }, entry: [] };
  });
  return { ...(await proposedOf(setting, tenantId, actorId, looked)), arrived };
}

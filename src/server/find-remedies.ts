import { LintelError } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import * as membership from '../membership/index.js';
import { type Boundary, loadRaw } from '../scoping/index.js';
import { type Decision, everythingMet, type KnowingStanding, meeting } from '../standing/index.js';
import { asSeenBy } from './access.js';
import { attach } from './loaded.js';
import { allowedBy, candidates, causeOf, changesOfRecord, helpful, opensOf, type Remedies, type Remedy, type Trials } from './remedies.js';
import type { Workplace } from './workplace.js';

/** Whoever asks, with what they can have worked out. */
export interface Seeking<T extends CharterTypes> {
  readonly asking: KnowingStanding<T>;
  readonly place: Workplace;
  readonly boundary: Boundary;
  readonly tenant: { groups(): Promise<membership.GroupView[]>; units(): Promise<membership.UnitView[]> };
  insistById(action: T['permissions'], id: unknown): Promise<void>;
  proposeEach(many: readonly (readonly membership.Step[])[]): Promise<membership.Proposed[]>;
  counted(proposed: membership.Proposed): Promise<membership.Proposal>;
}

/** What would make something that is refused allowed for a member. See `ServerStanding.remedies`. */
export async function findRemedies<T extends CharterTypes>(
  { asking, place, boundary, tenant, ...can }: Seeking<T>,
  userId: membership.Id,
  action: T['permissions'],
  id: unknown,
  known: (decision: Decision) => void,
): Promise<Remedies> {
  const { setting, db } = place;
  const { charter, facts } = asking;
  const user = membership.spelled(charter, 'person', userId);
  const tenantId = facts.tenant.id;
  const { kind, action: name } = charter.permission(action);
  const isOne = kind !== undefined && name !== 'create';
  if (isOne && id === undefined) throw new LintelError('no-record', `"${action}" is done to a record; say to which`, { action });
  await membership.insistOnKnown(setting, asking, user);
  if (isOne) await can.insistById(`${kind}.read`, id);
  const fulfilled = everythingMet(charter);
  // With the roles of the tenant's own, which somebody may come to hold.
  const asked = await membership.standingInTenant(setting.db, setting, { tenant: tenantId, user, fulfilled });
  const record = isOne ? await loadRaw(db, boundary, kind, id) : undefined;
  const decision = asked.decide(action, record as never);
  const { could } = asSeenBy(asking, place, asked.facts).decide(action, record && (attach({ ...record }, { parents: record.parents }) as never));
  if (could?.allowed === 'unknown') return { decision: { ...could, allowed: false }, remedies: [], cause: 'what it rests on is not yours to know' };
  known(decision);
  const cause = causeOf(decision);
  if (decision.allowed || cause !== undefined || (isOne && !record)) return { decision, remedies: [], ...(cause !== undefined && { cause }) };
  const keyholder = await membership.someKeyholder(setting, tenantId);
  const around = { groups: await tenant.groups(), units: await tenant.units() };
  const trials: Trials = {
    propose: can.proposeEach,
    attempt: (many) => membership.attemptEach(setting, tenantId, keyholder, many, user),
    allowed: (then, charterThen = setting.charter) => allowedBy(charterThen, meeting(then, fulfilled), action, record),
  };
  const remedies: Remedy[] = [];
  for (const { words, steps, ...proposed } of await helpful(candidates(asked.charter, asked.facts, action, record, around), user, trials)) {
    const proposal = await can.counted(proposed);
    const [problem] = proposal.problems;
    remedies.push({ words, steps, ...(problem ? { refused: problem.message } : { proposal, opens: opensOf(proposal) }) });
  }
  const size = ({ opens }: Remedy) => (opens ? opens.records * 1000 + opens.permissions : Number.POSITIVE_INFINITY);
  return { decision, remedies: [...remedies.sort((a, b) => size(a) - size(b)), ...(record ? changesOfRecord(asked, action, record) : [])] };
}

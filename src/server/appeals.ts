import type { Kysely } from 'kysely';
import { inTransaction, LintelError } from '../base/index.js';
import * as membership from '../membership/index.js';
import { type Boundary, change, loadRaw } from '../scoping/index.js';
import { type Decision, everythingMet } from '../standing/index.js';
import { type Acting, Face } from './faces.js';
import { causeOf, type Remedies, type Remedy } from './remedies.js';
import type { Workplace } from './workplace.js';

/** Who asks, or answers: a standing with the database behind it. */
type Asking = Acting & {
  decideById(action: string, id: unknown): Promise<Decision>;
  insistById(action: string, id: unknown): Promise<void>;
  remedies(user: string, action: string, id: unknown): Promise<Remedies>;
};

/** An appeal as whoever may answer it sees it. */
export interface AppealToAnswer extends membership.Appeal {
  /** What the action is called. */
  readonly what: string;
  /** The record by what it is called; null where this person does not see it, or there is none. */
  readonly record: string | null;
}

/**
 * What somebody who was refused asks of those who may change it, and their answers: open for fourteen days, on record, and told by mail. Of a record that the
 * asking person does not see nothing is betrayed: it can be asked for like one that does not exist.
 */
export class AppealsFace extends Face<Asking> {
  readonly #records: Workplace['db'];
  readonly #boundaryOf: (db: Kysely<any>) => Boundary;

  constructor(standing: Asking, { setting, db }: Workplace, boundaryOf: (db: Kysely<any>) => Boundary) {
    super(standing, setting);
    this.#records = db;
    this.#boundaryOf = boundaryOf;
  }

  /**
   * Asks for an action on a record that was refused. The same again is asked once.
   *
   * @param words why, at most 500 letters.
   * @returns the id of the appeal.
   * @throws LintelError `allowed-already`; `no-appeal` where a limit, a plan or an obligation stands against it, which no answer takes away;
   *   `not-a-record-action`, `too-many-appeals`, `people-only`, `not-found` for somebody who is no member.
   */
  async raise(action: string, id: unknown, words?: string): Promise<string> {
    const actor = this.actorId;
    const { kind, action: name } = this.standing.charter.permission(action);
    if (!kind || name === 'create') throw new LintelError('not-a-record-action', `"${action}" is about no record that exists`, { action });
    const decision = await this.standing.decideById(action, id);
    if (decision.allowed) throw new LintelError('allowed-already', 'You may do that already.', { action });
    if (decision.visibility === 'visible' && causeOf(decision)) throw new LintelError('no-appeal', decision.words, { action });
    return membership.raiseAppeal(this.setting, actor, this.tenantId, { action, recordId: membership.recordId(this.standing.charter, kind, id), words });
  }

  /** The last 100 of one's own, the latest first, with how they stand. */
  async mine(): Promise<membership.Appeal[]> {
    return membership.appealsOf(this.setting, this.actorId, this.tenantId);
  }

  /** @throws LintelError `not-found` where it is none of one's own, or is answered. */
  async withdraw(id: string): Promise<void> {
    return membership.withdrawAppeal(this.setting, this.actorId, this.tenantId, id);
  }

  /** Those that wait for an answer which this person may give, the longest waiting first. @throws LintelError `refused`. */
  async list(): Promise<AppealToAnswer[]> {
    const open = await membership.appealsToAnswer(this.setting, this.standing);
    const { charter } = this.standing;
    const all: AppealToAnswer[] = [];
    for (const appeal of open) {
      const known = charter.permissions.get(appeal.action);
      const read = known?.kind === undefined ? undefined : await this.standing.decideById(`${known.kind}.read`, appeal.recordId);
      all.push({ ...appeal, what: known?.label ?? appeal.action, record: (read?.allowed && read.record?.label) || null });
    }
    return all;
  }

  /** What would allow it, the least first. @throws LintelError `refused`, `not-found`, also where this person does not see the record. */
  async remedies(id: string): Promise<Remedies> {
    const { userId, action, recordId } = await membership.appealToAnswer(this.setting, this.standing, id);
    return this.standing.remedies(userId, action, recordId);
  }

  /**
   * Carries one of the remedies out and tells whoever asked, both or neither. Without a remedy: where it has come to be allowed meanwhile.
   *
   * @throws LintelError `not-met` where the action would still be refused; `records-elsewhere` for a change of a record in another database; and
   *   what carrying out and scope refuse: then nothing was done, and it is still open.
   */
  async agree(id: string, remedy: Pick<Remedy, 'proposal' | 'change'> = {}, reason?: string): Promise<void> {
    const { setting } = this;
    const [me, tenant, db] = [this.actorId, this.tenantId, this.#records];
    const { userId, action, recordId } = await membership.appealToAnswer(setting, this.standing, id);
    const kind = this.standing.charter.permission(action).kind as string;
    await this.standing.insistById(`${kind}.read`, recordId);
    const together = db === (setting.db as unknown);
    if (remedy.change && !together)
      throw new LintelError('records-elsewhere', 'These records are in another database than the membership, so that no one transaction holds both.', {});
    await inTransaction(setting.db, async (tx) => {
      const inside = { ...setting, db: tx };
      const records: Kysely<any> = together ? tx : db;
      if (remedy.proposal) await membership.carryOut(inside, tenant, me, remedy.proposal.steps, { reason, proposal: remedy.proposal });
      if (remedy.change) await change(records, this.#boundaryOf(records), kind, [recordId], { [remedy.change.field]: remedy.change.value });
      const asked = await membership.standingInTenant(tx, setting, { tenant, user: userId, fulfilled: everythingMet(this.standing.charter) });
      const record = await loadRaw(records, this.#boundaryOf(records), kind, recordId);
      if (!record || !asked.may(action, record as never))
        throw new LintelError('not-met', 'With that they still may not. Choose one of the changes that would allow it.', { action });
      await membership.answerAppeal(inside, me, tenant, id, 'agreed', reason);
    });
  }

  /** Says no, and tells whoever asked. @throws LintelError `refused`, `not-found` where somebody else was first. */
  async decline(id: string, reason?: string): Promise<void> {
    return membership.answerAppeal(this.setting, this.actorId, this.tenantId, id, 'declined', reason);
  }
}

import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import * as membership from '../membership/index.js';
import { type Boundary, change, loadRaw } from '../scoping/index.js';
import type { Decision, Standing } from '../standing/index.js';
import { causeOf, type Remedies, type Remedy } from './remedies.js';
import type { Workplace } from './workplace.js';

/** Who asks, or answers: a standing with the database behind it. */
type Asking = Standing<any> & {
  readonly memberId: string;
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
export class AppealsFace {
  readonly #me: Asking;
  readonly #place: Workplace;
  readonly #boundaryOf: (db: Kysely<any>) => Boundary;

  constructor(me: Asking, place: Workplace, boundaryOf: (db: Kysely<any>) => Boundary) {
    this.#me = me;
    this.#place = { ...place, setting: { ...place.setting, fulfilled: me.facts.fulfilled } };
    this.#boundaryOf = boundaryOf;
  }

  get #tenantId(): string {
    return this.#me.facts.tenant.id;
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
    const actor = this.#me.memberId;
    const { kind, action: name } = this.#me.charter.permission(action);
    if (!kind || name === 'create') throw new LintelError('not-a-record-action', `"${action}" is about no record that exists`, { action });
    const decision = await this.#me.decideById(action, id);
    if (decision.allowed) throw new LintelError('allowed-already', 'You may do that already.', { action });
    if (decision.visibility === 'visible' && causeOf(decision)) throw new LintelError('no-appeal', decision.words, { action });
    return membership.raiseAppeal(this.#place.setting, actor, this.#tenantId, { action, recordId: String(id), words });
  }

  /** The last 100 of one's own, the latest first, with how they stand. */
  async mine(): Promise<membership.Appeal[]> {
    return membership.appealsOf(this.#place.setting, this.#me.memberId, this.#tenantId);
  }

  /** @throws LintelError `not-found` where it is none of one's own, or is answered. */
  async withdraw(id: string): Promise<void> {
    return membership.withdrawAppeal(this.#place.setting, this.#me.memberId, this.#tenantId, id);
  }

  /** Those that wait for an answer which this person may give, the longest waiting first. @throws LintelError `refused`. */
  async list(): Promise<AppealToAnswer[]> {
    const open = await membership.appealsToAnswer(this.#place.setting, this.#me);
    const { charter } = this.#me;
    const all: AppealToAnswer[] = [];
    for (const appeal of open) {
      const known = charter.permissions.get(appeal.action);
      const read = known?.kind === undefined ? undefined : await this.#me.decideById(`${known.kind}.read`, appeal.recordId);
      all.push({ ...appeal, what: known?.label ?? appeal.action, record: (read?.allowed && read.record?.label) || null });
    }
    return all;
  }

  /** What would allow it, the least first. @throws LintelError `refused`, `not-found`, also where this person does not see the record. */
  async remedies(id: string): Promise<Remedies> {
    const { userId, action, recordId } = await membership.appealToAnswer(this.#place.setting, this.#me, id);
    return this.#me.remedies(userId, action, recordId);
  }

  /**
   * Carries one of the remedies out and tells whoever asked, both or neither. Without a remedy: where it has come to be allowed meanwhile.
   *
   * @throws LintelError `not-met` where the action would still be refused; `records-elsewhere` for a change of a record in another database; and
   *   what carrying out and scope refuse: then nothing was done, and it is still open.
   */
  async agree(id: string, remedy: Pick<Remedy, 'proposal' | 'change'> = {}, reason?: string): Promise<void> {
    const { setting, db } = this.#place;
    const [me, tenant] = [this.#me.memberId, this.#tenantId];
    const { userId, action, recordId } = await membership.appealToAnswer(setting, this.#me, id);
    const kind = this.#me.charter.permission(action).kind as string;
    await this.#me.insistById(`${kind}.read`, recordId);
    const together = db === (setting.db as unknown);
    if (remedy.change && !together)
      throw new LintelError('records-elsewhere', 'These records are in another database than the membership, so that no one transaction holds both.', {});
    await membership.inTransaction(setting.db, async (tx) => {
      const inside = { ...setting, db: tx };
      const records: Kysely<any> = together ? tx : db;
      if (remedy.proposal) await membership.carryOut(inside, tenant, me, remedy.proposal.steps, { reason, proposal: remedy.proposal });
      if (remedy.change) await change(records, this.#boundaryOf(records), kind, [recordId], { [remedy.change.field]: remedy.change.value });
      const asked = await membership.standingInTenant(tx, setting, { tenant, user: userId, fulfilled: Object.keys(this.#me.charter.data.obligations) });
      const record = await loadRaw(records, this.#boundaryOf(records), kind, recordId);
      if (!record || !asked.may(action, record as never))
        throw new LintelError('not-met', 'With that they still may not. Choose one of the changes that would allow it.', { action });
      await membership.answerAppeal(inside, me, tenant, id, 'agreed', reason);
    });
  }

  /** Says no, and tells whoever asked. @throws LintelError `refused`, `not-found` where somebody else was first. */
  async decline(id: string, reason?: string): Promise<void> {
    return membership.answerAppeal(this.#place.setting, this.#me.memberId, this.#tenantId, id, 'declined', reason);
  }
}

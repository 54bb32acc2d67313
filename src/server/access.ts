import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import { type Comparison, compare, type Explanation, explain, type Giver, giversOf, peopleIn } from '../explaining/index.js';
import * as membership from '../membership/index.js';
import { type Boundary, loadRaw } from '../scoping/index.js';
import { type Decision, everythingMet, type Facts, KnowingStanding, peopleReach, type Standing } from '../standing/index.js';
import { attach } from './loaded.js';
import type { Workplace } from './workplace.js';

/** A tenant with more members is not gone through at once. */
const MOST_MEMBERS = 5000;

/** Whoever asks: a standing with the database behind it. */
type Asking<T extends CharterTypes> = KnowingStanding<T> & {
  decideById(action: T['permissions'], id: unknown): Promise<Decision>;
  insistById(action: T['permissions'], id: unknown): Promise<void>;
};

/** Somebody as whoever asks may know them: what could be done says so where it rests on more. */
export function asSeenBy<T extends CharterTypes>(asking: KnowingStanding<T>, { setting }: Workplace, facts: Facts): KnowingStanding<T> {
  // guard reasons-within-asker by looks: Reasons would rest on what is hidden from the asker.
  const look = {
    id: 'asked',
    by: { userId: asking.userId as string, name: asking.facts.me.name ?? '' },
    /* guard reasons-within-asker */ within: asking.facts,
  };
  return new KnowingStanding<T>(setting.charter as never, { ...facts, look }, { now: setting.now });
}

/**
 * The reasons for what people may do, for whoever may ask: the answers of the command, cut to whom and what this person may know. What rests on more is `unknown`, and two worlds that
 * differ in it alone are answered alike.
 */
export class AccessFace<T extends CharterTypes = CharterTypes> {
  readonly #asking: Asking<T>;
  readonly #place: Workplace;
  readonly #boundary: Boundary;

  constructor(asking: Asking<T>, place: Workplace, boundary: Boundary) {
    this.#asking = asking;
    this.#place = place;
    this.#boundary = boundary;
  }

  /**
   * Why somebody may, or may not, do something, whatever they have to do first.
   *
   * @param user absent: oneself, of whom anybody may ask.
   * @param id of the record, for an action on one. Without it, whether there could be one.
   * @throws LintelError `refused`; `not-found` for somebody of whom, or a record of which, this person may not know.
   */
  async why<P extends T['permissions']>(action: P, { user, id }: { readonly user?: membership.Id; readonly id?: unknown } = {}): Promise<Explanation> {
    const asking = this.#asking;
    const { kind } = asking.charter.permission(action);
    const them = await this.#shown(user);
    const isOwn = them.userId === asking.userId;
    const isAbout = kind !== undefined && id !== undefined;
    if (isAbout) await asking.insistById(`${kind}.read` as P, id);
    const raw = isAbout ? await loadRaw(this.#place.db, this.#boundary, kind, id) : undefined;
    const { could } = them.decide(action, raw && (attach({ ...raw }, { parents: raw.parents }) as never)) as { readonly could: NonNullable<Decision['could']> };
    const own = isOwn ? (isAbout ? await asking.decideById(action, id) : asking.decide(action)) : undefined;
    const decision = own ? { ...own, looked: could.looked, lookedForRead: could.lookedForRead } : could;
    const { setting } = this.#place;
    const holders = await membership.keyholdersOf(setting.db, asking.facts.tenant.id, setting.now());
    const ids = holders.map((one) => one.id);
    const people = await membership.toldPeople(setting, asking as Standing<any>, [...peopleIn(asking.charter, could), ...ids]);
    const known = ids.flatMap((one) => people.get(one) ?? []).sort((a, b) => (a.name < b.name ? -1 : 1));
    const keyholders = known.map(({ userId, name }) => ({ id: userId, name }));
    const names = new Map([...people].map(([one, { name }]) => [one, name]));
    return explain(them.shown as Standing<any>, decision, isAbout ? { kind, id: String(id) } : undefined, { keyholders, names });
  }

  /**
   * Everything that gives a permission, and who has it by each.
   *
   * @throws LintelError `unknown-action`; `refused` for somebody who may not ask of everybody; `too-many` in a tenant of more than 5000 members.
   */
  async gives(permission: T['permissions']): Promise<Giver[]> {
    const { setting } = this.#place;
    const asking = this.#asking as Standing<any>;
    const { charter, facts } = asking;
    charter.permission(permission);
    membership.insistOnAll(asking, 'access.ask');
    const roles = await membership.listRoles(setting, asking);
    const members = await membership.listMembers(setting, asking, { limit: MOST_MEMBERS + 1 });
    if (members.length > MOST_MEMBERS) throw new LintelError('too-many', `more than ${MOST_MEMBERS} members; ask by the command`, {});
    const standings = await membership.standingsOf(
      setting,
      facts.tenant.id,
      members.map(({ userId }) => userId),
    );
    return giversOf(charter, permission, roles, [...standings.values()]);
  }

  /**
   * Members side by side: what each holds where they differ; and by an action, which records all of them reach and which some do.
   *
   * @param on an action on records: for whoever sees all of them whole.
   * @throws LintelError `refused`, `not-found`, `not-a-record-action`.
   */
  async compare(users: readonly membership.Id[], on?: T['permissions']): Promise<Comparison> {
    const sides = await Promise.all(users.map((user) => this.#shown(user)));
    if (on !== undefined) this.#insistOnWhole(on);
    const named = sides.map((them) => ({ name: them.facts.me.name ?? (them.userId as string), standing: them.shown as Standing<any> }));
    return compare(named, on === undefined ? undefined : { db: this.#place.db as Kysely<any>, action: on });
  }

  /** Somebody as this person may know them. */
  async #shown(user: membership.Id | undefined): Promise<KnowingStanding<T>> {
    const asking = this.#asking;
    const { setting } = this.#place;
    const { tenant } = asking.facts;
    const id = user === undefined ? asking.userId : membership.spelled(setting.charter, 'person', user);
    if (id === undefined) throw new LintelError('not-found', 'There is no such member.', {});
    if (id !== asking.userId) {
      // Who may be asked about is among those of whom one knows.
      const isAsked = await membership.knowsOf(setting, asking as Standing<any>, id, 'access.ask');
      // guard asking-about-known-people by looks: Anybody could ask about anybody.
      if (!isAsked || !(await membership.knowsOf(setting, asking as Standing<any>, id))) throw new LintelError('not-found', 'There is no such member.', {});
    }
    const { facts } = await membership.standingInTenant(setting.db, setting, { tenant: tenant.id, user: id, fulfilled: everythingMet(setting.charter) });
    return asSeenBy(asking, this.#place, facts);
  }

  /** @throws LintelError `refused` for whoever sees some records of the kind, or of those that it follows, or some of their fields only. */
  #insistOnWhole(on: T['permissions']): void {
    const { charter } = this.#asking;
    const { kind } = charter.permission(on);
    if (kind === undefined) throw new LintelError('not-a-record-action', `"${on}" is about no kind of record`, { action: on });
    const isWhole = (one: string): boolean =>
      this.#asking.reachOf(`${one}.read`).op === 'always' &&
      Object.entries(charter.kind(one).fields).every(
        ([field, { to }]) => this.#boundary.shows(one, field, 't') === undefined && (to === undefined || isWhole(to)),
      );
    const knowsAll = peopleReach(this.#asking, 'member.read') === 'all';
    if (!knowsAll || !isWhole(kind)) throw new LintelError('refused', 'This counts all records, and you may see some of them, or of what they hold, only.', {});
  }
}

import type { Kysely, Transaction } from 'kysely';
import { frozen, inTransaction, LintelError } from '../base/index.js';
import { type CharterTypes, KEYHOLDER } from '../charter/index.js';
import * as membership from '../membership/index.js';
import type { Predicate, RecordData } from '../predicate/index.js';
import {
  BesideDb,
  Boundary,
  CARRIED_CONDITIONS,
  type ChangeAnswer,
  type Choice,
  carryInto,
  carryStanding,
  change,
  choices,
  type FindOptions,
  find,
  handOver,
  isAnywhere,
  loadEach,
  loadParents,
  loadRaw,
  type ReportDifference,
  type RunStatement,
  ScopedDb,
  type SqlCondition,
  signQuestion,
  sqlCondition,
  type WallKey,
  writerFor,
} from '../scoping/index.js';
import {
  type Assignment,
  type Decision,
  type Facts,
  type HeldPermission,
  type KindOf,
  KnowingStanding,
  type RecordOf,
  type Standing,
  type StandingOptions,
  say,
  throwIfRefused,
} from '../standing/index.js';
import { AccessFace } from './access.js';
import { AppealsFace } from './appeals.js';
import { ConnectionsFace } from './connections.js';
import { countEffects } from './count-effects.js';
import { DirectoryFace } from './directory.js';
import { AuditFace, InvitationsFace, MembersFace, ProgramsFace, TenantFace } from './faces.js';
import { findRemedies } from './find-remedies.js';
import { type Journal, journalOf } from './journal.js';
import { attach, counted, found } from './loaded.js';
import type { Remedies } from './remedies.js';
import { elsewhere, tryIn } from './trial.js';
import type { Workplace } from './workplace.js';

type Kinds<T extends CharterTypes> = keyof T['fields'] & string;

/** Somebody who may do something to a record, with every way by which it comes. */
export interface MayDo {
  readonly userId: string;
  readonly name: string;
  readonly ways: HeldPermission['ways'];
}

/** A standing with the database behind it: what `enter` gives. It also finds, scopes, and changes the membership. */
export class ServerStanding<T extends CharterTypes = CharterTypes> extends KnowingStanding<T> {
  readonly #place: Workplace;
  readonly #options: StandingOptions;
  readonly #boundaries = new Map<unknown, Boundary>();
  readonly #walledBoundaries = new Map<unknown, Boundary>();

  constructor(charter: ConstructorParameters<typeof KnowingStanding<T>>[0], facts: Facts, options: StandingOptions, place: Workplace) {
    super(charter, frozen(facts), options);
    this.#options = options;
    this.#place = place;
  }

  /** The same person without the database: records count as they come, with what stands beside their fields. For whoever loaded all of that. */
  get inMemory(): Standing<T> {
    return new KnowingStanding<T>(this.charter, this.facts, this.#options);
  }

  /** As data that is the caller's own. */
  override filter<P extends T['permissions']>(action: P): Predicate {
    return structuredClone(super.filter(action));
  }

  protected override counted(record: RecordData): RecordData {
    return counted(record);
  }

  /** Who belongs to the tenant, and the changes that this person may make to it. */
  get members(): MembersFace {
    return new MembersFace(this, this.#place.setting);
  }

  get invitations(): InvitationsFace {
    return new InvitationsFace(this, this.#place.setting);
  }

  get tenant(): TenantFace {
    return new TenantFace(this, this.#place.setting);
  }

  /** The providers by which people come in. */
  get connections(): ConnectionsFace {
    return new ConnectionsFace(this, this.#place.setting, (proposed) => this.#counted(proposed));
  }

  /** What this person does as a directory. */
  get directory(): DirectoryFace {
    return new DirectoryFace(this, this.#place.setting);
  }

  get programs(): ProgramsFace {
    return new ProgramsFace(this, this.#place.setting);
  }

  get audit(): AuditFace {
    return new AuditFace(this, this.#place.setting);
  }

  /** What was done to records: `await standing.journal('hive', id)`, `journal.of(person)`, `journal.recent()`. */
  get journal(): Journal<Kinds<T>> {
    return journalOf(this, this.#place, this.#boundaryOf(this.#place.db), (action, id) => this.insistById(action as T['permissions'], id));
  }

  /** Why somebody may or may not, what gives a permission, and members side by side. */
  get access(): AccessFace<T> {
    return new AccessFace<T>(this, this.#place, this.#boundaryOf(this.#place.db));
  }

  /** What those who were refused ask for, and the answers. */
  get appeals(): AppealsFace {
    return new AppealsFace(this, this.#place, (db) => this.#boundaryOf(db));
  }

  /** True for an active member of this tenant. Everybody else is told that there is no such page. */
  get isMember(): boolean {
    return this.facts.subject === 'member' && this.facts.tenant.open;
  }

  /** The roles that this person holds here, by whatever way, with what each is called and where it is held. */
  roles(): (Pick<Assignment, 'role' | 'anchor'> & { readonly label: string })[] {
    const { roles } = this.charter.data;
    const known = this.facts.assignments.filter(({ role }) => role === KEYHOLDER || Object.hasOwn(roles, role));
    return known.map(({ role, anchor }) => ({ role, label: this.charter.role(role).label, anchor }));
  }

  /** @internal The person as a member. @throws LintelError `only-a-look`; `not-found` for somebody who is not signed in or no member here. */
  get memberId(): string {
    const { look } = this.facts;
    if (look && !look.trying) throw new LintelError('only-a-look', say(this.words, 'look', { name: this.facts.me.name ?? '' }), {});
    if (this.userId !== undefined && this.isMember) return this.userId;
    throw new LintelError('not-found', say(this.words, 'hidden', { kind: 'page' }), {});
  }

  /**
   * The application's Kysely, narrowed to this standing: every select, join, subquery, insert, update and delete on a table
   * of the charter reaches only what this standing reaches. Without an argument: over the database given to `createLintel`.
   */
  scope<DB>(db?: Kysely<DB>): ScopedDb<DB> {
    const over = this.#records(db);
    const written = () => this.#noteWritten();
    return new ScopedDb<DB>(over, this.#boundaryOf(over), db === undefined ? { copy: () => this.#copy(), written } : { written });
  }

  /** A copy that finds may read from. */
  async #copy(): Promise<Kysely<any> | undefined> {
    return this.#place.copyFor?.(this.userId);
  }

  async #noteWritten(): Promise<void> {
    await this.#place.noteWritten?.(this.userId);
  }

  /** The application's database, or that which is meant; in a trial the part of it that is taken back, and no other. */
  #records<DB>(db?: Kysely<DB>): Kysely<DB> {
    const { trialOf, db: here } = this.#place;
    // guard trial-no-other-database by looks: A trial could write to another database.
    if (trialOf && db !== undefined && db !== (trialOf as unknown) && db !== (here as unknown))
      elsewhere('what is written to another database', 'use scope() without one');
    if (trialOf || db === undefined) return here as Kysely<DB>;
    this.#place.insistOnHere?.(db);
    return db;
  }

  /** @throws LintelError `trial-elsewhere` for what has the application's database whole. */
  #insistOnNoTrial(what: string): void {
    if (this.#place.trialOf) elsewhere(what, 'use scope(), change or carryOut');
  }

  /**
   * Tries something as the person looked as: `work` gets their standing, in one transaction that is taken back when it ends, however it ends. It reaches what both people reach, lasts
   * five seconds at most, and is on record with both names: that it is tried before it begins, how it came out after. What may be tried must do nothing else that lasts, such as
   * a letter that it sends itself.
   *
   * @param what what is tried, for the record: `PATCH /hives/h01`.
   * @param work the standing that it gets is for it alone: another `scope(db)`, row policies and `door` are refused in it.
   * @throws LintelError `not-for-trial` outside of a look that tries; `trial-too-long`; `trial-elsewhere`; and what the work throws.
   */
  trial<R>(what: string, work: (standing: ServerStanding<T>) => Promise<R>, outcome: (result: R) => string = () => 'done'): Promise<R> {
    const over = (place: Workplace, facts: Facts) => work(new ServerStanding<T>(this.charter, facts, this.#options, place));
    return tryIn(this.#place, this.facts, what, over, outcome);
  }

  /**
   * Runs work in one transaction under the row policies: plain SQL in it, too, reaches only what this standing reaches. `db` is the
   * application's Kysely, connected as the role that `lintel policies` was given; `scope` is its narrowed face.
   *
   * @throws LintelError `no-policies` when they are not in the database; `look-without-policies`,
   *   `deputy-without-policies` for a look as somebody else, and for somebody who stands in for another.
   */
  async withPolicies<DB, R>(db: Kysely<DB>, work: (tx: Transaction<DB>, scope: ScopedDb<DB>) => Promise<R>): Promise<R> {
    const key = await this.#keyForOne();
    if (this.#place.insistOnHere)
      throw new LintelError(
        'several-places',
        'row policies are for records beside the membership, or in one other database; use scope for those in places',
        {},
      );
    return carryStanding(db, this as unknown as Standing, key, (tx) => {
      return work(tx, new ScopedDb<DB>(tx, this.#boundaryOf(db, 'walled')));
    });
  }

  /**
   * Carries this standing into a transaction that the application opened, with whatever client: until its end, plain SQL in it reaches only what this standing
   * reaches, as in {@link withPolicies}. `await client.query('begin'); await standing.carryInto((text, values) => client.query(text, [...values]))`.
   *
   * What was prepared by name on that connection is gone, and what it had set is set back: give it a pool of its own.
   *
   * @param run runs one statement in that transaction; answers its rows, or an object with `rows`.
   * @throws LintelError `no-transaction`, `policies-bypassed`; and as {@link withPolicies}.
   */
  async carryInto(run: RunStatement): Promise<void> {
    await carryInto(run, this as unknown as Standing, await this.#keyForOne());
  }

  async #keyForOne(): Promise<WallKey> {
    this.#insistOnNoTrial('a transaction under the row policies');
    if (this.facts.look?.within)
      throw new LintelError('look-without-policies', 'the row policies know one standing at a time, and a look as somebody else is two; use scope for it', {});
    if (this.facts.standsFor)
      throw new LintelError(
        'deputy-without-policies',
        'the row policies know one standing at a time, and somebody who stands in for another has two; use scope for it',
        {},
      );
    return this.#place.wallKey();
  }

  /** The boundary in one kind of database, or in it under the row policies. */
  #boundaryOf(db: Kysely<any>, walled?: 'walled'): Boundary {
    const boundaries = walled ? this.#walledBoundaries : this.#boundaries;
    const key = db.getExecutor().adapter.constructor;
    const known = boundaries.get(key);
    if (known) return known;
    const base = this.#place.support(this.facts.tenant.id, db);
    const writer = writerFor(db, this.charter.shapes);
    const me = this as unknown as Standing;
    const boundary = walled
      ? // The application's role cannot look at the membership: that is asked on the library's own connection.
        new Boundary(
          me,
          {
            ...base,
            standingOf: (id: string) => base.standingOf(id, this.#place.setting.db),
            signed: async (question: string, tx: Kysely<any>) => signQuestion(tx, await this.#place.wallKey(), question),
            conditions: CARRIED_CONDITIONS,
          },
          writer,
          this.#place.wall(),
        )
      : new Boundary(me, base, writer);
    boundaries.set(key, boundary);
    return boundary;
  }

  /**
   * The condition under which an action reaches a record, for a query that is built elsewhere: SQL text with values, or through the
   * template tag of another builder (`standing.condition('hive.read', 'hives').tag(sql)` in Drizzle's `where`).
   *
   * @param alias what that query calls the table.
   */
  condition<P extends T['permissions']>(action: P, alias: string, options: { readonly db?: Kysely<any>; readonly first?: number } = {}): SqlCondition {
    const { kind, action: name } = this.charter.permission(action);
    if (!kind || !name) throw new LintelError('not-a-record-action', `"${action}" is about no kind of record; ask may or decide`, { action });
    return sqlCondition(this.#boundaryOf(this.#records(options.db)), kind, name, alias, options.first ?? 1);
  }

  /**
   * The application's own Kysely, unchanged, that also runs each select through {@link scope} and reports where the two differ: for
   * taking scope up without a risk.
   */
  beside<DB>(report: ReportDifference, db?: Kysely<DB>): BesideDb<DB> {
    this.#insistOnNoTrial('what goes beside scope');
    const over = this.#records(db);
    return new BesideDb<DB>(over, this.#boundaryOf(over), report);
  }

  /**
   * The one way past the scope: the application's own Kysely for some work, with a name and a reason that go on the tenant's record
   * before the work begins.
   *
   * @throws LintelError `bad-reason`, `not-found` for somebody who is no member.
   */
  async door<R>(name: string, reason: string, work: (db: Kysely<any>) => Promise<R>): Promise<R> {
    // guard trial-no-door by looks: A trial could go past the scope.
    this.#insistOnNoTrial('what goes past scope');
    await membership.recordDoor(this.#place.setting, this.facts.tenant.id, this.memberId, name, reason);
    return work(this.#place.db);
  }

  /** Records of a kind that this standing may read, keyed by field. @throws LintelError `unknown-field`, `unknown-action`. */
  async find<N extends Kinds<T>>(kind: N, options?: FindOptions): Promise<RecordOf<T, N>[]> {
    const db = (await this.#copy()) ?? (this.#place.db as Kysely<any>);
    return this.#found(kind, await find(db, this.#boundaryOf(db), kind, options), options?.may);
  }

  /** One record that this standing may read. @throws LintelError `not-found`, whether it is hidden or missing. */
  async findOne<N extends Kinds<T>>(kind: N, id: unknown, options?: Pick<FindOptions, 'may'>): Promise<RecordOf<T, N>> {
    const { idField } = this.charter.shapes[kind] as { idField: string };
    const [record] = await this.find(kind, { ...options, where: { [idField]: id }, limit: 1 });
    if (record) return record;
    throw new LintelError('not-found', say(this.words, 'hidden', { kind: this.charter.kind(kind).one }), {});
  }

  async #found<N extends Kinds<T>>(kind: N, records: RecordData[], asked: readonly string[] = []): Promise<RecordOf<T, N>[]> {
    const told = this.facts.look && asked.length > 0 ? await this.#tellingCould(kind, records, asked) : records;
    return found(told, kind, this.charter.shapes, this.facts.tenant.id) as RecordOf<T, N>[];
  }

  /** Records as they are found in a look: each says besides what the person could do with it. */
  async #tellingCould(kind: string, records: readonly RecordData[], asked: readonly string[]): Promise<RecordData[]> {
    const { idField } = this.charter.shapes[kind] as { idField: string };
    const { db } = this.#place;
    const whole = await loadEach(
      db,
      this.#boundaryOf(db),
      kind,
      records.map((record) => record[idField]),
    );
    return records.map((record) => {
      const raw = whole.get(record[idField]);
      const could = asked.map((action) => [action, raw ? this.#decideOn(action as T['permissions'], raw).could?.allowed : 'unknown']);
      return { ...record, could: Object.fromEntries(could) };
    });
  }

  /** Decides about a record as it was loaded, with its parents. */
  #decideOn<P extends T['permissions']>(action: P, record: RecordData, options?: { readonly fields?: readonly string[] }): Decision {
    return this.decide(action, attach({ ...record }, { parents: record.parents }) as RecordOf<T, KindOf<P>>, options);
  }

  /** Records that this person may name as a parent: those that they read, and those that the action `choose` shows by id and label. */
  async choices<N extends Kinds<T>>(kind: N, options?: { readonly like?: string; readonly limit?: number }): Promise<Choice[]> {
    const db = (await this.#copy()) ?? (this.#place.db as Kysely<any>);
    return choices(db, this.#boundaryOf(db), kind, options);
  }

  /**
   * Changes named records in one transaction, as {@link scope} would, and says which of them were: the others are out of reach or not there.
   * Values are keyed by field; a list of people is given whole, or as `{ add, remove }`, at most 1000 people.
   *
   * @throws LintelError `unknown-field`, `bad-value`, `write-out-of-reach`, `no-such-value`, `field-set-by-library`; then nothing was written.
   */
  async change<N extends Kinds<T>>(kind: N, ids: readonly unknown[], values: { readonly [f in keyof RecordOf<T, N>]?: unknown }): Promise<ChangeAnswer> {
    const answer = await change(this.#place.db, this.#boundaryOf(this.#place.db), kind, ids, values);
    if (answer.changed.length > 0) await this.#noteWritten();
    return answer;
  }

  /** Does work in one transaction of the records' database: what the standing that it gets reads and changes is part of it, and an error takes all of it back. */
  async together<R>(work: (standing: ServerStanding<T>, tx: Kysely<any>) => Promise<R>): Promise<R> {
    let hasWritten = false;
    const noteWritten = async () => {
      hasWritten = true;
    };
    const inside = { ...this.#place, copyFor: undefined, noteWritten };
    const over = (tx: Kysely<any>) => new ServerStanding<T>(this.charter, this.facts, this.#options, { ...inside, db: tx });
    const { trialOf } = this.#place;
    // guard trial-no-plain-sql by looks: Plain SQL would be run in a trial.
    const result = await inTransaction(this.#place.db as Kysely<any>, (tx) => work(over(tx), trialOf ? /* guard trial-no-plain-sql */ unreachable() : tx));
    if (hasWritten) await this.#noteWritten();
    return result;
  }

  /**
   * Carries out changes of the membership, all in one transaction or none. Nobody ends with more than this person may give, and this person with
   * no more than before.
   *
   * @param what steps; or a {@link propose | proposal}, which is carried out if it would do now what it said.
   * @param how a reason for the record; or also `seen`, the mark of the latest change that was looked at: with a later one nothing is done.
   * @throws LintelError `refused`, `beyond-power`, `own-power`, `last-keyholder`, `not-found`, `proposal-stale` with what changed since,
   *   `changed-meanwhile`, and what a step refuses by its own code.
   */
  async carryOut(
    what: readonly membership.Step[] | membership.Proposal,
    how: string | Pick<membership.Carrying, 'reason' | 'seen'> = {},
  ): Promise<readonly membership.Done[]> {
    const carrying = typeof how === 'string' ? { reason: how } : how;
    const [steps, proposal] = 'steps' in what ? [what.steps, { proposal: what, reason: carrying.reason ?? what.reason }] : [what, {}];
    return membership.carryOut(this.#membershipSetting(), this.facts.tenant.id, this.memberId, steps, { ...carrying, ...proposal });
  }

  /**
   * Begins to look as somebody else: as a member, or as nobody that there is, with these roles, in these groups and units. Come in with
   * `enter({ user, tenant, look: id })`: nothing is changed then, and what this person does not reach is not shown, unless they look after the tenant.
   * It is on record, and ends after an hour.
   *
   * @throws LintelError `refused`, `not-found`.
   */
  lookAs(as: membership.LookAs, reason?: string): Promise<{ readonly id: string; readonly until: Date }> {
    return membership.beginLook(this.#membershipSetting(), this, membership.inOneSpelling(this.charter, as), reason);
  }

  /** Ends a look of one's own before its time. */
  async endLook(id: string): Promise<void> {
    const by = this.facts.look?.by.userId ?? this.userId;
    if (by !== undefined) await membership.endLook(this.#place.setting, this.facts.tenant.id, by, id);
  }

  /**
   * Hands records of one member over to another, by kind, in one transaction: each by the rules of scope, so that it takes the action that guards the
   * owner, and the new owner has to be able to read them. It goes on record with how many there were.
   *
   * @returns by kind, how many were handed over, and how many are left since this person does not reach them.
   * @throws LintelError `no-owner`, `unknown-kind`, `records-elsewhere`, and what scope refuses: then nothing was handed over.
   */
  async handOver<N extends Kinds<T>>(
    from: string,
    to: string,
    kinds: readonly N[],
    reason?: string,
  ): Promise<Record<N, Pick<membership.Handed, 'handed' | 'left'>>> {
    const [done] = await this.carryOut([{ do: 'hand-over', from, to, kinds }], reason);
    return done?.event.kinds as Record<N, Pick<membership.Handed, 'handed' | 'left'>>;
  }

  /** A mark of the latest change of the tenant's membership: what is read after it is at least as new. */
  latestChange(): Promise<string> {
    return membership.latestChange(this.#place.setting.db, this.facts.tenant.id);
  }

  /**
   * Who may now do this to that record, and by which ways: members by name, a part at a time. Of a record that this person may not read, and to somebody who
   * may not see the members, nothing is told.
   *
   * @throws LintelError `not-found`, `refused`.
   */
  async who<P extends T['permissions']>(
    action: P,
    id: unknown,
    part: { readonly after?: { readonly name: string; readonly userId: string }; readonly limit?: number } = {},
  ): Promise<{ readonly people: MayDo[]; readonly next?: { readonly name: string; readonly userId: string } }> {
    const kind = this.charter.permission(action).kind;
    if (!kind) throw new LintelError('not-a-record-action', `"${action}" is about no kind of record`, { action });
    await this.insistById(`${kind}.read` as P, id);
    const record = await loadRaw(this.#place.db, this.#boundaryOf(this.#place.db), kind, id);
    const { limit = 50, after } = part;
    const looked = await membership.listMembers(this.#place.setting, this as unknown as Standing, { limit, ...(after && { after }) });
    const standings = await membership.standingsOf(
      this.#place.setting,
      this.facts.tenant.id,
      looked.map(({ userId }) => userId),
    );
    const people = looked.flatMap(({ userId, name }): MayDo[] => {
      const decision = standings.get(userId)?.decide(action, record as never);
      if (!decision?.allowed) return [];
      return [{ userId, name, ways: decision.looked.filter(({ holds }) => holds).map(({ reach, anchor, path }) => ({ reach, anchor, path })) }];
    });
    const last = looked[limit - 1];
    return { people, ...(last && { next: { name: last.name, userId: last.userId } }) };
  }

  /**
   * Works out what changes of the membership would do: who gains and who loses which permission, how far, on how many records, and what
   * stands against it. Nothing is written. While it is worked out, other changes of the tenant wait.
   *
   * @returns plain data, to be shown, sent, kept, and given to {@link carryOut}. What would be refused is among its problems.
   */
  async propose(steps: readonly membership.Step[], reason?: string): Promise<membership.Proposal> {
    const [proposed] = await this.#proposeEach([steps], reason);
    return this.#counted(proposed as membership.Proposed);
  }

  #proposeEach(many: readonly (readonly membership.Step[])[], reason?: string): Promise<membership.Proposed[]> {
    return membership.proposeEach(this.#membershipSetting(), this.facts.tenant.id, this.memberId, many, reason);
  }

  #counted({ proposal, reached }: membership.Proposed): Promise<membership.Proposal> {
    return countEffects(this.#place.db, this.#boundaryOf(this.#place.db), proposal, reached);
  }

  /**
   * What would make a refused action allowed for a member: a role, a group, a unit, an opening, a permission alone, or a change of the record itself. Each was tried, and says what
   * else it would open; the least comes first. What this person may not make is marked.
   *
   * @param id of the record, for an action that is done to one.
   * @param known is told what is so now, before what would change it is tried.
   * @throws LintelError `refused`, `not-found` for somebody of whom this person may not know, or a record that they may not read; `no-record`.
   */
  async remedies<P extends T['permissions']>(
    userId: membership.Id,
    action: P,
    id?: unknown,
    known: (decision: Decision) => void = () => {},
  ): Promise<Remedies> {
    const seeking = {
      asking: this,
      place: this.#place,
      boundary: this.#boundaryOf(this.#place.db),
      tenant: this.tenant,
      insistById: (one: T['permissions'], of: unknown) => this.insistById(one, of),
      proposeEach: (many: readonly (readonly membership.Step[])[]) => this.#proposeEach(many),
      counted: (proposed: membership.Proposed) => this.#counted(proposed),
    };
    return findRemedies(seeking, userId, action, id, known);
  }

  /** The same person as they stand now, who came in by the same way. */
  #as(facts: Facts): ServerStanding<T> {
    const { channel } = this.facts;
    return new ServerStanding<T>(this.charter, { ...facts, ...(channel !== undefined && { channel }) }, this.#options, this.#place);
  }

  #membershipSetting(): membership.Setting {
    const { setting, db } = this.#place;
    const inOne = db === (setting.db as unknown);
    return {
      ...setting,
      fulfilled: this.facts.fulfilled,
      ...(inOne && { handOver: (tx, actor, kind, from, to) => handOver(tx, this.#as(actor).#boundaryOf(tx), kind, from, to) }),
    };
  }

  /**
   * A record to be, or one in hand, with what its parents hold beside it, for a decision that rests on them: `decide('inspection.create', await
   * standing.withParents('inspection', body))`. They count for decisions and are not shown; in a copy of what comes back they do not count.
   */
  async withParents<N extends Kinds<T>>(kind: N, record: RecordOf<T, N>): Promise<RecordOf<T, N>> {
    const parents = await loadParents(this.#place.db, this.#boundaryOf(this.#place.db), kind, record as RecordData);
    return attach({ ...record }, { parents });
  }

  /** Decides about a record by its id, and loads for it what the decision rests on. */
  async decideById<P extends T['permissions']>(action: P, id: unknown, options?: { readonly fields?: readonly string[] }): Promise<Decision> {
    const kind = this.charter.permission(action).kind;
    if (!kind) throw new LintelError('not-a-record-action', `"${action}" is about no kind of record; ask decide`, { action });
    const record = await loadRaw(this.#place.db, this.#boundaryOf(this.#place.db), kind, id);
    if (record) return this.#decideOn(action, record, options);
    const words = say(this.words, 'hidden', { kind: this.charter.kind(kind).one });
    return {
      allowed: false,
      outcome: 'missing',
      action,
      visibility: 'hidden',
      words,
      looked: [],
      lookedForRead: [],
      ...(this.facts.look && { could: this.unknown(action) }),
    };
  }

  /** @internal For tests of access alone: whether it is another tenant that has this record, to which nobody here comes. */
  isOfAnother(action: T['permissions'], id: unknown): Promise<boolean> {
    const kind = this.charter.permission(action).kind as string;
    return isAnywhere(this.#place.db, this.#boundaryOf(this.#place.db), kind, id);
  }

  /** Like {@link decideById}, where only yes will do. @throws LintelError as `insist`. */
  async insistById<P extends T['permissions']>(action: P, id: unknown, options?: { readonly fields?: readonly string[] }): Promise<void> {
    throwIfRefused(await this.decideById(action, id, options));
  }
}

/** A transaction that is taken back is not handed out: plain SQL in it could end it. */
function unreachable(): Kysely<any> {
  return new Proxy({} as Kysely<any>, { get: () => elsewhere('plain SQL', 'use scope(), change or carryOut of the standing') });
}

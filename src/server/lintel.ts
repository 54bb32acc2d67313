import type { Kysely } from 'kysely';
import { didYouMean, inTransaction, LintelError } from '../base/index.js';
import type { Charter, CharterTypes } from '../charter/index.js';
import { type Delivery, deliver, invitationWords, noticeWords, setMessage } from '../mail/index.js';
import * as membership from '../membership/index.js';
import {
  eraseFromJournal,
  type Fragment,
  journaledKinds,
  ReachWriter,
  readWallKey,
  type ScopeSupport,
  sqlText,
  triggeredKinds,
  trimJournal,
  type WallKey,
} from '../scoping/index.js';
import { everythingMet, type Facts, meeting, Standing } from '../standing/index.js';
import { checkSchema, connect, migrate, prepareJournal } from '../store/index.js';
import type { ReadsFrom } from './copies.js';
import { Entered } from './entered.js';
import { KeptFacts } from './kept-facts.js';
import type { Entry, LintelOptions } from './options.js';
import { Places, placeAway } from './places.js';
import { PlatformFace } from './platform.js';
import { ServerStanding } from './server-standing.js';
import { SeveralStandings } from './several.js';
import { type Asker, type Signed, signedOf, wholly } from './signed.js';
import { type Workplace, workplaceAt } from './workplace.js';

/** By place. */
type Copies = Readonly<Record<string, ReadsFrom>>;

/** The library over one database and one charter. Made by {@link createLintel}. */
export class Lintel<T extends CharterTypes = CharterTypes> {
  readonly charter: Charter<T>;
  /** The database as a Kysely; the library's tables are in it. */
  readonly db: Kysely<membership.LintelTables>;
  readonly #places: Places;
  readonly #options: LintelOptions<T>;
  readonly #setting: membership.Setting;
  /** What a standing works with, wherever its records are. */
  readonly #work: Omit<Workplace, 'db'>;
  /** The same with the one database there is, for every tenant. */
  #workHere: Workplace | undefined;
  #wallKey: Promise<WallKey> | undefined;
  readonly #kept: KeptFacts | undefined;
  readonly #shared: {
    readonly entered: Entered;
    /** Kinds of which triggers put down what is written, since this was prepared. */
    readonly triggered: Set<string>;
    /** Places that could not be reached when this was prepared. */
    readonly unprepared: Set<string>;
  };
  #wall: ReachWriter | undefined;

  /** @param shared what those have together that are one library. */
  constructor(options: LintelOptions<T>, shared = { entered: new Entered(), triggered: new Set<string>(), unprepared: new Set<string>() }) {
    if (options.mailer && !options.invitationLink) {
      throw new LintelError(
        'option-missing',
        'createLintel has a mailer but no invitationLink; say which page of yours an invitation opens, as a function of the token',
        {},
      );
    }
    if (options.platform !== undefined && options.charter.data.platform !== true)
      throw new LintelError('option-missing', 'createLintel names a platform, and the charter has none; say platform: true in it', {});
    this.#shared = shared;
    this.charter = options.charter;
    this.db = connect(options.db, options.prepare);
    if (options.records && options.places) throw new LintelError('option-missing', 'createLintel has records and places; give one of them', {});
    const named = Object.entries(options.places ?? {}).map(
      ([name, db]) => [name, connect<any>(db, options.prepare, (error) => placeAway(name, error))] as const,
    );
    this.#options = { ...options, ...(options.places && { places: Object.fromEntries(named) }) };
    this.#places = new Places(this.db, options.places ? new Map(named) : (options.records ?? this.db), shared.unprepared);
    const isElsewhere = options.records !== undefined || options.places !== undefined;
    this.#setting = {
      db: this.db,
      charter: options.charter as Charter,
      now: options.clock ?? Date.now,
      invitationDays: options.invitationDays ?? 14,
      sending: { byTenant: 1000, toAddress: 5, ...options.sending },
      hasMailer: options.mailer !== undefined,
      recordsElsewhere: isElsewhere,
      ...(isElsewhere && { recordsOf: (tenantId) => this.recordsOf(tenantId), afterLeaving: () => this.#tryTakingOff() }),
      ...(options.places && { places: named.map(([name]) => name) }),
      fulfilled: [],
      ...(options.newPerson && { newPerson: options.newPerson }),
      eraseJournal: async (tx, userId) => {
        if (!this.#keepsJournal) return;
        for (const db of isElsewhere ? this.#places.all.values() : [tx]) await eraseFromJournal(db, options.charter as Charter, userId);
      },
      ...(options.platform !== undefined && { platform: this.#tenantId(options.platform) }),
    };
    if (options.cache) this.#kept = new KeptFacts(options.cache.seconds);
    this.#work = {
      setting: this.#setting,
      support: (tenantId, db) => this.#support(tenantId, db),
      wall: () => {
        this.#wall ??= new ReachWriter(options.charter as Charter);
        return this.#wall;
      },
      wallKey: () => {
        this.#wallKey ??= readWallKey(this.db).catch((error: unknown) => {
          // A wall that was not there yet may be, the next time.
          this.#wallKey = undefined;
          throw error;
        });
        return this.#wallKey;
      },
    };
  }

  /**
   * Where the application's records are: the same database, if no other was given.
   *
   * @throws LintelError `several-places` where there are several: ask {@link recordsOf} a tenant.
   */
  get records(): Kysely<any> {
    const { only } = this.#places;
    if (!only) throw new LintelError('several-places', 'records are in several places; ask recordsOf(tenant) for those of one organisation', {});
    return only;
  }

  /** Where the records of a tenant are. @throws LintelError `no-place`, `place-away`. */
  async recordsOf(tenant: membership.Id): Promise<Kysely<any>> {
    return (await this.#places.of(this.#tenantId(tenant)))();
  }

  /** The names of the places of records; none where they are all in one database. */
  get places(): readonly string[] {
    return this.#setting.places ?? [];
  }

  /** The records of all tenants of a place. @throws LintelError `no-place` with the near match. */
  recordsIn(place: string): Kysely<any> {
    membership.readPlace(this.#setting, place);
    return this.#places.all.get(place) as Kysely<any>;
  }

  /** Says where the records of a tenant are that has named no place, such as one from before there were several; for good. @throws LintelError `no-place`, `not-found`, `place-named`. */
  placeTenant(tenant: membership.Id, place: string): Promise<void> {
    return membership.placeTenant(this.#setting, this.#tenantId(tenant), place);
  }

  async #workIn(tenant: string): Promise<Workplace> {
    const { readsFrom, places } = this.#options;
    // One database, and no copy of it: the same for every tenant.
    if (!readsFrom && !places) {
      this.#workHere ??= workplaceAt(this.#work, tenant, await this.#places.of(tenant), { isOneOfSeveral: false });
      return this.#workHere;
    }
    const records = await this.#places.of(tenant);
    const copyOf = async () => (places ? (readsFrom as Copies | undefined)?.[await this.#places.nameOf(tenant)] : (readsFrom as ReadsFrom | undefined));
    return workplaceAt(this.#work, tenant, records, { ...(readsFrom && { copyOf }), isOneOfSeveral: places !== undefined });
  }

  async #tryTakingOff(): Promise<void> {
    await this.takeOffRecords().catch(() => undefined);
  }

  /**
   * Where records are in another database than the membership: takes whoever has left off them, as far as that was not done when they left, since the records could not be reached, since it
   * was in a transaction of the application's own, or since another that links people there was still open. Until it is done such a person is let in nowhere where they have left (`still-leaving`). Each is done at least once.
   */
  takeOffRecords(): Promise<{ readonly done: number; readonly waiting: number }> {
    return membership.takeOff(this.#setting);
  }

  /** Takes off now and then every so many seconds, until the returned function is called. */
  keepTakingOff(seconds: number): () => void {
    return keepDoing(() => this.takeOffRecords(), seconds);
  }

  get #keepsJournal(): boolean {
    return journaledKinds(this.charter as Charter).length > 0;
  }

  /** Drops what is older in the journal of records than the charter says it is kept. Call it once a day. @returns how many lines. */
  async trimJournal(): Promise<number> {
    let lines = 0;
    for (const db of this.#places.all.values()) lines += await trimJournal(db, this.charter as Charter);
    return lines;
  }

  /** True if invitations go out by mail. */
  get hasMailer(): boolean {
    return this.#setting.hasMailer;
  }

  /**
   * Makes the library's tables where they are missing, and compares the charter with the application's tables. Run it at
   * every start; it can run again and beside others.
   *
   * @returns the names of `places` that cannot be reached: their tenants get `place-away` until it was run again when they can.
   * @throws LintelError `schema-mismatch` with every difference.
   */
  async prepare(): Promise<{ readonly away: readonly string[] }> {
    const charter = this.charter as Charter;
    await migrate(this.db as unknown as Kysely<never>);
    const away = await this.#places.prepare(async (records) => {
      if (this.#setting.recordsElsewhere && this.#keepsJournal) await prepareJournal(records);
      for (const kind of await triggeredKinds(records, charter)) this.#shared.triggered.add(kind);
      await checkSchema(records as Kysely<never>, charter);
    });
    await membership.keepCharter(this.db, charter, this.#setting.now());
    return { away };
  }

  /**
   * Resolves the standing of one subject in one tenant, in one statement and afresh. Never says whether a tenant exists: to
   * somebody with no standing there, everything is hidden.
   *
   * @throws LintelError `unknown-channel`; `bad-id` for a person's; `care-over`, `look-over` for a care or a look that has ended; `session-bound` for a care by a session that is
   * bound to tenants.
   */
  async enter(entry: Entry): Promise<ServerStanding<T>> {
    const { fulfilled = [], context, channel } = entry;
    const tenant = this.#tenantId(entry.tenant);
    // guard bound-session-one-tenant by accounts: A session bound to one tenant could enter another.
    const user =
      entry.user === undefined || /* guard bound-session-one-tenant */ !this.#enters(entry, tenant)
        ? undefined
        : membership.idOfComer(this.charter, entry.user);
    if (entry.care !== undefined && entry.user !== undefined) wholly(entry as Signed);
    if (channel !== undefined) this.#insistOnChannel(channel);
    const { words } = this.#options;
    const options = { now: this.#setting.now, ...(words && { words }), ...(context && { context }) };
    const work = await this.#workIn(tenant);
    const open = (facts: Facts) => new ServerStanding<T>(this.charter, channel === undefined ? facts : { ...facts, channel }, options, work);
    let standing = open(meeting(await this.#facts(tenant, user, entry.fresh), fulfilled));
    if (entry.care !== undefined) standing = open(await membership.careFacts(this.#setting, standing, entry.care));
    // guard last-seen-of-members by accounts: It would be noted that somebody came in where they did not.
    if (entry.session !== undefined && /* guard last-seen-of-members */ user !== undefined && /* guard last-seen-of-members */ standing.isMember)
      await this.#shared.entered.note(this.db, entry.session, { tenant, user }, this.#setting.now());
    if (entry.look !== undefined) standing = open(await membership.lookedFacts(this.#setting, standing, entry.look));
    return standing;
  }

  #tenantId(id: membership.Id): string {
    return membership.spelled(this.charter, 'tenant', id);
  }

  #personId(id: membership.Id): string {
    return membership.spelled(this.charter, 'person', id);
  }

  /** @throws LintelError `session-bound`. */
  #wholly(asker: Asker): string {
    return this.#personId(wholly(asker));
  }

  #enters({ enters }: Pick<Signed, 'enters'>, tenant: string): boolean {
    return enters === undefined || enters.some((one) => this.#tenantId(one) === tenant);
  }

  #insistOnChannel(channel: string): void {
    const known = [...this.charter.permissions.values()].flatMap(({ channels = [] }) => channels);
    if (!known.includes(channel))
      throw new LintelError('unknown-channel', `no action of the charter names the channel "${channel}"${didYouMean(channel, known)}`, { channel });
  }

  async #facts(tenant: string, user: string | undefined, fresh = false): Promise<Facts> {
    const now = this.#setting.now();
    const read = () => membership.readFacts(this.db, this.charter as Charter, { tenant, user, now });
    return this.#kept && !fresh ? this.#kept.get(JSON.stringify([tenant, user]), now, read) : read();
  }

  /**
   * The standing of a program that comes in by its key. The key names its tenant.
   *
   * @param entry `asDirectory`: it has to be a key that was made while its program had the right to `directory.write`.
   * @throws LintelError `key-invalid` for what is no key, was ended, or has run out; `refused` for one that was made for no directory. A program that is suspended comes in and can do nothing.
   */
  async enterByKey(
    key: string,
    { asDirectory = false, ...entry }: Omit<Entry, 'tenant' | 'user'> & { readonly asDirectory?: boolean } = {},
  ): Promise<ServerStanding<T>> {
    return this.enter({ ...entry, ...(await membership.programOfKey(this.db, this.#setting.now(), key, asDirectory)) });
  }

  /**
   * The standings of one person in several of their tenants, read as one list, each row by its own tenant's rule. Without
   * `tenants`: in all of them. What is written names its tenant: {@link enter} that one.
   */
  async enterAll({
    tenants,
    ...entry
  }: Omit<Entry, 'tenant' | 'user'> & Signed & { readonly tenants?: readonly membership.Id[] }): Promise<SeveralStandings<T>> {
    const mine = tenants?.map((tenant) => this.#tenantId(tenant)) ?? (await this.myTenants(entry)).map(({ id }) => id);
    const each = [...new Set(mine)];
    const standings = await Promise.all(each.map((tenant) => this.enter({ ...entry, tenant })));
    const records = await Promise.all(each.map(async (tenant) => [tenant, await this.#places.of(tenant)] as const));
    return new SeveralStandings(standings, this.#work, new Map(records));
  }

  /** The same library inside a transaction of the application's own: what is done through it is part of that transaction. */
  within(tx: Kysely<any>): Lintel<T> {
    return new Lintel({ ...this.#options, db: tx }, this.#shared);
  }

  /** @internal The same inside a transaction, under another charter. */
  overCharter(tx: Kysely<any>, charter: Charter<T>): Lintel<T> {
    return new Lintel({ ...this.#options, db: tx, charter }, { ...this.#shared, triggered: new Set() });
  }

  /** Takes a person in. @throws LintelError `bad-name`, `bad-address`, `look-alike-address`, `address-taken`; `bad-id`, `person-exists`, `option-missing` for an id. */
  addPerson(person: membership.NewPerson): Promise<string> {
    return membership.addPerson(this.#setting, person);
  }

  /**
   * Takes in the people, tenants and members that the application has already, under its own ids, in parts of 1000 that are one transaction each; streams are read as they come.
   * Again with the same it does nothing; killed in the middle, it is called again. What is otherwise than it was brought last is changed, unless somebody changed it here
   * meanwhile (`kept`); who was removed here is not brought again. A new tenant is closed until somebody has full control of it. No mail goes out.
   *
   * @throws LintelError nothing for what cannot be taken: that is in the report, with its reason.
   */
  intake(what: membership.Intake, options?: membership.IntakeOptions): Promise<membership.IntakeReport> {
    return membership.intake(this.#setting, what, options);
  }

  /** The person who has an address; undefined: nobody. */
  personByAddress(address: string): ReturnType<typeof membership.personByAddress> {
    return membership.personByAddress(this.db, address);
  }

  /** Opens a tenant whose first keyholder is this person. @throws LintelError `bad-name`, `tenant-exists`, `no-person`; `bad-id`, `option-missing` for an id. */
  openTenant(tenant: membership.NewTenant): Promise<string> {
    return membership.openTenant(this.#setting, tenant);
  }

  /**
   * Sets features and seats of a tenant, for whoever runs the platform. A plan that goes down deletes nothing; the answer says what it means.
   *
   * @throws LintelError `not-found`, `bad-plan`.
   */
  setPlan(tenantId: membership.Id, plan: membership.Plan): Promise<membership.PlanEffect> {
    return membership.setPlan(this.#setting, this.#tenantId(tenantId), plan);
  }

  /** What somebody of the platform's staff does. @throws LintelError `session-bound`; `no-platform` on the first call without one. */
  platform(asker: Asker): PlatformFace {
    return new PlatformFace(this.#setting, this.#wholly(asker));
  }

  /** Closes a tenant, for whoever runs the platform. @throws LintelError `not-found`. */
  closeTenant(tenantId: membership.Id, reason?: string): Promise<void> {
    return membership.closeTenant(this.#setting, this.#tenantId(tenantId), undefined, reason);
  }

  /** Opens a closed tenant again, as it was. @throws LintelError `not-found`. */
  reopenTenant(tenantId: membership.Id, reason?: string): Promise<void> {
    return membership.reopenTenant(this.#setting, this.#tenantId(tenantId), undefined, reason);
  }

  /** Asks to be let into a tenant. @returns `joined` where people of that address come in by themselves. @throws LintelError; see `askToJoin`. */
  async askToJoin(asker: Asker, tenantId: membership.Id, words?: string): Promise<'joined' | 'asked'> {
    return membership.askToJoin(this.#setting, this.#wholly(asker), this.#tenantId(tenantId), words);
  }

  /** @throws LintelError `not-found`, `session-bound`. */
  async stopAsking(asker: Asker, tenantId: membership.Id): Promise<void> {
    return membership.stopAsking(this.#setting, this.#wholly(asker), this.#tenantId(tenantId));
  }

  /** @throws LintelError `bad-name`, `no-account`, `session-bound`. */
  async renamePerson(asker: Asker, name: string): Promise<void> {
    return membership.renamePerson(this.db, this.#wholly(asker), name);
  }

  /**
   * Begins to change somebody's address: it counts once {@link proveAddress} was called with the link that goes there.
   *
   * @returns `token` only without a mailer.
   * @throws LintelError `option-missing` with a mailer and no `addressLink`; `no-account`, `bad-address`, `look-alike-address`, `session-bound`.
   */
  async changeAddress(asker: Asker, address: string): Promise<{ readonly token?: string }> {
    if (this.#options.mailer && !this.#options.addressLink)
      throw new LintelError(
        'option-missing',
        'createLintel has a mailer but no addressLink; say which page of yours proves an address, as a function of the token',
        {},
      );
    return membership.changeAddress(this.#setting, this.#wholly(asker), address);
  }

  /**
   * The link that went to a new address was followed and confirmed. `asker`: who is signed in; the link counts for whoever asked for it alone.
   *
   * @throws LintelError `link-invalid`, `address-taken`, `session-bound`.
   */
  async proveAddress(asker: Asker, token: string): Promise<{ readonly userId: string }> {
    return membership.proveAddress(this.#setting, this.#wholly(asker), token);
  }

  /** Takes an address from an account that never proved it, for whoever did. @throws LintelError `address-taken` where it is proven. */
  giveUpAddress(address: string): Promise<void> {
    return membership.giveUpAddress(this.#setting, address);
  }

  /** Erases a person everywhere. @throws LintelError `no-account`, `last-keyholder`: then nothing was erased. */
  async erasePerson(userId: membership.Id): Promise<{ readonly words: number }> {
    const erased = await membership.erasePerson(this.#setting, this.#personId(userId));
    if (!this.db.isTransaction) await this.#tryTakingOff();
    return erased;
  }

  /** The tenants of a person that their session enters. */
  async myTenants(asker: Asker): ReturnType<typeof membership.myTenants> {
    const { user, enters } = signedOf(asker);
    const mine = await membership.myTenants(this.#setting, this.#personId(user));
    return mine.filter(({ id }) => this.#enters({ enters }, id));
  }

  /** Invitations that wait for a person. @throws LintelError `session-bound`. */
  async myInvitations(asker: Asker): ReturnType<typeof membership.myInvitations> {
    return membership.myInvitations(this.#setting, this.#wholly(asker));
  }

  /** What an invitation says; changes nothing. @throws LintelError `invitation-invalid` and the other states. */
  lookAtInvitation(token: string): Promise<membership.InvitationView> {
    return membership.lookAtInvitation(this.#setting, token);
  }

  /** Accepts an invitation by its link, or one of {@link myInvitations}. @throws LintelError; see `accept`; `session-bound`. */
  async acceptInvitation(asker: Asker, by: Parameters<typeof membership.accept>[2]): Promise<{ readonly tenantId: string }> {
    return membership.accept(this.#setting, this.#wholly(asker), by);
  }

  /** Whose account a way in leads to, which `enrol` or `make-activation` answered; changes nothing. @throws LintelError `activation-invalid`. */
  lookAtActivation(token: string): Promise<membership.ActivationView> {
    return membership.lookAtActivation(this.#setting, token);
  }

  /**
   * Uses a way in up, once, for whoever has it: the caller lets them choose by what they sign in. `warm-lintel/accounts` does.
   *
   * @throws LintelError `activation-invalid`; `activation-void` where whoever made it could not give any more what is held by it.
   */
  spendActivation(token: string): Promise<{ readonly userId: string; readonly tenantId: string }> {
    return membership.spendActivation(this.#setting, token);
  }

  /** Somebody with an account of their own takes the place of the one that was made for them. @throws LintelError; see `takePlace`; `session-bound`. */
  async takePlace(asker: Asker, token: string): Promise<{ readonly tenantId: string }> {
    return membership.takePlace(this.#setting, this.#wholly(asker), token);
  }

  /**
   * A member says, by a session of their own that was proven lately, that this is them at a provider. `asker`: who is signed in.
   *
   * @throws LintelError `session-bound`, `not-found`, `identity-taken`, `removed-here`, `not-admitted`, and why what comes is not given.
   */
  async bindIdentity(asker: Asker, arrival: membership.Arrival): Promise<void> {
    return membership.bindIdentity(this.#setting, { ...arrival, tenantId: this.#tenantId(arrival.tenantId) }, this.#wholly(asker));
  }

  /** Who has shown that a mail domain is theirs, for code of the application alone: nobody is told of other tenants. */
  domainHolder(domain: string): ReturnType<typeof membership.holderOf> {
    return membership.holderOf(this.db, domain);
  }

  /** Domains that were not looked at since a moment, the longest first. */
  domainsToSee(before: Date, limit = 100): Promise<membership.DomainToSee[]> {
    return membership.domainsToSee(this.db, before, limit);
  }

  /** What was seen of a domain's record. */
  domainSeen(tenantId: membership.Id, domain: string, seen: membership.Seen): Promise<void> {
    return membership.domainSeen(this.#setting, this.#tenantId(tenantId), domain, seen);
  }

  /** The connections of a tenant that are on, for its sign-in page: their ids and names are for everybody, and nothing else of them. */
  openConnections(tenantId: membership.Id): Promise<membership.OpenConnection[]> {
    return membership.openConnections(this.db, this.#tenantId(tenantId));
  }

  /**
   * Somebody comes by a connection of a tenant, with claims that the caller has verified. One change by that source; or none where all is as it was: then nothing is locked.
   *
   * @throws LintelError `not-found` for a connection that is not on; `no-subject`, `claims-too-large`.
   */
  arrive(arrival: membership.Arrival): Promise<membership.Arrived> {
    return membership.arrive(this.#setting, { ...arrival, tenantId: this.#tenantId(arrival.tenantId) });
  }

  /** Somebody has chosen a new password: what tenants asked with `ask-password` is done. */
  passwordChosen(userId: membership.Id): Promise<void> {
    return membership.passwordChosen(this.db, this.#personId(userId));
  }

  /** Declines an invitation, by its link. */
  declineInvitation(token: string): Promise<void> {
    return membership.decline(this.#setting, token);
  }

  /** Sends what waits in the outbox. A mail server that is down loses nothing: call it again. */
  async deliver(): Promise<{ sent: number; failed: number }> {
    const { mailer, invitationLink } = this.#options;
    if (!mailer || !invitationLink) return { sent: 0, failed: 0 };
    const delivery: Delivery = {
      db: this.db,
      mailer,
      now: this.#setting.now,
      invitationLink,
      invitationWords: this.#options.invitationWords ?? invitationWords,
      addressLink: this.#options.addressLink,
      accountLinks: this.#options.accountLinks ?? {},
      noticeWords: this.#options.noticeWords ?? noticeWords,
      toAddress: this.#setting.sending.toAddress,
    };
    return deliver(delivery);
  }

  /** Delivers now and then every so many seconds, until the returned function is called. Failures stay in the outbox. */
  keepDelivering(seconds: number): () => void {
    return keepDoing(() => this.deliver(), seconds);
  }

  /**
   * Tells the application what changed in the membership of its tenants: all that a listener of this name was not told of yet, in order within a
   * tenant, each at least once.
   *
   * @param listener what it throws at is tried again later, ten times; then it is put aside in `lintel_unheard`.
   */
  passOn(name: string, listener: (event: membership.MembershipEvent) => Promise<void> | void): Promise<{ passed: number; failed: number }> {
    return membership.passOn(this.#setting, name, listener);
  }

  /** Passes on now and then every so many seconds, until the returned function is called. */
  keepPassingOn(name: string, listener: (event: membership.MembershipEvent) => Promise<void> | void, seconds: number): () => void {
    return keepDoing(() => this.passOn(name, listener), seconds);
  }

  /**
   * Tries the mail before anybody depends on it: sends one message and waits for the server's answer.
   *
   * @throws LintelError `no-mailer`, `bad-address`, `mail-failed` with the server's words.
   */
  async testMail(address: string): Promise<void> {
    const { mailer } = this.#options;
    if (!mailer) throw new LintelError('no-mailer', 'No mail is set up; give createLintel a mailer.', {});
    const { written } = membership.readAddress(address);
    const words = { subject: 'A test message', before: ['This is a test. Mail is set up and arrives.'], after: [] };
    try {
      await mailer.send(setMessage({ name: '', address: written }, words));
    } catch (error) {
      throw new LintelError(
        'mail-failed',
        `The mail server did not take the message: ${error instanceof Error ? error.message : String(error)}`,
        {},
        { cause: error },
      );
    }
  }

  /** @param at where the membership is asked. */
  #support(tenantId: string, records: Kysely<any>, membershipAt = this.db): ScopeSupport {
    // The membership's tables can be looked at in a statement only where they stand beside the records.
    const beside = !this.#setting.recordsElsewhere && records.getExecutor().adapter.constructor === this.db.getExecutor().adapter.constructor;
    const moment = () => new Date(this.#setting.now());
    const conditions: ScopeSupport['conditions'] = {
      person: (column): Fragment =>
        sqlText`exists (select 1 from "lintel_member" as "lm" where "lm"."tenant_id" = ${tenantId} and "lm"."user_id" = ${column}::text and lintel_is_active("lm"."status", "lm"."inactive_by", "lm"."suspended_until", "lm"."ends_at", ${moment()}))`,
      unit: (column): Fragment => sqlText`exists (select 1 from "lintel_unit" as "lu" where "lu"."tenant_id" = ${tenantId} and "lu"."id" = ${column}::text)`,
      group: (column): Fragment => sqlText`exists (select 1 from "lintel_group" as "lg" where "lg"."tenant_id" = ${tenantId} and "lg"."id" = ${column}::text)`,
    };
    const keepMembership = sqlText`select 1 from "lintel_tenant" where "id" = ${tenantId} for share`;
    return {
      standingOf: async (userId, db) => {
        const at = beside ? (db.withoutPlugins() as Kysely<membership.LintelTables>) : membershipAt;
        const facts = await membership.readFacts(at, this.charter as Charter, {
          tenant: tenantId,
          user: userId,
          fulfilled: everythingMet(this.charter),
          now: this.#setting.now(),
        });
        return facts.subject === 'member' ? new Standing(this.charter as Charter, facts) : undefined;
      },
      ...(beside
        ? { conditions, keepMembership }
        : {
            holding: (work) =>
              inTransaction(this.db, async (tx) => {
                await keepMembership.rows(tx);
                return work(this.#support(tenantId, records, tx));
              }),
          }),
      triggered: this.#shared.triggered,
      ...(this.#options.openTables && { openTables: this.#options.openTables }),
      ...(this.#options.fragments && { fragments: this.#options.fragments }),
      existing: (what, ids) => membership.existing(membershipAt, tenantId, what, ids, this.#setting.now()),
    };
  }
}

function keepDoing(work: () => Promise<unknown>, seconds: number): () => void {
  const run = () => void work().catch(() => undefined);
  run();
  const timer = setInterval(run, seconds * 1000);
  timer.unref?.();
  return () => clearInterval(timer);
}

/** Puts the library over a database. @throws LintelError `option-missing`. */
export function createLintel<T extends CharterTypes>(options: LintelOptions<T>): Lintel<T> {
  return new Lintel(options);
}

import { entryOf, LintelError } from '../base/index.js';
import { type Charter, type CharterTypes, type Field, type FieldData, type FieldRole, KEYHOLDER, type Permission, restsOnRead } from '../charter/index.js';
import { and, ofTenant, type Predicate, type RecordData, readValue, type Scalar, type Test, type ValueType } from '../predicate/index.js';
import { decide } from './decide.js';
import type { Could, Decision, FieldAccess, HeldPermission } from './decision.js';
import { type Anchor, anchorWords, charterOf, type Facts, type Snapshot, withoutOthers } from './facts.js';
import type { Grant } from './grants.js';
import { type Image, Reaches } from './reach.js';
import { ENGLISH, say, type Words } from './words.js';

type ValueOf<F> = F extends Field<infer V, FieldRole, string, string> ? V | null : never;

/** A record of the kind that a permission is about, as the application holds it: keyed by field. */
export type RecordOf<T extends CharterTypes, N extends string> = string extends keyof T['fields']
  ? object
  : N extends keyof T['fields']
    ? { readonly [f in keyof T['fields'][N]]?: ValueOf<T['fields'][N][f]> } & RecordExtras
    : never;

/** What may come along with a record besides its fields. */
export interface RecordExtras {
  /** Parents that were loaded, by the field that points to them. */
  readonly parents?: Readonly<Record<string, object | null>>;
  /** What the server found that this person may do with it: full permission names. */
  readonly may?: readonly string[];
  /** In a look as somebody else: what the server found of what they could do with it. */
  readonly could?: Readonly<Record<string, Could['allowed']>>;
}

/** The kind that a permission is about: `hive` of `hive.update`. */
export type KindOf<P extends string> = P extends `${infer N}.${string}` ? N : never;

/** What goes with a question about one action. */
export interface DecideOptions {
  /** Facts about the request, set by the server only. */
  readonly context?: Readonly<Record<string, unknown>>;
  /** The fields that are to be changed: each with a guard of its own needs that guard's action too. */
  readonly fields?: readonly string[];
  /** True: the record is given as a change would leave it, so that limits which look only at what was before are not asked. */
  readonly after?: boolean;
}

export interface StandingOptions {
  readonly words?: Partial<Words>;
  readonly context?: Readonly<Record<string, unknown>>;
  /** Milliseconds since 1970. Default: the system's clock. */
  readonly now?: () => number;
}

/** What is to be asked of an action before any record, and of each. */
interface Gate {
  readonly action: string;
  readonly open: boolean;
  /** The record is of the tenant and in reach: compiled when a record is first asked. It answers undefined for what takes the long way. */
  test?: Test;
  readonly compile: () => Test;
}

/** Where no other words are given: the same for all. */
const USUAL: Words = Object.freeze({ ...ENGLISH });

const LONG_WAY: Test = () => undefined;

/**
 * One subject in one tenant, resolved: everything that may be asked without a database. Answers from the facts that it was
 * opened with; a new request opens a new one.
 */
export class Standing<T extends CharterTypes = CharterTypes> {
  readonly charter: Charter<T>;
  readonly facts: Facts;
  readonly words: Words;
  readonly #reaches: Reaches;
  /** @internal */
  protected readonly options: StandingOptions;
  readonly #now: () => number;
  readonly #gates = new Map<string, Gate>();
  /** The one that was asked last: it is mostly the same again. */
  #last: Gate | undefined;
  #own: Standing<T> | undefined;

  /** @throws LintelError `charter-mismatch` when the facts were read under another charter. */
  constructor(charter: Charter<T>, facts: Facts, options: StandingOptions = {}) {
    if (facts.charter !== charter.hash) {
      throw new LintelError('charter-mismatch', 'these facts are of another charter; read them anew', {
        expected: charter.hash,
        found: facts.charter,
      });
    }
    this.charter = charterOf(charter, facts);
    this.facts = facts;
    this.words = options.words ? { ...ENGLISH, ...options.words } : USUAL;
    this.#now = options.now ?? Date.now;
    this.options = options;
    this.#reaches = new Reaches(this.charter as Charter, facts, options.context ?? {});
  }

  get userId(): string | undefined {
    return this.facts.me.userId;
  }

  /** True for an active member with full control of the tenant. */
  get isKeyholder(): boolean {
    return this.facts.subject === 'member' && this.facts.assignments.some((a) => a.role === KEYHOLDER && a.anchor.on === 'tenant');
  }

  /**
   * May this subject do this? With a record: to it. Without: could there be one (an upper bound, for menus). `create` takes
   * the record to be.
   *
   * @throws LintelError `unknown-action` for a name that the charter does not have.
   */
  may<P extends T['permissions']>(action: P, record?: RecordOf<T, KindOf<P>>, options?: DecideOptions): boolean {
    if (record !== undefined && options === undefined) {
      const gate = this.#gate(action);
      gate.test ??= gate.compile();
      const verdict = gate.open && gate.test(this.counted(record as RecordData));
      if (verdict !== undefined) return verdict;
    }
    return this.#ask(action, record as RecordData | undefined, options, undefined).allowed;
  }

  /**
   * @internal What counts of a record that somebody hands over: all of it, as for a snapshot, to which the server sent what it attached. On a server `may` and
   * `parents` count only where the library put them.
   */
  protected counted(record: RecordData): RecordData {
    return record;
  }

  /** The records of a list that an action reaches. Like {@link may} on each, without asking anew what does not change from one to the next. */
  keep<P extends T['permissions'], R extends RecordOf<T, KindOf<P>>>(action: P, records: readonly R[]): R[] {
    const gate = this.#gate(action);
    gate.test ??= gate.compile();
    const { open, test } = gate;
    return open ? records.filter((record) => test(this.counted(record as RecordData)) ?? this.may(action, record)) : [];
  }

  /** The same question, answered with reasons. Never throws for a refusal. */
  decide<P extends T['permissions']>(action: P, record?: RecordOf<T, KindOf<P>>, options?: DecideOptions): Decision {
    const decision = this.#ask(action, record as RecordData | undefined, options, this.words);
    return this.facts.look ? { ...decision, could: this.could(action, record && this.counted(record as RecordData), options) } : decision;
  }

  /**
   * The same question, where only yes will do.
   *
   * @throws LintelError `not-found` (what is hidden does not exist), `obligation-open` or `refused`, with the decision in
   * `details.decision`.
   */
  insist<P extends T['permissions']>(action: P, record?: RecordOf<T, KindOf<P>>, options?: DecideOptions): void {
    throwIfRefused(this.decide(action, record, options));
  }

  /** The records of a kind that an action reaches, as a predicate in which only the record is left to ask. */
  filter<P extends T['permissions']>(action: P): Predicate {
    const permission = this.#kindPermission(action);
    return and(ofTenant(permission.kind as string, this.charter.shapes, this.facts.tenant.id), this.reachOf(action));
  }

  /** @internal Like {@link filter}, for a writer that equates the tenant itself. */
  reachOf(action: string, image?: Image): Predicate {
    const permission = this.#kindPermission(action);
    const { open } = this.#gate(action);
    return open ? this.#reaches.action(permission, image).where : { op: 'never' };
  }

  /** @internal The grants of an action that count. */
  grantsFor(action: string): readonly Grant[] {
    const { open } = this.#gate(action);
    return open ? this.#reaches.grantsFor(this.charter.permission(action)) : [];
  }

  /** @internal What is worked out for this standing. */
  get reaches(): Reaches {
    return this.#reaches;
  }

  /** @internal The id of whoever asks, as a field of a type holds it; null for nobody. */
  idIn({ type }: { readonly type: ValueType }): Scalar | null {
    // guard own-id-read by agree: The person's id would be compared as the membership writes it.
    return /* guard own-id-read (unwrapped) */ readValue(type, this.userId) ?? null;
  }

  /** For each field of a record: may it be read, may it be changed by this action, and if not why. */
  fields<P extends T['permissions']>(action: P, record?: RecordOf<T, KindOf<P>>): Record<string, FieldAccess> {
    const permission = this.#kindPermission(action);
    const kind = permission.kind as string;
    const data = this.charter.kind(kind);
    const ask = (name: string) => this.decide(`${kind}.${name}` as P, record);
    const mayRead = permission.action === 'create' || ask('read').allowed;
    return Object.fromEntries(Object.entries(data.fields).map(([name, field]) => [name, fieldAccess(field, permission, mayRead, ask)]));
  }

  /** Everything that this subject holds, by permission, with every path by which it comes; and their powers in one line. */
  describe(): { readonly line: string; readonly permissions: readonly HeldPermission[] } {
    const held = [...this.charter.permissions.values()].flatMap((p): HeldPermission[] => {
      const ways = this.#reaches.ways(p).map(({ reach, anchor, path }) => ({ reach, anchor, path }));
      return ways.length === 0 ? [] : [{ permission: p.name, label: p.label, section: p.section, ways }];
    });
    const roles = this.facts.assignments.filter((a) => a.role === KEYHOLDER || Object.hasOwn(this.charter.data.roles, a.role));
    const at = (anchor: Anchor) => (anchor.on === 'tenant' ? '' : ` at ${anchorWords(anchor)}`);
    const names = [...new Set(roles.map((a) => `${this.charter.role(a.role).label}${at(a.anchor)}`))];
    const beside = new Set(
      held.filter(({ ways }) => ways.every(({ path }) => ['direct', 'opening', 'deputy'].includes(path.by))).map(({ permission }) => permission),
    );
    const line = [...names, ...(beside.size > 0 ? [`${names.length > 0 ? 'and ' : ''}${beside.size} more`] : [])].join(', ');
    const { subject } = this.facts;
    return { line: line || { member: 'no role', signedIn: 'signed in' }[subject as string] || subject, permissions: held };
  }

  /** The area where this person starts: the first that a role of theirs names and that is open to them. */
  startsAt(): string | undefined {
    const named = this.facts.assignments.flatMap((a) => (a.role === KEYHOLDER ? this.charter.data.keyholder : this.charter.data.roles[a.role])?.startsAt ?? []);
    return [...named, ...Object.keys(this.charter.data.areas)].find((area) => this.#ask(`area.${area}`, undefined, undefined, undefined).allowed);
  }

  /** What a browser may hold for display: the facts about this person alone. `seconds` is how long it counts. */
  snapshot(seconds: number): Snapshot {
    const { look, ...facts } = withoutOthers(this.facts);
    const ends = Math.min(this.#now() + seconds * 1000, facts.endsAt === undefined ? Number.POSITIVE_INFINITY : Date.parse(facts.endsAt));
    return { ...facts, ...(look && { look: { id: look.id, by: look.by, ...(look.tries && { tries: look.tries }) } }), expiresAt: new Date(ends).toISOString() };
  }

  #kindPermission(action: string): Permission {
    const permission = this.charter.permission(action);
    if (!permission.kind) throw new LintelError('not-a-record-action', `"${action}" is about no kind of record; ask may or decide`, { action });
    return permission;
  }

  #gate(action: string): Gate {
    if (this.#last?.action === action) return this.#last;
    const gate = this.#gates.get(action) ?? this.#gateOf(action);
    this.#gates.set(action, gate);
    this.#last = gate;
    return gate;
  }

  #gateOf(action: string): Gate {
    const permission = this.charter.permission(action);
    const { kind } = permission;
    // What depends on time, or on no record, takes the long way.
    const quick = kind !== undefined && this.facts.expiresAt === undefined;
    const read = quick && restsOnRead(permission.action) ? [this.charter.permission(`${kind}.read`)] : [];
    // A record that is to be made gets its tenant on the way.
    const isShown = quick && permission.action !== 'create';
    return {
      action,
      open: kind === undefined || (this.facts.tenant.open && ![permission, ...read].some((p) => this.#reaches.isBlocked(p))),
      compile: () => (isShown ? this.#reaches.shown(permission) : LONG_WAY),
    };
  }

  #ask(action: string, given: RecordData | undefined, options: DecideOptions | undefined, words: Words | undefined): Decision {
    const record = given && this.counted(given);
    const permission = this.charter.permission(action);
    const reaches = options?.context ? new Reaches(this.charter as Charter, this.facts, options.context) : this.#reaches;
    const creating = permission.kind !== undefined && permission.action === 'create' && record !== undefined;
    const touching = [...(options?.fields ?? []), ...(creating ? this.#touchedByMaking(permission.kind as string, record) : [])];
    const toBe = creating ? this.#recordToBe(permission.kind as string, record) : record;
    const image = (creating || options?.after) && { image: 'after' as const };
    const { may, could } = (record ?? {}) as RecordExtras;
    // What was found is read, whether that was asked or not.
    const attached = (name: string) => {
      if ((could || Array.isArray(may)) && name === `${permission.kind}.read`) return true;
      return could && !this.facts.look ? entryOf(could, name) : Array.isArray(may) ? may.includes(name) : undefined;
    };
    return decide(reaches, { permission, ...(toBe && { record: toBe }), ...image, touching, now: this.#now, attached }, words);
  }

  /** @internal Whoever is looked as, by themselves, whatever they have to do first. */
  protected get own(): Standing<T> {
    this.#own ??= new Standing(this.charter, this.ownFacts(), this.options);
    return this.#own;
  }

  /** @internal */
  protected ownFacts(): Facts {
    const { look: _, ...facts } = this.facts;
    return { ...facts, demands: {}, fulfilled: Object.keys(this.charter.data.obligations) };
  }

  /** @internal What the person could do, for whoever looks as them. What these may know is known to a KnowingStanding. */
  protected could(...asked: [action: T['permissions'], record: RecordData | undefined, options: DecideOptions | undefined]): Could {
    return this.#reaches.viewer ? this.unknown(asked[0]) : this.ownCould(...asked);
  }

  /** @internal */
  protected ownCould(action: T['permissions'], record: RecordData | undefined, options: DecideOptions | undefined): Could {
    const could = this.own.decide(action, record as never, options);
    return could.outcome === 'not loaded' ? this.unknown(action) : could;
  }

  /** @internal The answer where nothing may be told, not even whether there is such a record. */
  protected unknown(action: string): Could {
    return { allowed: 'unknown', outcome: 'unknown', action, visibility: 'hidden', words: say(this.words, 'unknown'), looked: [], lookedForRead: [] };
  }

  /** Guarded fields that a record to be already has a value in; taking it for oneself needs no right to hand over. */
  #touchedByMaking(kind: string, record: RecordData): string[] {
    const isEmpty = (value: unknown) => value === undefined || value === null || (Array.isArray(value) && value.length === 0);
    return Object.entries(this.charter.kind(kind).fields)
      .filter(([name, f]) => f.change !== undefined && !isEmpty(record[name]) && !(f.role === 'owner' && readValue(f.type, record[name]) === this.idIn(f)))
      .map(([name]) => name);
  }

  /** What the library stamps on a new record, and `null` where a field is left out. */
  #recordToBe(kind: string, record: RecordData): RecordData {
    const entries = Object.entries(this.charter.kind(kind).fields).map(([name, field]): [string, unknown] => {
      if (field.role === 'tenant') return [name, record[name] ?? this.facts.tenant.id];
      if (field.role === 'maker' || (field.role === 'owner' && record[name] === undefined)) return [name, this.idIn(field)];
      return [name, record[name] ?? (field.role === 'people' ? [] : null)];
    });
    return { ...record, ...Object.fromEntries(entries) };
  }
}

function fieldAccess(field: FieldData, permission: Permission, mayRead: boolean, ask: (action: string) => Decision): FieldAccess {
  const readable = mayRead && (field.read === undefined || permission.action === 'create' || ask(field.read).allowed);
  if (['id', 'tenant', 'maker'].includes(field.role)) return { readable, changeable: false, setByLibrary: field.role !== 'id', reason: '' };
  const own = field.role === 'owner' && permission.action === 'create';
  const decision = ask(own || field.change === undefined ? (permission.action as string) : field.change);
  const could = decision.could && { could: decision.could.allowed };
  return { readable, changeable: decision.allowed, setByLibrary: false, reason: decision.allowed ? '' : decision.words, ...could };
}

/** Turns a refusal into the error that an HTTP layer answers with. Does nothing when it was allowed. */
export function throwIfRefused(decision: Decision): void {
  if (decision.allowed) return;
  const code = decision.visibility === 'hidden' ? 'not-found' : decision.outcome === 'obligation' ? 'obligation-open' : 'refused';
  throw new LintelError(code, decision.words, { decision });
}

/**
 * Opens a standing from what the server sent: in a browser, for display only. The server checks again.
 *
 * @throws LintelError `charter-mismatch` when the server runs another charter.
 */
export function openStanding<T extends CharterTypes>(charter: Charter<T>, snapshot: Snapshot, options?: StandingOptions): Standing<T> {
  return new Standing(charter, snapshot, options);
}

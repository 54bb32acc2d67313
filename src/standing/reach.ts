import { entryOf } from '../base/index.js';
import { type Charter, type Limit, type Permission, restsOnRead } from '../charter/index.js';
import {
  and,
  type Bias,
  compile,
  type Knowledge,
  NEVER,
  not,
  ofTenant,
  or,
  type Predicate,
  type RecordData,
  specialise,
  type Test,
  type Verdict,
} from '../predicate/index.js';
import { charterOf, type Facts, type StandingIn } from './facts.js';
import { anchorPredicate, type Grant, grantsOf, onlyLooks, ruleOf } from './grants.js';

/** A grant with the records it extends to, for one person: a predicate in which only the record is left to ask. */
export interface GrantReach {
  readonly grant: Grant;
  readonly where: Predicate;
}

export interface LimitReach {
  readonly limit: Limit;
  readonly where: Predicate;
}

/** Everything about one action on one kind for one standing, worked out once. */
export interface ActionReach {
  readonly permission: Permission;
  readonly grants: readonly GrantReach[];
  readonly limits: readonly LimitReach[];
  /** Limits, grants and `read` together, without obligations and plan. Says nothing of the tenant. */
  readonly where: Predicate;
  /** Asks a record in memory. */
  readonly test: Test;
}

/** A record as it is, or as a change would leave it. */
export type Image = 'before' | 'after';

/** Which of the records, is not known here. */
const UNSEEN: Predicate = { op: 'among', field: '', to: { value: [] } };

/** Works out, for one standing, which records each action reaches. The one place where reaches, anchors, limits and `read` meet. */
export class Reaches implements Knowledge {
  readonly charter: Charter;
  readonly facts: Facts;
  readonly #grants = new Map<string, readonly Grant[]>();
  readonly #here = new Map<string, Test>();
  readonly #actions = { before: new Map<string, ActionReach>(), after: new Map<string, ActionReach>() };
  readonly #standsFor: readonly (StandingIn & { readonly reaches: Reaches })[];
  /** What bounds a look as somebody else: the reaches of whoever looks. */
  readonly viewer: Reaches | undefined;
  readonly context: Readonly<Record<string, unknown>>;
  readonly #isBare: boolean;
  #bare: Reaches | undefined;

  /** @param bare what refuses whatever the record is left out, wherever a rule follows what may be read. */
  constructor(charter: Charter, facts: Facts, context: Readonly<Record<string, unknown>>, bare?: 'bare') {
    this.charter = charter;
    this.facts = facts;
    this.context = context;
    this.#isBare = bare !== undefined;
    this.#standsFor = facts.standsFor?.map((one) => ({ ...one, reaches: new Reaches(charterOf(charter, one.facts), one.facts, context, bare) })) ?? [];
    const within = facts.look?.within;
    this.viewer = within && new Reaches(charterOf(charter, within), within, context, bare);
  }

  get me(): Facts['me'] {
    return this.facts.me;
  }

  below(unitId: string): readonly string[] | undefined {
    return this.facts.below && (entryOf(this.facts.below, unitId) ?? []);
  }

  peopleOf(groupId: string): readonly string[] | undefined {
    return this.facts.people && (entryOf(this.facts.people, groupId) ?? []);
  }

  #grantsOf(permission: string): readonly Grant[] {
    const known = this.#grants.get(permission) ?? (this.facts.tenant.open ? grantsOf(this.charter, this.facts, permission) : []);
    this.#grants.set(permission, known);
    return known;
  }

  /** Grants of one permission that count: one about no record counts at a unit only if the charter says so, and never at a record. */
  grantsFor(permission: Permission): readonly Grant[] {
    const all = this.#grantsOf(permission.name);
    if (permission.kind) return all;
    return all.filter(({ anchor }) => anchor.on === 'tenant' || (anchor.on === 'unit' && permission.perUnit));
  }

  /** Everything by which somebody comes to an action on records: their own grants, and those of others for whom they stand in. */
  ways(permission: Permission): readonly Grant[] {
    return permission.kind ? this.action(permission).grants.map(({ grant }) => grant) : this.grantsFor(permission);
  }

  /** Whether a record of a kind is of this tenant; undefined where it does not show it. */
  isHere(kind: string, record: RecordData): Verdict {
    const test = this.#here.get(kind) ?? compile(ofTenant(kind, this.charter.shapes, this.facts.tenant.id), kind, this.charter.shapes);
    this.#here.set(kind, test);
    return test(record);
  }

  /** Asks of a record in memory whether it is of this tenant and in reach of an action. */
  shown(permission: Permission): Test {
    const kind = permission.kind as string;
    const { shapes } = this.charter;
    return compile(and(ofTenant(kind, shapes, this.facts.tenant.id), this.action(permission).where), kind, shapes);
  }

  /** True if the charter or an assignment gives this subject anything at all. */
  get any(): boolean {
    return this.facts.tenant.open && grantsOf(this.charter, this.facts).length > 0;
  }

  readable(kind: string): Predicate {
    const read = this.charter.permission(`${kind}.read`);
    return !this.#isBare && this.isBlocked(read) ? NEVER : this.action(read).where;
  }

  /** True for a record that could be read if only everything were met first that has to be: whoever is to do so is told of it. */
  couldRead(kind: string, record: RecordData): boolean {
    const read = this.charter.permission(`${kind}.read`);
    if (this.action(read).test(record) === true) return true;
    if (this.#isBare) return false;
    this.#bare ??= new Reaches(this.charter, this.facts, this.context, 'bare');
    return this.#bare.couldRead(kind, record);
  }

  /** The first obligation that is open for a permission. */
  openObligation(permission: Permission): string | undefined {
    const { demands = {}, fulfilled } = this.facts;
    const waits = Object.entries(this.charter.data.obligations).find(
      ([name, { before }]) => (before === 'everything' || before.includes(permission.name)) && !fulfilled.includes(name),
    );
    return waits?.[0] ?? Object.keys(demands)[0];
  }

  lacksFeature(permission: Permission): boolean {
    return permission.feature !== undefined && !this.facts.tenant.features.includes(permission.feature);
  }

  /** True for what is not done by the way in that was taken. One that is not known is none of those that are named. */
  isElsewhere({ channels }: Permission): boolean {
    return channels !== undefined && !channels.includes(this.facts.channel ?? '');
  }

  /** True for what would change something, while somebody looks as another. */
  isOnlyLooked(permission: Permission): boolean {
    const { look } = this.facts;
    return look !== undefined && !look.trying && !onlyLooks(this.charter, permission);
  }

  /** Refused whatever the record: a look changes nothing, it is done elsewhere, an obligation is open, or the plan lacks it. */
  isBlocked(permission: Permission): boolean {
    return (
      this.isOnlyLooked(permission) ||
      this.isElsewhere(permission) ||
      this.openObligation(permission) !== undefined ||
      this.lacksFeature(permission) ||
      (this.viewer?.isBlocked(permission) ?? false)
    );
  }

  /** A rule with every fact of this person resolved. */
  specialise(p: Predicate, kind: string, bias: Bias): Predicate {
    return specialise(p, kind, this.charter.shapes, this, bias);
  }

  /** What is reached by standing in for others: on records where they reach it themselves, and where no limit of theirs holds. */
  #inPlaceOf(permission: Permission, image: Image): GrantReach[] {
    if (this.facts.inPlace?.includes(permission.name)) {
      const reach = this.charter.widestReach(permission.kind as string);
      return [{ grant: { permission: permission.name, reach, anchor: { on: 'tenant' }, path: { by: 'deputy', of: '', name: 'another' } }, where: UNSEEN }];
    }
    return this.#standsFor.flatMap(({ of, permissions, reaches }) => {
      if (!permissions.includes(permission.name)) return [];
      const { grants, limits } = reaches.action(permission, image);
      const bound = limits.map(({ where }) => not(where));
      return grants.map(({ grant, where }) => ({ grant: { ...grant, path: { by: 'deputy', of: of.userId, name: of.name } }, where: and(where, ...bound) }));
    });
  }

  /** @param image the record as it is, or as a change would leave it: there, limits that look only at what was before are not asked. */
  action(permission: Permission, image: Image = 'before'): ActionReach {
    const known = this.#actions[image].get(permission.name) ?? this.#reach(permission, image);
    this.#actions[image].set(permission.name, known);
    return known;
  }

  #reach(permission: Permission, image: Image): ActionReach {
    const { charter } = this;
    const kind = permission.kind as string;
    const named = charter.limitsOf(kind).filter((limit) => limit.actions.includes(permission.action as string));
    // A record that is made has no before; and to read it changes nothing, so that its limits look at it as it stands.
    const becomes = permission.action === 'create' || (image === 'after' && permission.action !== 'read');
    const binding = becomes ? named.filter((limit) => limit.before !== true) : named;
    if (image === 'after' && binding.length === named.length) return this.action(permission);
    const own = this.grantsFor(permission).map((grant) => ({
      grant,
      where: this.specialise(and(ruleOf(charter, kind, grant), anchorPredicate(charter, kind, grant.anchor)), kind, 'shrink'),
    }));
    const grants = [...own, ...this.#inPlaceOf(permission, image)];
    const limits = binding.map((limit) => ({ limit, where: this.specialise(limit.where, kind, 'grow') }));
    // What reaches a record that exists reaches at most what `read` reaches.
    const read = restsOnRead(permission.action) ? [this.readable(kind)] : [];
    // guard trial-changes-seen-records by looks: A trial would change records that the looker may not.
    const seen = this.viewer ? /* guard trial-changes-seen-records */ [this.viewer.action(permission, image).where] : [];
    const where = and(...limits.map((l) => not(l.where)), or(...grants.map((g) => g.where)), ...read, ...seen);
    let compiled: Test | undefined;
    // Where only the database is asked, nothing is compiled.
    const test: Test = (record) => {
      compiled ??= compile(where, kind, charter.shapes);
      return compiled(record);
    };
    return { permission, grants, limits, where, test };
  }
}

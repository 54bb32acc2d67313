import { type Charter, type LimitData, type May, type Permission, restsOnRead } from '../charter/index.js';
import { and, disjoint, type Example, implies, not, or, ownFields, type Predicate, print, unsatisfiable } from '../predicate/index.js';
import { aKeyholder, rolesIn } from '../standing/index.js';
import { REVIEW_CODES, type ReviewCode, type Severity } from './review-codes.js';

/** Something in a charter, or in a tenant, that is hardly meant so. */
export interface ReviewFinding<Code extends string = string> {
  readonly code: Code;
  readonly severity: Severity;
  /** Where it stands in the charter: `roles.keeper.may["hive.update"]`. */
  readonly place: string;
  readonly message: string;
  /** A record that shows it, where one does. */
  readonly example?: string;
}

const key = (permission: string) => `["${permission}"]`;
const quoted = (permission: Permission) => `“${permission.label}”`;

function exampleWords({ record, me }: Example): string {
  const shown = ([name, value]: [string, unknown]) =>
    `${name} ${value === null ? 'empty' : typeof value === 'object' ? JSON.stringify(value) : `“${String(value)}”`}`;
  const of = (values: Readonly<Record<string, unknown>>) =>
    Object.entries(values)
      .filter(([name, value]) => value !== undefined && name !== 'parents' && JSON.stringify(value) !== '{}')
      .map(shown);
  const who = of(me);
  return [`a record with ${of(record).join(', ') || 'nothing in it'}`, ...(who.length > 0 ? [`for somebody with ${who.join(', ')}`] : [])].join(', ');
}

/** Fields by which a rule holds for somebody as the person who they are, where they are and not where they are not. */
const mine = (rule: Predicate): string[] =>
  rule.op === 'and' || rule.op === 'or' ? rule.of.flatMap(mine) : 'to' in rule && 'me' in rule.to ? [rule.field] : [];

/** Fields by whose order, or by whose being no, a rule holds, and of which it does not say what is so where they are empty. */
function passedEmpty(rule: Predicate): string[] {
  const said = (p: Predicate): string[] =>
    p.op === 'and' || p.op === 'or' ? p.of.flatMap(said) : p.op === 'not' ? said(p.of) : p.op === 'isEmpty' ? [p.field] : [];
  const ordered = (p: Predicate, holds: boolean): string[] => {
    if (p.op === 'and' || p.op === 'or') return p.of.flatMap((part) => ordered(part, holds));
    if (p.op === 'not') return ordered(p.of, !holds);
    if (p.op === 'parent') return holds ? passedEmpty(p.where).map((field) => `${p.via}.${field}`) : [];
    if (!holds || !('to' in p)) return [];
    // A flag that is empty is taken for no by whoever looks at it.
    const isNo = p.op === 'is' && 'value' in p.to && p.to.value === false;
    return isNo || ORDERS.includes(p.op) ? [p.field] : [];
  };
  const known = said(rule);
  return [...new Set(ordered(rule, true))].filter((field) => !known.includes(field));
}
const FIXED: readonly string[] = ['id', 'tenant', 'maker'];
const ORDERS: readonly string[] = ['before', 'after', 'atLeast', 'atMost'];

/** Reads a charter critically: what contradicts itself, gives nothing, gives more than it seems, or lets people raise one another. */
class Review {
  readonly findings: ReviewFinding<ReviewCode>[] = [];
  readonly #charter: Charter<any>;

  constructor(charter: Charter<any>) {
    this.#charter = charter;
  }

  find(code: ReviewCode, place: string, message: string, example?: Example): void {
    this.findings.push({ code, severity: REVIEW_CODES[code].severity, place, message, ...(example && { example: exampleWords(example) }) });
  }

  kinds(): void {
    const { data, shapes } = this.#charter;
    for (const [kind, { reaches, actions }] of Object.entries(data.kinds)) {
      for (const [name, reach] of Object.entries(reaches)) {
        const place = `kinds.${kind}.reaches.${name}`;
        if (unsatisfiable(reach, kind, shapes).verdict === 'yes') this.find('reach-empty', place, `no record is ever ${name}: ${print(reach)}`);
        else if (unsatisfiable(not(reach), kind, shapes).verdict === 'yes') this.find('reach-everything', place, `every record is ${name}: ${print(reach)}`);
      }
      for (const [action, { channels }] of Object.entries(actions))
        if (channels?.length === 0)
          this.find('nobody-can', `kinds.${kind}.actions.${action}`, `${quoted(this.#charter.permission(`${kind}.${action}`))} is done by no channel`);
    }
    for (const [kind, limits] of Object.entries(data.limits)) {
      for (const [name, { where, actions }] of Object.entries(limits)) {
        const place = `limits.${kind}.${name}`;
        if (unsatisfiable(where, kind, shapes).verdict === 'yes') this.find('limit-never', place, `it refuses nothing: ${print(where)}`);
        else if (unsatisfiable(not(where), kind, shapes).verdict === 'yes')
          this.find('limit-always', place, `nobody can ever ${actions.join(', ')}: ${print(where)}`);
        for (const field of passedEmpty(where)) this.find('limit-passed-empty', place, `where ${field} is empty it does not hold: ${print(where)}`);
      }
      this.#locks(kind, Object.entries(limits));
    }
  }

  /** Limits that hold together, each of which refuses every action by which another is left, round in a circle. */
  #locks(kind: string, limits: readonly (readonly [string, LimitData])[]): void {
    const { shapes } = this.#charter;
    const { fields } = this.#charter.kind(kind);
    const changing = (where: Predicate) =>
      ownFields(where).flatMap((field) => (FIXED.includes(fields[field]?.role as string) ? [] : [fields[field]?.change ?? 'update']));
    // What turns on a parent, or on who asks, has a way out that is not an action on the record.
    const elsewhere = (where: Predicate) => mine(where).length > 0 || /"op":"(parent|followed)"/.test(JSON.stringify(where));
    const ways = new Map(limits.map(([name, { where }]) => [name, new Set(elsewhere(where) ? [] : changing(where))]));
    const blocks = ([, { actions }]: (typeof limits)[number], name: string) => {
      const out = ways.get(name) as ReadonlySet<string>;
      return out.size > 0 && [...out].every((action) => actions.includes(action));
    };
    const walk = (path: (typeof limits)[number][]): void => {
      const [first, last] = [path[0], path.at(-1)] as [(typeof limits)[number], (typeof limits)[number]];
      const together = and(...path.map(([, { where }]) => where));
      const none = unsatisfiable(together, kind, shapes);
      if (none.verdict !== 'no') return;
      if (path.length > 1 && blocks(first, last[0]))
        this.find('limits-lock', `limits.${kind}.${first[0]}`, `a record stays in ${path.map(([name]) => name).join(' and ')} for ever`, none.example);
      // Each circle is told once, from the limit that stands first.
      const from = limits.indexOf(first);
      for (const next of limits.slice(from + 1)) if (!path.includes(next) && !next[1].lasting && blocks(next, last[0])) walk([...path, next]);
    };
    for (const one of limits) if (!one[1].lasting) walk([one]);
  }

  /** Everything that a holder of a role has, that of every member too; by permission, the reaches. */
  #held(role: string): Map<string, Set<string>> {
    const held = new Map<string, Set<string>>();
    const add = (permission: string, reach: string) => held.set(permission, (held.get(permission) ?? new Set()).add(reach));
    for (const { permission, reach } of this.#charter.resolveRole(role).grants) add(permission, reach);
    for (const [permission, reaches] of Object.entries(this.#charter.data.everyMember)) for (const reach of reaches) add(permission, reach);
    return held;
  }

  /** Which records some reaches hold; what follows a parent follows what this role reads of it. */
  #where(held: Map<string, Set<string>>, kind: string, reaches: Iterable<string>): Predicate {
    const rule = (reach: string) => this.#followed(held, kind, this.#charter.reach(kind, this.#charter.reachMeant(`${kind}.read`, reach)));
    return or(...[...reaches].map(rule));
  }

  #followed(held: Map<string, Set<string>>, kind: string, p: Predicate): Predicate {
    if (p.op === 'and' || p.op === 'or') return { ...p, of: p.of.map((part) => this.#followed(held, kind, part)) };
    if (p.op !== 'followed') return p;
    const parent = this.#charter.kind(kind).fields[p.via]?.to as string;
    return { op: 'parent', via: p.via, where: this.#where(held, parent, held.get(`${parent}.read`) ?? []) };
  }

  roles(): void {
    const { data } = this.#charter;
    const alike = new Map<string, string>();
    for (const [role, { may, startsAt, gives, includes }] of Object.entries(data.roles)) {
      const at = `roles.${role}`;
      const held = this.#held(role);
      const own = this.#charter.resolveRole(role);
      if (own.grants.length === 0 && gives.length === 0) this.find('role-empty', at, 'it gives nothing');
      if (startsAt !== undefined && !held.has(`area.${startsAt}`))
        this.find('starts-closed', `${at}.startsAt`, `it starts at ${startsAt}, and does not open it`);
      this.#may(may, at, held);
      this.#whole(role, at);
      const said = JSON.stringify([own.grants.map(({ permission, reach }) => `${permission} ${reach}`).sort(), [...own.gives].sort()]);
      const other = alike.get(said);
      if (other !== undefined && own.grants.length > 0 && !includes.includes(other)) this.find('roles-alike', at, `it gives the same as ${other}`);
      alike.set(said, role);
      const inside = rolesIn(this.#charter, role);
      for (const [name, { hold }] of Object.entries(data.apart)) {
        const both = hold.filter((one) => inside.includes(one) || own.grants.some(({ permission }) => permission === one));
        if (both.length > 1) this.find('apart-in-one', at, `it holds ${both.join(' and ')}, which apart.${name} keeps apart`);
      }
      this.#raising(role, at);
      this.#alone(may, at, held);
    }
  }

  /** Fields by whose change a record comes into a reach of one's own, where they may be changed farther than that reach. */
  #alone(may: May, at: string, held: Map<string, Set<string>>): void {
    const { shapes } = this.#charter;
    for (const [name, reaches] of Object.entries(may)) {
      const { kind, action } = this.#charter.permission(name);
      if (!kind || !restsOnRead(action)) continue;
      const acts = this.#where(held, kind, held.get(name) ?? []);
      const read = this.#where(held, kind, held.get(`${kind}.read`) ?? []);
      for (const field of new Set(reaches.flatMap((reach) => mine(this.#charter.reach(kind, this.#charter.reachMeant(name, reach)))))) {
        const { role, change: by = 'update' } = this.#charter.kind(kind).fields[field] ?? {};
        if (FIXED.includes(role as string)) continue;
        const changes = this.#where(held, kind, held.get(`${kind}.${by}`) ?? []);
        if (by === action || changes.op === 'never') continue;
        const within = implies(and(changes, read), acts, kind, shapes);
        if (within.verdict === 'no')
          this.find(
            'raise-alone',
            `${at}.may${key(name)}`,
            `by ${kind}.${by} a record gets a ${field} by which ${quoted(this.#charter.permission(name))} reaches it`,
            within.example,
          );
      }
    }
  }

  #may(may: May, at: string, held: Map<string, Set<string>>): void {
    const { shapes } = this.#charter;
    for (const [name, reaches] of Object.entries(may)) {
      const permission = this.#charter.permission(name);
      const place = `${at}.may${key(name)}`;
      for (const need of permission.needs ?? [])
        if (!held.has(need)) this.find('need-missing', place, `${quoted(permission)} needs ${quoted(this.#charter.permission(need))}, which is not given`);
      const { kind, action } = permission;
      if (!kind) continue;
      for (const reach of reaches) {
        const wider = reaches.find(
          (other) => other !== reach && implies(this.#where(held, kind, [reach]), this.#where(held, kind, [other]), kind, shapes).verdict === 'yes',
        );
        if (wider !== undefined) this.find('reach-doubled', place, `${reach} lies within ${wider}`);
      }
      if (!restsOnRead(action) || reaches.length === 0) continue;
      const read = this.#where(held, kind, held.get(`${kind}.read`) ?? []);
      const acts = this.#where(held, kind, reaches);
      if (read.op === 'never' || (read.op !== 'always' && disjoint(acts, read, kind, shapes).verdict === 'yes')) {
        this.find('acts-unread', place, `${quoted(permission)} reaches nothing: none of it can be read`);
        continue;
      }
      // What may be read with its parent ends when that does, and is meant to: only rules about the record itself are held against each other.
      const byParent = JSON.stringify(read).includes('"op":"parent"');
      const within = byParent || read.op === 'always' ? ({ verdict: 'yes' } as const) : implies(acts, read, kind, shapes);
      if (within.verdict === 'no') this.find('acts-beyond-read', place, `${quoted(permission)} is given where reading is not`, within.example);
    }
  }

  apart(): void {
    const { data, permissions } = this.#charter;
    for (const [name, { hold }] of Object.entries(data.apart)) {
      for (const one of hold) {
        const need = permissions.get(one)?.needs?.find((other) => hold.includes(other));
        if (need !== undefined) this.find('needs-apart', `apart.${name}`, `${one} needs ${need}, and nobody may hold both`);
      }
    }
  }

  #whole(role: string, at: string): void {
    const { grants } = this.#charter.resolveRole(role);
    const given = new Set(grants.map(({ permission, reach }) => `${permission} ${reach}`));
    const all = [...this.#charter.permissions.values()].every(({ name, kind }) => given.has(`${name} ${kind ? this.#charter.widestReach(kind) : 'tenant'}`));
    if (all) this.find('full-control', at, 'it gives every permission, everywhere');
  }

  /** A role that may give one by which more is given back. */
  #raising(role: string, at: string): void {
    const holds = (one: string) => new Set(this.#charter.resolveRole(one).grants.map(({ permission, reach }) => `${permission} ${reach}`));
    const [mine, gives] = [holds(role), this.#charter.resolveRole(role).gives];
    for (const given of gives) {
      const back = this.#charter.resolveRole(given).gives.find((one) => !gives.includes(one) && [...holds(one)].some((grant) => !mine.has(grant)));
      if (back !== undefined) this.find('raise-with-another', `${at}.gives`, `it may give ${given}, and whoever holds that may give ${back}, which holds more`);
    }
  }

  /** What full control reaches and no role does. A limit that turns on who somebody is was thought of. */
  keyholder(): void {
    const { roles, everyMember } = this.#charter.data;
    const given = [
      ...Object.keys(roles).flatMap((role) => this.#charter.resolveRole(role).grants),
      ...Object.entries(everyMember).flatMap(([permission, reaches]) => reaches.map((reach) => ({ permission, reach }))),
    ];
    for (const [kind, { one, shared }] of Object.entries(this.#charter.data.kinds)) {
      if (shared) continue;
      const past = [...this.#charter.permissions.values()].filter((permission) => {
        const reaches = given.filter((grant) => grant.permission === permission.name).map(({ reach }) => this.#charter.reachMeant(permission.name, reach));
        const isBound = this.#charter
          .limitsOf(kind)
          .some(({ actions, where }) => actions.includes(permission.action as string) && JSON.stringify(where).includes('"me":'));
        return permission.kind === kind && permission.action !== 'create' && reaches.length > 0 && !reaches.includes('tenant') && !isBound;
      });
      if (past.length > 0)
        this.find(
          'keyholder-reaches-past',
          'keyholder',
          `${aKeyholder(this.#charter)} may do to every ${one} what roles let others do to some: ${past.map(quoted).join(', ')}`,
        );
    }
  }

  outside(): void {
    for (const subject of ['visitor', 'signedIn'] as const) {
      for (const [name, reaches] of Object.entries(this.#charter.data[subject])) {
        const { kind, action } = this.#charter.permission(name);
        const place = `${subject}${key(name)}`;
        if (reaches.length === 0) continue;
        const without = LATER[subject].filter((later) => !goesAsFar(this.#charter.data[later][name], reaches));
        if (without.length > 0)
          this.find('lost-by-coming-in', place, `${WHO[subject]} may ${name}, and not ${without.map((later) => WHO[later]).join(' and ')} as such`);
        if (name.startsWith('area.')) continue;
        if (action !== 'read') this.find('visitor-acts', place, `${WHO[subject]} may ${name}`);
        else if (reaches.includes('tenant'))
          this.find(
            'visitor-reads-all',
            place,
            `every ${this.#charter.kind(kind as string).one} is open to ${subject === 'visitor' ? 'visitors' : 'whoever is signed in'}`,
          );
      }
    }
  }
}

const WHO = { visitor: 'a visitor', signedIn: 'somebody who is signed in and no member', everyMember: 'every member' } as const;
/** Who somebody becomes by signing in, and by coming in. */
const LATER = { visitor: ['signedIn', 'everyMember'], signedIn: ['everyMember'] } as const;
const goesAsFar = (has: readonly string[] = [], other: readonly string[]) => has.includes('tenant') || other.every((reach) => has.includes(reach));

const RANK: readonly Severity[] = ['error', 'warning', 'note'];

/** What weighs most first. */
export const byWeight = <F extends ReviewFinding>(findings: readonly F[]): F[] =>
  [...findings].sort((a, b) => RANK.indexOf(a.severity) - RANK.indexOf(b.severity));

/** Everything in a charter that is hardly meant so, what weighs most first. On a sound charter it finds nothing. */
export function reviewCharter(charter: Charter<any>): ReviewFinding<ReviewCode>[] {
  const review = new Review(charter);
  review.kinds();
  review.roles();
  review.apart();
  review.outside();
  review.keyholder();
  return byWeight(review.findings);
}

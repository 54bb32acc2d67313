import { type Charter, type May, type Permission, restsOnRead } from '../charter/index.js';
import { disjoint, type Example, implies, not, or, type Predicate, print, unsatisfiable } from '../predicate/index.js';
import { rolesIn } from '../standing/index.js';

export type Severity = 'error' | 'warning' | 'note';

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

export interface Told {
  readonly severity: Severity;
  readonly why: string;
  readonly remedy: string;
}

/** What can be found, why it matters, and what to do. */
export const REVIEW_CODES = {
  'reach-empty': {
    severity: 'error',
    why: 'A reach that holds for no record gives nothing to whoever is given it.',
    remedy: 'Correct its rule, or leave it out.',
  },
  'reach-everything': {
    severity: 'warning',
    why: 'A reach that holds for every record reads like a part of them, and is all.',
    remedy: 'Say tenant where all is meant, or correct its rule.',
  },
  'reach-doubled': { severity: 'note', why: 'A reach that lies within another of the same permission adds nothing.', remedy: 'Leave it out.' },
  'limit-never': { severity: 'error', why: 'A limit that holds for no record refuses nothing.', remedy: 'Correct its rule, or leave it out.' },
  'limit-always': {
    severity: 'error',
    why: 'A limit that holds for every record refuses its actions to everybody.',
    remedy: 'Correct its rule, or leave the actions out.',
  },
  'acts-unread': {
    severity: 'error',
    why: 'Every action on a record that is there reaches at most what can be read: this one reaches nothing.',
    remedy: 'Give the role to read what it is to act on.',
  },
  'acts-beyond-read': {
    severity: 'warning',
    why: 'Every action on a record that is there reaches at most what can be read: a part of what is given here counts for nothing.',
    remedy: 'Give the role to read as far, or the action less far.',
  },
  'need-missing': { severity: 'warning', why: 'What a permission needs is not given with it, so that it leads nowhere.', remedy: 'Give what is needed too.' },
  'starts-closed': {
    severity: 'error',
    why: 'Whoever holds the role begins at an area that is closed to them.',
    remedy: 'Give the area, or let them start elsewhere.',
  },
  'role-empty': { severity: 'warning', why: 'The role gives nothing, and nothing may be given by it.', remedy: 'Give it something, or leave it out.' },
  'roles-alike': { severity: 'note', why: 'Two roles give the same: which of them somebody holds makes no difference.', remedy: 'Keep one.' },
  'full-control': {
    severity: 'warning',
    why: 'The role gives every permission everywhere. It is full control without its guards: nobody has to hold it.',
    remedy: 'Give what is needed by name, and let keyholders do the rest.',
  },
  'raise-with-another': {
    severity: 'warning',
    why: 'Two who hold what this role may give can raise each other: one gives a role by which the other gives back more than either held.',
    remedy: 'Let the role that is given give nothing further, or less.',
  },
  'apart-in-one': {
    severity: 'error',
    why: 'One role holds together what is to be apart, so that nobody can be given it.',
    remedy: 'Part the role, or the rule.',
  },
  'visitor-acts': { severity: 'warning', why: 'Whoever is no member may change something.', remedy: 'Give it to members, by a role.' },
  'visitor-reads-all': {
    severity: 'warning',
    why: 'Whoever is no member reads every record of every organisation.',
    remedy: 'Give a reach that holds for what is meant for everybody.',
  },
  'nobody-can': { severity: 'error', why: 'An action that is done by no channel is done by nobody.', remedy: 'Name a channel, or leave the list out.' },
} as const satisfies Record<string, Told>;

export type ReviewCode = keyof typeof REVIEW_CODES;

const key = (permission: string) => `["${permission}"]`;
const quoted = (permission: Permission) => `“${permission.label}”`;

function exampleWords({ record, me }: Example): string {
  const shown = ([name, value]: [string, unknown]) =>
    `${name} ${value === null ? 'empty' : typeof value === 'object' ? JSON.stringify(value) : `“${String(value)}”`}`;
  const of = (values: Readonly<Record<string, unknown>>) =>
    Object.entries(values)
      .filter(([name, value]) => value !== undefined && name !== 'parents')
      .map(shown);
  const who = of(me);
  return [`a record with ${of(record).join(', ') || 'nothing in it'}`, ...(who.length > 0 ? [`for somebody with ${who.join(', ')}`] : [])].join(', ');
}

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
      }
    }
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

  outside(): void {
    for (const subject of ['visitor', 'signedIn'] as const) {
      for (const [name, reaches] of Object.entries(this.#charter.data[subject])) {
        const { kind, action } = this.#charter.permission(name);
        const place = `${subject}${key(name)}`;
        if (reaches.length === 0 || name.startsWith('area.')) continue;
        if (action !== 'read') this.find('visitor-acts', place, `${subject === 'visitor' ? 'a visitor' : 'whoever is signed in'} may ${name}`);
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

const RANK: readonly Severity[] = ['error', 'warning', 'note'];

/** What weighs most first. */
export const byWeight = <F extends ReviewFinding>(findings: readonly F[]): F[] =>
  [...findings].sort((a, b) => RANK.indexOf(a.severity) - RANK.indexOf(b.severity));

/** Everything in a charter that is hardly meant so, what weighs most first. On a sound charter it finds nothing. */
export function reviewCharter(charter: Charter<any>): ReviewFinding<ReviewCode>[] {
  const review = new Review(charter);
  review.kinds();
  review.roles();
  review.outside();
  return byWeight(review.findings);
}

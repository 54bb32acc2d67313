import { entryOf } from '../base/index.js';
import { compile, type RecordData, type Test } from './evaluate.js';
import { ALWAYS, type Comparison, NEVER, type Predicate } from './predicate.js';
import type { FieldShape, KindShape, Shapes } from './shape.js';
import { type Knowledge, specialise } from './specialise.js';
import { compareValues, isOrdered, type Scalar, type ValueType } from './value.js';

/** Combinations of values that are tried before the answer is *undecided*; and steps in all: for each, its choices are put in and the rules are gone through. */
const MAX_TRIED = 200_000;
const MAX_STEPS = 10_000_000;

/** A record, with what is known of the person and the request, on which two rules part. */
export interface Example {
  readonly record: RecordData;
  readonly me: Readonly<Record<string, unknown>>;
  readonly context: Readonly<Record<string, unknown>>;
}

/** `example` shows why not. *Undecided*, where the rules are too large to try, counts as no. */
export type Answer = { readonly verdict: 'yes' } | { readonly verdict: 'no'; readonly example: Example } | { readonly verdict: 'undecided' };

/**
 * Is every record that the first rule reaches reached by the second too, for whoever asks and whatever is known of them? Exact up
 * to {@link MAX_TRIED} combinations of the values that the rules can tell apart, and {@link MAX_STEPS} steps.
 */
export function implies(p: Predicate, q: Predicate, kind: string, shapes: Shapes): Answer {
  return search([p, q], kind, shapes, ([inP, inQ]) => inP === true && inQ === false);
}

/** Is there no record that both rules reach? */
export function disjoint(p: Predicate, q: Predicate, kind: string, shapes: Shapes): Answer {
  return search([p, q], kind, shapes, ([inP, inQ]) => inP === true && inQ === true);
}

/** Does the rule reach no record at all? If it does, the example is one. */
export function unsatisfiable(p: Predicate, kind: string, shapes: Shapes): Answer {
  return search([p], kind, shapes, ([inP]) => inP === true);
}

/** Something that can be chosen freely: the states that the rules can tell apart. */
interface Choice {
  /** It is of the person or the request: the rules are worked out anew for it. */
  readonly ofFacts?: true;
  readonly states: readonly unknown[];
  /** Puts a state into the world that is tried. */
  readonly set: (world: World, state: unknown) => void;
}

interface World {
  readonly record: Record<string, unknown>;
  readonly me: Record<string, unknown>;
  readonly context: Record<string, unknown>;
  readonly below: Record<string, string[]>;
  readonly people: Record<string, string[]>;
  readonly readable: Record<string, boolean>;
}

/** One place where a rule looks at a value: a field of the record, or of a parent some steps away. */
interface Site {
  readonly path: readonly string[];
  readonly field: string;
  readonly shape: FieldShape;
}

interface Gathered {
  readonly sites: Map<string, Site>;
  /** Names of what is compared with each other: sites and facts. */
  readonly linked: [string, string][];
  readonly constants: Map<string, Set<Scalar>>;
  /** Facts: of one value, or a list; by name `me.x` or `context.x`. */
  readonly facts: Map<string, { readonly type: FieldShape; lists: Set<'in' | 'within' | 'among'>; single: boolean }>;
  readonly parents: Map<string, { readonly path: readonly string[]; readonly to: string }>;
  readonly followed: Map<string, Set<string>>;
  readonly members: Map<string, Set<Scalar>>;
  /** A fact is compared with values of several types. */
  mixed: boolean;
}

/** Before the name of a fact that is a list of groups, where their people are asked for. */
const AMONG = 'among ';

const keyOf = (path: readonly string[], field: string) => [...path, field].join('>');

function gather(p: Predicate, kind: string, shapes: Shapes, path: readonly string[], into: Gathered): void {
  const shape = shapes[kind] as KindShape;
  switch (p.op) {
    case 'and':
    case 'or':
      for (const inner of p.of) gather(inner, kind, shapes, path, into);
      return;
    case 'not':
      return gather(p.of, kind, shapes, path, into);
    case 'always':
    case 'never':
      return;
    case 'parent':
    case 'followed': {
      const to = shape.fields[p.via]?.to as string;
      const key = keyOf(path, p.via);
      site(into, path, p.via, shape);
      into.parents.set(key, { path: [...path, p.via], to });
      if (p.op === 'parent') return gather(p.where, to, shapes, [...path, p.via], into);
      into.followed.set(to, (into.followed.get(to) ?? new Set()).add(key));
      return;
    }
    case 'isEmpty':
      site(into, path, p.field, shape);
      return;
    default:
      return gatherComparison(p, shape, path, into);
  }
}

function site(into: Gathered, path: readonly string[], field: string, shape: KindShape): string {
  const key = keyOf(path, field);
  into.sites.set(key, { path, field, shape: shape.fields[field] as FieldShape });
  return key;
}

function gatherComparison(p: Comparison, shape: KindShape, path: readonly string[], into: Gathered): void {
  const key = site(into, path, p.field, shape);
  const field = shape.fields[p.field] as FieldShape;
  if ('field' in p.to) {
    into.linked.push([key, site(into, path, p.to.field, shape)]);
  } else if ('value' in p.to) {
    const values = Array.isArray(p.to.value) ? p.to.value : [p.to.value as Scalar];
    const where = field.link ? into.members : into.constants;
    where.set(key, new Set([...(where.get(key) ?? []), ...values]));
  } else {
    const said = 'me' in p.to ? `me.${p.to.me}` : `context.${p.to.context}`;
    // The people of groups are compared, and not the groups.
    const name = p.op === 'among' ? `${AMONG}${said}` : said;
    const fact = into.facts.get(name) ?? { type: field, lists: new Set(), single: false };
    into.mixed ||= fact.type.type !== field.type;
    if (p.op === 'in' || p.op === 'within' || p.op === 'among') fact.lists.add(p.op);
    else fact.single = true;
    into.facts.set(name, fact);
    into.linked.push([key, name]);
  }
}

/** Values that stand for all others of their type, so far as rules with these constants can tell: each constant, and some in every gap. */
function representatives(type: ValueType, constants: readonly Scalar[], variables: number, scale: number): Scalar[] {
  if (type === 'boolean') return [true, false];
  const sorted = [...new Set(constants)].sort((a, b) => compareValues(type, a, b));
  if (!isOrdered(type)) return [...sorted, ...fresh(type, sorted, variables)];
  const gaps = [...sorted, undefined].flatMap((high, i) => {
    const low = sorted[i - 1];
    return [...between(type, low, high, variables, scale), ...(high === undefined ? [] : [high])];
  });
  return gaps;
}

function fresh(type: ValueType, taken: readonly Scalar[], count: number): Scalar[] {
  const made: Scalar[] = [];
  for (let i = 1; made.length < count; i++) {
    const value = type === 'uuid' ? `00000000-0000-4000-8000-${i.toString(16).padStart(12, '0')}` : `other${i}`;
    if (!taken.includes(value)) made.push(value);
  }
  return made;
}

/** Up to `count` values, in order, strictly between two; an end that is undefined is open. */
function between(type: ValueType, low: Scalar | undefined, high: Scalar | undefined, count: number, scale: number): Scalar[] {
  if (type === 'text') return textsBetween(low as string | undefined, high as string | undefined, count);
  const places = 10n ** BigInt(scale);
  const toNumber = (v: Scalar) => (type === 'instant' ? BigInt(Date.parse(String(v))) : BigInt(String(v).replace('.', '')));
  const [first, last] =
    type === 'instant'
      ? [0n, BigInt(Date.UTC(2038, 0, 1)) - 1n]
      : type === 'integer'
        ? [BigInt(Number.MIN_SAFE_INTEGER), BigInt(Number.MAX_SAFE_INTEGER)]
        : [-(10n ** 18n) * places + 1n, 10n ** 18n * places - 1n];
  const from =
    low === undefined ? (high === undefined ? 0n : toNumber(high) - BigInt(count) > first ? toNumber(high) - BigInt(count) : first) : toNumber(low) + 1n;
  const to = high === undefined ? last : toNumber(high) - 1n;
  const made: Scalar[] = [];
  for (let n = from; n <= to && made.length < count; n++) made.push(fromNumber(type, n, scale));
  return made;
}

function fromNumber(type: ValueType, n: bigint, scale: number): Scalar {
  if (type === 'instant') return new Date(Number(n)).toISOString();
  if (type === 'integer') return Number(n);
  const digits = (n < 0n ? -n : n).toString().padStart(scale + 1, '0');
  const text = scale === 0 ? digits : `${digits.slice(0, -scale)}.${digits.slice(-scale)}`;
  return n < 0n ? `-${text}` : text;
}

/** The texts right after one are made by appending the smallest letter that there is: NUL cannot be stored. */
function textsBetween(low: string | undefined, high: string | undefined, count: number): string[] {
  const made: string[] = [];
  for (let text = low === undefined ? '' : `${low}\u0001`; made.length < count; text += '\u0001') {
    if (high !== undefined && compareValues('text', text, high) >= 0) break;
    made.push(text);
  }
  return made;
}

/** Values of which all subsets are tried, at most. */
const MAX_LISTED = 10;

function subsets<T>(all: readonly T[]): T[][] {
  const sets: T[][] = [[]];
  for (const one of all) for (const set of sets.slice()) sets.push([...set, one]);
  return sets;
}

/** What is compared with one another, directly or by way of others, shares its representatives. */
function components(gathered: Gathered): Map<string, Set<string>> {
  const groups = new Map<string, Set<string>>();
  for (const key of [...gathered.sites.keys(), ...gathered.facts.keys()]) groups.set(key, new Set([key]));
  for (const [a, b] of gathered.linked) {
    const joined = new Set([...(groups.get(a) as Set<string>), ...(groups.get(b) as Set<string>)]);
    for (const key of joined) groups.set(key, joined);
  }
  return groups;
}

function recordAt(world: World, path: readonly string[]): Record<string, unknown> | undefined {
  let record: Record<string, unknown> | undefined = world.record;
  for (const step of path) record = (record?.parents as Record<string, Record<string, unknown>> | undefined)?.[step];
  return record;
}

/** Where a fact stands in a world: what holds it, and under which name. */
function factAt(world: World, name: string): readonly [holder: Record<string, unknown>, key: string] {
  const [source, ...steps] = name.split('.') as ['me' | 'context', ...string[]];
  if (source === 'me' && steps[0] === 'attributes') return [world.me.attributes as Record<string, unknown>, steps.slice(1).join('.')];
  return [world[source], steps.join('.')];
}

function putFact(world: World, name: string, value: unknown): void {
  const [holder, key] = factAt(world, name);
  if (value !== undefined) holder[key] = value;
}

/** Everything that can be chosen, in an order in which parents come before what stands in them. Undefined: more than this can settle. */
function choicesFor(gathered: Gathered): Choice[] | undefined {
  const groups = components(gathered);
  const values = new Map<Set<string>, Scalar[]>();
  const valuesOf = (key: string, type: FieldShape): Scalar[] => {
    const group = groups.get(key) as Set<string>;
    const known = values.get(group);
    if (known) return known;
    const constants = [...group].flatMap((one) => [...(gathered.constants.get(one) ?? []), ...(gathered.members.get(one) ?? [])]);
    const made = representatives(type.type, constants, group.size, type.scale ?? 0);
    values.set(group, made);
    return made;
  };
  const choices: Choice[] = [];
  // A parent that is followed by two fields could be readable by one and not by the other.
  if (gathered.mixed || [...gathered.followed.values()].some((vias) => vias.size > 1)) return undefined;
  for (const { path } of [...gathered.parents.values()].sort((a, b) => a.path.length - b.path.length)) {
    const via = path.at(-1) as string;
    choices.push({
      states: [true, false],
      set: (world, there) => {
        const holder = recordAt(world, path.slice(0, -1));
        if (!holder) return;
        holder.parents = { ...(holder.parents as object), [via]: there ? { parents: {} } : null };
      },
    });
  }
  for (const [key, { path, field, shape }] of gathered.sites) {
    if (shape.link && valuesOf(key, shape).length > MAX_LISTED) return undefined;
    const states = shape.link ? subsets(valuesOf(key, shape)) : [null, ...valuesOf(key, shape)];
    choices.push({
      states,
      set: (world, state) => {
        const record = recordAt(world, path);
        if (record) record[field] = state;
      },
    });
  }
  for (const to of gathered.followed.keys())
    choices.push({ ofFacts: true, states: [true, false], set: (world, may) => Object.assign(world.readable, { [to]: may }) });
  const amongLast = [...gathered.facts].sort(([, a], [, b]) => Number(a.lists.has('among')) - Number(b.lists.has('among')));
  for (const [name, { type, lists, single }] of amongLast) {
    const all = valuesOf(name, type);
    if (single) choices.push({ ofFacts: true, states: [undefined, ...all], set: (world, state) => putFact(world, name, state) });
    // Which of them are in the list, and which below or in what is.
    const ways = Number(lists.has('in')) + Number(lists.has('within') || lists.has('among'));
    if (ways * all.length > MAX_LISTED) return undefined;
    if (lists.has('among')) {
      const groups = name.slice(AMONG.length);
      choices.push(amongChoice(groups, holderOf(gathered.facts.get(groups)?.type.type ?? 'text'), all));
    } else if (lists.size > 0) choices.push(listChoice(name, type.type, all, lists));
  }
  return choices;
}

/** A list about the person, and for units what stands below them. */
function listChoice(name: string, type: ValueType, all: readonly Scalar[], lists: ReadonlySet<string>): Choice {
  const direct = lists.has('in') ? subsets(all) : [[]];
  const inside = lists.has('within') ? subsets(all) : [[]];
  const holder = lists.has('in') ? holderOf(type) : holderOf('text');
  const states = direct.flatMap((list) =>
    inside.flatMap((content) => (lists.has('within') && !list.every((one) => content.includes(one)) ? [] : [{ list, content }])),
  );
  return {
    ofFacts: true,
    states: [undefined, ...states],
    set: (world, state) => {
      if (state === undefined) return;
      const { list, content } = state as { list: Scalar[]; content: Scalar[] };
      putFact(world, name, content.length > 0 ? [...list, holder] : list);
      for (const one of list) {
        world.below[String(one)] = [String(one)];
        world.people[String(one)] ??= [];
      }
      world.below[String(holder)] = content.map(String);
      world.people[String(holder)] ??= [];
    },
  };
}

/** The people of the person's groups: those of one that stands for all. */
function amongChoice(name: string, holder: Scalar, all: readonly Scalar[]): Choice {
  return {
    ofFacts: true,
    states: [undefined, ...subsets(all)],
    set: (world, state) => {
      if (state === undefined) return;
      const [known, key] = factAt(world, name);
      const [one = holder, ...more] = (known[key] ?? []) as Scalar[];
      putFact(world, name, [one, ...more]);
      world.people[String(one)] = (state as Scalar[]).map(String);
    },
  };
}

/** A unit, or group, that stands for all those of the person. */
const holderOf = (type: ValueType): Scalar =>
  type === 'uuid' ? `ffffffff-ffff-4fff-8fff-${'f'.repeat(12)}` : type === 'integer' ? Number.MIN_SAFE_INTEGER : 'mine';

function search(rules: readonly Predicate[], kind: string, shapes: Shapes, found: (verdicts: readonly (boolean | undefined)[]) => boolean): Answer {
  const gathered: Gathered = {
    sites: new Map(),
    linked: [],
    constants: new Map(),
    facts: new Map(),
    parents: new Map(),
    followed: new Map(),
    members: new Map(),
    mixed: false,
  };
  for (const rule of rules) gather(rule, kind, shapes, [], gathered);
  const choices = choicesFor(gathered);
  if (!choices) return { verdict: 'undecided' };
  const count = choices.reduce((product, { states }) => product * states.length, 1);
  const steps = choices.length + rules.reduce((sum, rule) => sum + sizeOf(rule), 0);
  if (count > MAX_TRIED || count * steps > MAX_STEPS) return { verdict: 'undecided' };
  const at = choices.map(() => 0);
  // What is of the person comes last, and so changes least: for each the rules are worked out once.
  const firstFact = choices.findIndex(({ ofFacts }) => ofFacts);
  let tests: Test[] | undefined;
  for (;;) {
    const world: World = {
      record: { parents: {} },
      me: { attributes: {} },
      context: {},
      below: Object.create(null),
      people: Object.create(null),
      readable: {},
    };
    for (let i = 0; i < choices.length; i++) (choices[i] as Choice).set(world, (choices[i] as Choice).states[at[i] as number]);
    tests ??= rules.map((rule) => testOf(rule, kind, shapes, world));
    if (found(tests.map((test) => test(world.record)))) return { verdict: 'no', example: { record: world.record, me: world.me, context: world.context } };
    let i = 0;
    for (; i < choices.length; i++) {
      at[i] = ((at[i] as number) + 1) % (choices[i] as Choice).states.length;
      if (i === firstFact) tests = undefined;
      if (at[i] !== 0) break;
    }
    if (i === choices.length) return { verdict: 'yes' };
  }
}

/** How many parts a rule has, with the values in its lists. */
function sizeOf(rule: Predicate): number {
  if (rule.op === 'and' || rule.op === 'or') return rule.of.reduce((sum, inner) => sum + sizeOf(inner), 1);
  if (rule.op === 'not') return 1 + sizeOf(rule.of);
  if (rule.op === 'parent') return 1 + sizeOf(rule.where);
  return 'to' in rule && 'value' in rule.to && Array.isArray(rule.to.value) ? 1 + rule.to.value.length : 1;
}

/** The one meaning of a rule, as decisions use it, for one person and request. */
function testOf(rule: Predicate, kind: string, shapes: Shapes, world: World): Test {
  const known: Knowledge = {
    me: world.me,
    context: world.context,
    below: (unit) => entryOf(world.below, unit) ?? [],
    peopleOf: (group) => entryOf(world.people, group) ?? [],
    readable: (to) => (world.readable[to] ? ALWAYS : NEVER),
  };
  return compile(specialise(rule, kind, shapes, known, 'shrink'), kind, shapes);
}

import { entryOf, LintelError } from '../../base/index.js';
import { attributeFromText, type Charter, canonicalJson, readAttribute } from '../../charter/index.js';
import type { Anchor, Assignment, DirectPermission } from '../../standing/index.js';
import type { AdmissionRule, AdmittedAnchor, Claim, Named } from '../terms/index.js';

/** What a provider says of somebody, once it is verified. */
export type Claims = Readonly<Record<string, unknown>>;

/** What somebody is to hold by a source. */
export interface Given {
  readonly roles: readonly Assignment[];
  readonly groups: readonly string[];
  readonly units: readonly string[];
  readonly permissions: readonly DirectPermission[];
  readonly attributes: Readonly<Record<string, unknown>>;
}

export const GIVES_NOTHING: Given = { roles: [], groups: [], units: [], permissions: [], attributes: {} };

/** What rules make of claims. */
export interface Admission {
  /** In the words of the rule whose condition does not hold; absent: they may come in. */
  readonly refused?: { readonly rule: number; readonly words: string };
  /** Nothing where they are refused. */
  readonly gives: Given;
  /** The rules that gave or said something, by their number from 0, and the values by which. */
  readonly spoke: readonly { readonly rule: number; readonly values: readonly string[] }[];
  /** Values, by claim, of which no rule that looks at it knows anything: they give nothing. */
  readonly unknown: readonly { readonly claim: string; readonly values: readonly string[] }[];
  /** What is named and is not there: what comes is refused by it, and never given for more instead. */
  readonly missing: readonly { readonly rule: number; readonly what: 'unit' | 'group' | 'record'; readonly named: string }[];
}

/** What there is in the tenant, as a rule or a claim names it: the id; undefined where there is none, or more than one of that name. */
export interface There {
  readonly unit: (named: string) => string | undefined;
  readonly group: (named: string) => string | undefined;
  readonly record: (kind: string, named: string) => string | undefined;
}

/** So many values one claim has at most, and so long is one. */
const MOST_VALUES = 2000;
const LONGEST = 500;

/** A claim as it is told. */
const nameOf = (claim: Claim) => [claim].flat().join('.');

function found(claims: Claims, claim: Claim): unknown {
  let at: unknown = claims;
  for (const name of [claim].flat())
    at = typeof at === 'object' && at !== null && !Array.isArray(at) ? entryOf(at as Record<string, unknown>, name) : undefined;
  return at;
}

/** The values of a claim as texts; what is no text, number or truth value is none. @throws LintelError `claims-too-large`. */
export function valuesOf(claims: Claims, claim: Claim): string[] {
  const all = [found(claims, claim)].flat(1);
  if (all.length > MOST_VALUES)
    throw new LintelError('claims-too-large', `The claim ${nameOf(claim)} has ${all.length} values; at most ${MOST_VALUES} are read.`, {});
  const texts = all.flatMap((one) => (['string', 'number', 'boolean'].includes(typeof one) ? [String(one)] : []));
  const long = texts.find((one) => one.length > LONGEST);
  if (long !== undefined)
    throw new LintelError('claims-too-large', `A value of the claim ${nameOf(claim)} has ${long.length} characters; at most ${LONGEST} are read.`, {});
  return [...new Set(texts)].filter((one) => one !== '' && !/[\0\p{Cs}]/u.test(one));
}

/** What one rule finds missing, or does not know. */
interface Looking {
  readonly claims: Claims;
  readonly there: There;
  readonly missing: (what: 'unit' | 'group' | 'record', named: string) => void;
  /** These values of a claim are known. */
  readonly knows: (claim: Claim, values: readonly string[]) => void;
}

/** What is named: an id of what is there for each. */
function idsOf(looking: Looking, what: 'unit' | 'group' | 'record', named: Named, look: (named: string) => string | undefined): string[] {
  const values = typeof named === 'string' ? [named] : valuesOf(looking.claims, named.by);
  const meant = values.flatMap((value): string[] => {
    if (typeof named === 'string' || !named.as) return [value];
    const one = entryOf(named.as, value);
    return one === undefined ? [] : [one];
  });
  if (typeof named !== 'string')
    looking.knows(
      named.by,
      values.filter((value) => !named.as || Object.hasOwn(named.as, value)),
    );
  return meant.flatMap((one) => {
    const id = look(one);
    if (id !== undefined) return [id];
    looking.missing(what, one);
    return [];
  });
}

function anchorsOf(looking: Looking, anchor: AdmittedAnchor): Anchor[] {
  if (anchor.on === 'tenant') return [anchor];
  if (anchor.on === 'unit') return idsOf(looking, 'unit', anchor.unitId, looking.there.unit).map((unitId) => ({ on: 'unit', unitId }));
  const { kind } = anchor;
  return idsOf(looking, 'record', anchor.id, (id) => looking.there.record(kind, id)).map((id) => ({ on: 'record', kind, id }));
}

/** The same role at the same place, given twice, leaves out what both leave out. */
function onceEach(roles: readonly Assignment[]): Assignment[] {
  const once = new Map<string, Assignment>();
  for (const { role, anchor, without = [] } of roles) {
    const key = canonicalJson([role, anchor]);
    const other = once.get(key);
    const left = [...new Set(without)].filter((one) => !other || other.without?.includes(one)).sort();
    once.set(key, { role, anchor, ...(left.length > 0 && { without: left }) });
  }
  return [...once.values()].sort((a, b) => (canonicalJson(a) < canonicalJson(b) ? -1 : 1));
}

/**
 * What rules make of the verified claims about somebody. It turns on nothing else: the same rules, claims and tenant give the same.
 *
 * @param rules that {@link checkRules} has found sound.
 * @throws LintelError `claims-too-large`.
 */
export function admit(charter: Charter, rules: readonly AdmissionRule[], claims: Claims, there: There): Admission {
  const roles: Assignment[] = [];
  const permissions = new Map<string, DirectPermission>();
  const [groups, units] = [new Set<string>(), new Set<string>()];
  const attributes: Record<string, unknown> = {};
  const spoke: { rule: number; values: readonly string[] }[] = [];
  const missing = new Map<string, Admission['missing'][number]>();
  const known = new Map<string, { readonly claim: Claim; readonly values: Set<string> }>();
  const knows = (claim: Claim, values: readonly string[]) => {
    const one = known.get(nameOf(claim)) ?? { claim, values: new Set() };
    known.set(nameOf(claim), one);
    for (const value of values) one.values.add(value);
  };
  for (const [rule, one] of rules.entries()) {
    if ('requires' in one) {
      const values = valuesOf(claims, one.requires);
      const right = values.filter((value) => one.is?.includes(value) ?? true);
      knows(one.requires, right);
      if (right.length === 0) return { refused: { rule, words: one.words }, gives: GIVES_NOTHING, spoke: [], unknown: [], missing: [] };
      continue;
    }
    if ('says' in one) {
      const said = attributeOf(charter, one, claims);
      knows(one.by, said.known);
      if (said.value === undefined) continue;
      spoke.push({ rule, values: said.known });
      // The first that says it counts.
      if (!Object.hasOwn(attributes, one.says)) attributes[one.says] = said.value;
      continue;
    }
    const values = one.when === undefined ? [] : valuesOf(claims, one.when).filter((value) => one.is?.includes(value) ?? true);
    if (one.when !== undefined) {
      knows(one.when, values);
      if (values.length === 0) continue;
    }
    spoke.push({ rule, values });
    const looking: Looking = { claims, there, knows, missing: (what, named) => missing.set(canonicalJson([rule, what, named]), { rule, what, named }) };
    const { gives } = one;
    for (const { role, anchor, without } of gives.roles ?? [])
      roles.push(...anchorsOf(looking, anchor).map((at): Assignment => ({ role, anchor: at, ...(without && { without }) })));
    for (const { permission, reach, anchor } of gives.permissions ?? [])
      for (const at of anchorsOf(looking, anchor)) permissions.set(canonicalJson([permission, reach, at]), { permission, reach, anchor: at });
    for (const named of gives.groups ?? []) for (const id of idsOf(looking, 'group', named, there.group)) groups.add(id);
    for (const named of gives.units ?? []) for (const id of idsOf(looking, 'unit', named, there.unit)) units.add(id);
  }
  const unknown = [...known.values()].flatMap(({ claim, values }) => {
    const strange = valuesOf(claims, claim).filter((value) => !values.has(value));
    return strange.length === 0 ? [] : [{ claim: nameOf(claim), values: strange }];
  });
  const gives = {
    roles: onceEach(roles),
    groups: [...groups].sort(),
    units: [...units].sort(),
    permissions: [...permissions.keys()].sort().map((key) => permissions.get(key) as DirectPermission),
    attributes,
  };
  return { gives, spoke, unknown, missing: [...missing.values()] };
}

type Says = Extract<AdmissionRule, { readonly says: string }>;

/** What a claim says of an attribute: nothing where it has more values than the attribute, or one that is of no such type. */
function attributeOf(charter: Charter, { says, by, as }: Says, claims: Claims): { readonly value?: unknown; readonly known: readonly string[] } {
  const data = charter.data.attributes?.[says];
  const values = valuesOf(claims, by);
  if (!data || values.length === 0 || (!data.several && values.length > 1)) return { known: [] };
  const read = values.map((value) => {
    const one = as ? entryOf(as, value) : attributeFromText(data, value);
    return { value, read: readAttribute({ ...data, several: false }, one) };
  });
  const right = read.filter((one) => one.read !== undefined);
  if (right.length === 0) return { known: [] };
  return { value: data.several ? [...new Set(right.map((one) => one.read))].sort() : right[0]?.read, known: right.map(({ value }) => value) };
}

/** What would have to be looked up for these claims: what rules name, and what claims name by them. */
export function lookedUp(charter: Charter, rules: readonly AdmissionRule[], claims: Claims) {
  const [units, groups] = [new Set<string>(), new Set<string>()];
  const records = new Map<string, Set<string>>();
  admit(charter, rules, claims, {
    unit: (named) => void units.add(named),
    group: (named) => void groups.add(named),
    record: (kind, named) => void records.set(kind, (records.get(kind) ?? new Set()).add(named)),
  });
  return { units: [...units], groups: [...groups], records: new Map([...records].map(([kind, ids]) => [kind, [...ids]])) };
}

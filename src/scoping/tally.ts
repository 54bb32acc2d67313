import type { Kysely } from 'kysely';
import { and, type Comparison, type FieldShape, type KindShape, not, ofTenant, type Predicate, type Scalar, type Shapes } from '../predicate/index.js';
import { countRecords } from './count.js';
import { writerFor } from './dialect.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';

/** Predicates that are counted in one pass, each by itself. */
const TOGETHER = 40;
/** Of one kind, so many that have to be counted each by itself are; the others are not. */
const EACH = 400;
/** Of predicates that differ in one value only, so many are worth a way of their own. */
const MANY = 8;

/** Where a rule compares with a constant: on the record, or on a parent some steps away. */
interface Slot {
  readonly path: readonly string[];
  readonly p: Comparison & { readonly to: { readonly value: Scalar | readonly Scalar[] } };
}

function slotsOf(p: Predicate, path: readonly string[] = []): Slot[] {
  if (p.op === 'and' || p.op === 'or') return p.of.flatMap((part) => slotsOf(part, path));
  if (p.op === 'not') return slotsOf(p.of, path);
  if (p.op === 'parent') return slotsOf(p.where, [...path, p.via]);
  return 'to' in p && 'value' in p.to ? [{ path, p: p as Slot['p'] }] : [];
}

/** Puts something in the place of each comparison with a constant. */
function replaced(p: Predicate, by: (slot: Slot) => Predicate, path: readonly string[] = []): Predicate {
  if (p.op === 'and' || p.op === 'or') return { ...p, of: p.of.map((part) => replaced(part, by, path)) };
  if (p.op === 'not') return { ...p, of: replaced(p.of, by, path) };
  if (p.op === 'parent') return { ...p, where: replaced(p.where, by, [...path, p.via]) };
  return 'to' in p && 'value' in p.to ? by({ path, p: p as Slot['p'] }) : p;
}

const shapeOf = (p: Predicate) => JSON.stringify(replaced(p, ({ p: comparison }) => ({ ...comparison, to: { value: '?' } })));

/** Those whose predicates differ in values only, together. */
function bySort<T>(all: readonly T[], of: (one: T) => Predicate): T[][] {
  const sorts = new Map<string, T[]>();
  for (const one of all) {
    const key = shapeOf(of(one));
    const sort = sorts.get(key);
    if (sort) sort.push(one);
    else sorts.set(key, [one]);
  }
  return [...sorts.values()];
}

/** Predicates that are the same but for one value, which one place compares with. */
interface Family {
  readonly place: string;
  readonly path: readonly string[];
  readonly p: Slot['p'];
  /** The rule where the comparison fails, and where it holds. */
  readonly rules: readonly [Predicate, Predicate];
  /** The value of each member, by its place among those asked. */
  readonly values: ReadonlyMap<number, Scalar>;
}

const placeOf = ({ path, p }: Slot) => JSON.stringify([path, p.op, p.field]);

/** @returns undefined where they differ in more than one place, or by lists. */
function familyOf(all: readonly (readonly [number, Predicate])[]): Family | undefined {
  const each = all.map(([i, p]) => [i, slotsOf(p)] as const);
  const [, first] = each[0] as (typeof each)[number];
  const varies = first.map((_, k) => new Set(each.map(([, slots]) => JSON.stringify(slots[k]?.p.to.value))).size > 1);
  const varying = first.filter((_, k) => varies[k]);
  const [slot] = varying;
  if (!slot || (slot.p.op !== 'is' && slot.p.op !== 'includes') || varying.some((one) => placeOf(one) !== placeOf(slot))) return undefined;
  // The same field compared with a value that does not vary: no record can be told apart by one value then.
  if (first.some((one, k) => !varies[k] && placeOf(one) === placeOf(slot))) return undefined;
  const values = new Map<number, Scalar>();
  for (const [i, slots] of each) {
    const own = new Set(slots.filter((_, k) => varies[k]).map(({ p }) => p.to.value));
    const [value] = own;
    if (own.size !== 1 || value === undefined || typeof value === 'object') return undefined;
    values.set(i, value as Scalar);
  }
  const place = placeOf(slot);
  const [, template] = all[0] as readonly [number, Predicate];
  const as = (op: 'always' | 'never') => replaced(template, (one) => (placeOf(one) === place ? { op } : one.p));
  return { place, path: slot.path, p: slot.p, rules: [as('never'), as('always')], values };
}

/** True where equal values look alike: what is kept finer than it is compared cannot be grouped by. */
function isGroupable(shapes: Shapes, kind: string, { path, p }: Family): boolean {
  const at = path.reduce((of, via) => shapes[of]?.fields[via]?.to as string, kind);
  return ['text', 'uuid', 'integer'].includes(shapes[at]?.fields[p.field]?.type ?? '');
}

/** Counts a family in one pass: records by the value that the one place has. */
async function countFamily(db: Kysely<any>, shapes: Shapes, kind: string, tenantId: string, { path, p, rules, values }: Family): Promise<Map<number, number>> {
  const writer = writerFor(db, shapes);
  const shape = shapes[kind] as KindShape;
  const joins: Fragment[] = [];
  let [at, alias] = [shape, 't'];
  for (const [i, via] of path.entries()) {
    const to = shapes[at.fields[via]?.to as string] as KindShape;
    const inner = `p${i}`;
    joins.push(sqlText` left join ${writer.table(to)} as ${name(inner)} on ${writer.parentIs(at, via, alias, inner)}`);
    [at, alias] = [to, inner];
  }
  const field = at.fields[p.field] as FieldShape;
  let value: Fragment;
  if (field.link) {
    const { table, tenant, record, user } = field.link;
    // Somebody who stands there twice is there once.
    const columns = [...(tenant === undefined ? [] : [tenant]), record, user].map((column) => name(column));
    const links = sqlText`(select distinct ${joinFragments(columns, ', ')} from ${name(table)})`;
    joins.push(sqlText` join ${links} as "l" on ${writer.linkIs(at, field.link, alias, 'l')}`);
    value = name('l', user);
  } else value = writer.column(at, p.field, alias);
  const [fails, holds] = rules.map((rule) => sqlText`count(case when ${writer.condition(rule, kind, 't')} then 1 end)`) as [Fragment, Fragment];
  const where = writer.condition(ofTenant(kind, shapes, tenantId), kind, 't');
  const rows =
    await sqlText`select ${value} as "v", ${fails} as "f", ${holds} as "h" from ${writer.table(shape)} as "t"${joinFragments(joins, '')} where ${where} group by ${value}`.rows<{
      v: unknown;
      f: unknown;
      h: unknown;
    }>(db);
  const by = new Map(rows.map((row) => [String(writer.readCell(row.v, field)), Number(row.h) - Number(row.f)]));
  const { counts } = await countRecords(db, shapes, kind, tenantId, [rules[0]]);
  return new Map([...values].map(([i, one]) => [i, (counts[0] as number) + (by.get(String(one)) ?? 0)]));
}

/**
 * Counts, for very many predicates over one kind, how many records of the tenant each reaches. Those that differ in one value only, as the rules of many people do,
 * are counted together in one pass; of others a few hundred are counted, and what is beyond is null: not counted. No record is loaded.
 */
export async function tallyRecords(
  db: Kysely<any>,
  shapes: Shapes,
  kind: string,
  tenantId: string,
  predicates: readonly Predicate[],
): Promise<{ counts: (number | null)[]; total: number }> {
  const texts = predicates.map((p) => JSON.stringify(p));
  const distinct = [...new Map(texts.map((text, i) => [text, predicates[i] as Predicate]))];
  const groups = bySort(
    distinct.map(([, p], i) => [i, p] as const),
    ([, p]) => p,
  );
  const found = new Map<number, number>();
  const alone: (readonly [number, Predicate])[] = [];
  for (const group of groups) {
    const family = group.length > MANY ? familyOf(group) : undefined;
    if (family && isGroupable(shapes, kind, family)) for (const [i, count] of await countFamily(db, shapes, kind, tenantId, family)) found.set(i, count);
    else alone.push(...group);
  }
  let { total } = await countRecords(db, shapes, kind, tenantId, []);
  for (let i = 0; i < Math.min(alone.length, EACH); i += TOGETHER) {
    const part = alone.slice(i, Math.min(i + TOGETHER, EACH));
    const counted = await countRecords(
      db,
      shapes,
      kind,
      tenantId,
      part.map(([, p]) => p),
    );
    total = counted.total;
    for (const [k, [at]] of part.entries()) found.set(at, counted.counts[k] as number);
  }
  const at = new Map(distinct.map(([text], i) => [text, i]));
  return { total, counts: texts.map((text) => found.get(at.get(text) as number) ?? null) };
}

/**
 * Counts the records of the tenant that more than so many of these predicates reach, one of each person. Those of people alike, and those that differ in the value of
 * one field, are weighed together; null where they are too many of too many sorts for that.
 */
export async function countCrowded(
  db: Kysely<any>,
  shapes: Shapes,
  kind: string,
  tenantId: string,
  predicates: readonly Predicate[],
  most: number,
): Promise<number | null> {
  const alike = new Map<string, { readonly p: Predicate; people: number }>();
  for (const p of predicates) {
    const text = JSON.stringify(p);
    const known = alike.get(text);
    if (known) known.people += 1;
    else alike.set(text, { p, people: 1 });
  }
  const weighed: { readonly p: Predicate; readonly people: number }[] = [];
  for (const sort of bySort([...alike.values()], ({ p }) => p)) {
    const family = sort.length > MANY && sort.every(({ people }) => people === 1) ? familyOf(sort.map(({ p }, i) => [i, p] as const)) : undefined;
    const values = family && [...family.values.values()];
    if (!family || !values || family.p.op !== 'is' || family.path.length > 0 || new Set(values).size < values.length) weighed.push(...sort);
    else {
      const [fails, holds] = family.rules;
      // Whoever has the value that stands there, and everybody where the rule holds without.
      weighed.push({ p: fails, people: sort.length }, { p: and(holds, not(fails), { ...family.p, op: 'in', to: { value: values } }), people: 1 });
    }
  }
  if (weighed.length > 2 * TOGETHER) return null;
  const shape = shapes[kind] as KindShape;
  const writer = writerFor(db, shapes);
  const here = writer.condition(ofTenant(kind, shapes, tenantId), kind, 't');
  const weights = weighed.map(({ p, people }) => sqlText`case when ${writer.condition(p, kind, 't')} then ${verbatim(String(people))} else 0 end`);
  if (weights.length === 0) return 0;
  const [row] =
    await sqlText`select count(*) as "n" from ${writer.table(shape)} as "t" where ${here} and ${joinFragments(weights, ' + ')} > ${verbatim(String(most))}`.rows<{
      n: unknown;
    }>(db);
  return Number(row?.n ?? 0);
}

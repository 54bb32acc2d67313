import type { Kysely } from 'kysely';
import { type FieldShape, type KindShape, ofTenant, type Predicate } from '../predicate/index.js';
import type { Standing } from '../standing/index.js';
import type { Boundary } from './boundary.js';
import { writerFor } from './dialect.js';
import type { Choice } from './find.js';
import { joinFragments, name, sqlText } from './fragment.js';

/** Counts, in one pass over a kind's table, how many records of the tenant each of these specialised predicates reaches; no record is loaded. */
export async function countRecords(
  db: Kysely<any>,
  shapes: Standing['charter']['shapes'],
  kind: string,
  tenantId: string,
  predicates: readonly Predicate[],
): Promise<{ counts: number[]; total: number }> {
  const shape = shapes[kind] as KindShape;
  const writer = writerFor(db, shapes);
  const tenant = writer.condition(ofTenant(kind, shapes, tenantId), kind, 't');
  // The same again is asked once, and everything is the total.
  const texts = predicates.map((p) => JSON.stringify(p));
  const asked = [...new Map(texts.map((text, i) => [text, predicates[i] as Predicate]))].filter(([, p]) => p.op !== 'always' && p.op !== 'never');
  const columns = [
    sqlText`count(*) as ${name('total')}`,
    ...asked.map(([, p], i) => sqlText`count(case when ${writer.condition(p, kind, 't')} then 1 end) as ${name(`n${i}`)}`),
  ];
  const [row] = await sqlText`select ${joinFragments(columns, ', ')} from ${writer.table(shape)} as "t" where ${tenant}`.rows<Record<string, unknown>>(db);
  const total = Number(row?.total ?? 0);
  const found = new Map(asked.map(([text], i) => [text, Number(row?.[`n${i}`] ?? 0)]));
  return { total, counts: predicates.map((p, i) => (p.op === 'always' ? total : (found.get(texts[i] as string) ?? 0))) };
}

/** A few records of a tenant that a specialised predicate reaches, by id and label. */
export async function fewRecords(
  db: Kysely<any>,
  charter: Standing['charter'],
  kind: string,
  tenantId: string,
  predicate: Predicate,
  some: number,
): Promise<Choice[]> {
  const shape = charter.shapes[kind] as KindShape;
  const writer = writerFor(db, charter.shapes);
  const column = (field: string) => writer.column(shape, field, 't');
  const tenant = writer.condition(ofTenant(kind, charter.shapes, tenantId), kind, 't');
  return sqlText`select ${column(shape.idField)} as "id", ${column(charter.kind(kind).label)} as "label" from ${writer.table(shape)} as "t" where ${tenant} and ${writer.condition(predicate, kind, 't')} order by 1 limit ${some}`.rows<Choice>(
    db,
  );
}

/** For each pair of predicates a few records on which the two differ, of those that this standing reads, by id and label; all in one statement. */
export async function someRecords(db: Kysely<any>, boundary: Boundary, kind: string, pairs: readonly (readonly [Predicate, Predicate])[]): Promise<Choice[][]> {
  const { writer } = boundary;
  const shape = boundary.shape(kind);
  const { label } = boundary.standing.charter.kind(kind);
  const shown = boundary.visible([label, shape.fields[label] as FieldShape], kind, 't');
  const differ = (p: Predicate, q: Predicate) => sqlText`(${writer.condition(p, kind, 't')} and ${writer.condition(q, kind, 't', false)})`;
  // The same again is asked once.
  const texts = pairs.map((pair) => JSON.stringify(pair));
  const asked = [...new Set(texts)];
  const parts = asked.map((text, i) => {
    const [one, other] = pairs[texts.indexOf(text)] as readonly [Predicate, Predicate];
    return sqlText`select * from (select ${i} as "pair", ${writer.column(shape, shape.idField, 't')} as "id", ${shown} as "label" from ${writer.table(shape)} as "t" where ${boundary.reached(kind, 'read', 't')} and (${differ(one, other)} or ${differ(other, one)}) limit 3) as ${name(`pair${i}`)}`;
  });
  if (parts.length === 0) return [];
  const rows = await joinFragments(parts, ' union all ').rows<Choice & { readonly pair: unknown }>(db);
  return texts.map((text) => rows.filter(({ pair }) => Number(pair) === asked.indexOf(text)).map(({ id, label }) => ({ id, label })));
}

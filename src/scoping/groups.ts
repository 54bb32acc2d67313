import type { Kysely } from 'kysely';
import { and, type KindShape, not, ofTenant, type Predicate } from '../predicate/index.js';
import type { Standing } from '../standing/index.js';
import { fewRecords } from './count.js';
import { writerFor } from './dialect.js';
import type { Choice } from './find.js';
import { joinFragments, name, sqlText } from './fragment.js';

/** Records that the same of some predicates reach. */
export interface RecordGroup {
  /** For each predicate, in their order, whether it reaches these. */
  readonly reaches: readonly boolean[];
  readonly count: number;
  /** A few of them, by id and label. */
  readonly some: readonly Choice[];
}

/**
 * Parts the records of a tenant by which of some specialised predicates reach them: counted by the database in one pass, with a few of each part; those
 * that none reaches are a part too.
 */
export async function groupRecords(
  db: Kysely<any>,
  charter: Standing['charter'],
  kind: string,
  tenantId: string,
  predicates: readonly Predicate[],
  some: number,
): Promise<RecordGroup[]> {
  const shape = charter.shapes[kind] as KindShape;
  const writer = writerFor(db, charter.shapes);
  const tenant = writer.condition(ofTenant(kind, charter.shapes, tenantId), kind, 't');
  const marks = predicates.map((_, i) => name(`r${i}`));
  const marked = predicates.map((p, i) => sqlText`case when ${writer.condition(p, kind, 't')} then 1 else 0 end as ${marks[i]}`);
  const from = sqlText`(select ${joinFragments(marked, ', ')} from ${writer.table(shape)} as "t" where ${tenant}) as "m"`;
  const all = joinFragments(marks, ', ');
  const parts = await sqlText`select ${all}, count(*) as "count" from ${from} group by ${all}`.rows<Record<string, unknown>>(db);
  const groups: RecordGroup[] = [];
  for (const part of parts) {
    const reaches = predicates.map((_, i) => Number(part[`r${i}`]) === 1);
    const here = and(...predicates.map((p, i) => (reaches[i] ? p : not(p))));
    groups.push({ reaches, count: Number(part.count), some: await fewRecords(db, charter, kind, tenantId, here, some) });
  }
  return groups.sort((a, b) => b.count - a.count);
}

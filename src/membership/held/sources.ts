import { type RawBuilder, sql } from 'kysely';

/** Of rows that say the same, by sources: those by which alone it is said; null where somebody in the organisation said it too. */
export const soleSources = (source: string): RawBuilder<string[] | null> =>
  sql`case when bool_and(${sql.ref(source)} <> '') then array_agg(${sql.ref(source)} order by ${sql.ref(source)}) end`;

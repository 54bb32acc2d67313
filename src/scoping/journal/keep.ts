import type { Kysely } from 'kysely';
import type { Charter } from '../../charter/index.js';
import { writerFor } from '../dialect.js';
import { sqlText } from '../fragment.js';
import { imageFields, parsed } from './image.js';

/** Drops what is older than its kind says. @returns how many lines. */
export async function trimJournal(db: Kysely<any>, charter: Charter): Promise<number> {
  const writer = writerFor(db, charter.shapes);
  let dropped = 0;
  for (const [kind, { journal }] of Object.entries(charter.data.kinds)) {
    if (journal?.days === undefined) continue;
    const gone = await sqlText`delete from "lintel_journal" where "kind" = ${kind} and "at" <= ${writer.daysAgo(journal.days)} returning 1`.rows(db);
    dropped += gone.length;
  }
  return dropped;
}

interface Line {
  readonly tenant_id: string;
  readonly number: string | number;
  readonly kind: string;
  readonly record_id: string;
  readonly actor: string | null;
  readonly was: unknown;
  readonly became: unknown;
  readonly erased: unknown;
}

/** Columns of a kind that hold what people write: no ids, no choices. */
function wordsOf(charter: Charter, kind: string): [column: string, field: string][] {
  if (!Object.hasOwn(charter.data.kinds, kind)) return [];
  const { fields } = charter.kind(kind);
  const kept = new Set(imageFields(charter, kind));
  return Object.entries(charter.shapes[kind]?.fields ?? {}).flatMap(([field, { column }]) => {
    const { role, type, options } = fields[field] ?? {};
    return kept.has(field) && role === 'plain' && type === 'text' && !options ? [[column, field] as [string, string]] : [];
  });
}

/**
 * Takes what somebody wrote out of every image of a record, from when they wrote it until it was written over: the chain of what was done stays. What they wrote and stands in a record
 * still is the application's.
 */
export async function eraseFromJournal(db: Kysely<any>, charter: Charter, userId: string): Promise<void> {
  const lines =
    await sqlText`select "j".* from "lintel_journal" as "j" where exists (select 1 from "lintel_journal" as "k" where "k"."tenant_id" = "j"."tenant_id" and "k"."kind" = "j"."kind" and "k"."record_id" = "j"."record_id" and "k"."actor" = ${userId}) order by "j"."tenant_id", "j"."kind", "j"."record_id", "j"."number"`.rows<Line>(
      db,
    );
  const writer = writerFor(db, charter.shapes);
  const theirs = new Map<string, unknown>();
  let at = '';
  for (const line of lines) {
    const key = JSON.stringify([line.tenant_id, line.kind, line.record_id]);
    // guard journal-erases-later-lines (negated) by looks: Words of an erased person would stay in later lines.
    if (key !== at) theirs.clear();
    at = key;
    const [was, became] = [parsed<Record<string, unknown>>(line.was), parsed<Record<string, unknown>>(line.became)];
    const erased = new Set(parsed<string[]>(line.erased) ?? []);
    let isTouched = false;
    for (const [column, field] of wordsOf(charter, line.kind)) {
      const [before, after] = [was?.[column], became?.[column]];
      if (line.actor === userId && became && before !== after) theirs.set(column, after);
      for (const image of [was, became]) {
        if (!image || !theirs.has(column) || image[column] !== theirs.get(column) || image[column] === null) continue;
        image[column] = null;
        erased.add(field);
        isTouched = true;
      }
      if (became && after !== theirs.get(column)) theirs.delete(column);
    }
    if (!isTouched) continue;
    const json = (value: unknown) => writer.json(value ? JSON.stringify(value) : null);
    await sqlText`update "lintel_journal" set "was" = ${json(was)}, "became" = ${json(became)}, "erased" = ${json([...erased])} where "tenant_id" = ${line.tenant_id} and "number" = ${line.number}`.rows(
      db,
    );
  }
}

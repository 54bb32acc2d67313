import type { Kysely } from 'kysely';
import type { Charter } from '../../charter/index.js';
import type { KindShape } from '../../predicate/index.js';
import { writerFor } from '../dialect.js';
import { sqlText } from '../fragment.js';
import { journaledKinds } from './image.js';

/** The kinds of which triggers put down what is written. */
export async function triggeredKinds(db: Kysely<any>, charter: Charter): Promise<string[]> {
  const writer = writerFor(db, charter.shapes);
  if (!writer.writesInside) return [];
  const found: string[] = [];
  for (const kind of journaledKinds(charter)) {
    const [row] = await sqlText`select not (${writer.noTrigger(charter.shapes[kind] as KindShape)}) as "there"`.rows<{ there: boolean }>(db);
    if (row?.there) found.push(kind);
  }
  return found;
}

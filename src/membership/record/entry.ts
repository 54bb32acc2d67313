import type { Kysely, Selectable } from 'kysely';
import { hashOf, randomHex } from '../../base/index.js';
import { canonicalJson } from '../../charter/index.js';
import { type Done, insertMany, type LintelTables } from '../terms/index.js';

/** What is put on record of a change. */
export interface AuditEntry {
  readonly what: string;
  /** Ids and values. No names, no addresses, no free text: those are words. */
  readonly event: Readonly<Record<string, unknown>>;
  readonly words?: Readonly<Record<string, string>>;
}

/** What a step did, as it goes on record: with what was before, and why. */
export function onRecord({ what, event, was, words }: Done, reason?: string): AuditEntry {
  return { what, event: { ...event, ...was }, words: { ...words, ...(reason && { reason }) } };
}

/** The hash of an audit event: over the one before it and all that it says. */
export function auditHash(
  previous: string,
  row: { tenant_id: string; number: number; at: Date; actor: string | null; what: string; event: unknown; commitment: string },
): string {
  return hashOf([`${previous}\n${canonicalJson(row)}`]);
}

/** What binds an event to its words without holding them. */
export function commitmentTo(salt: string, words: unknown): string {
  return hashOf([`${salt}\n${canonicalJson(words)}`]);
}

type Rows<T extends keyof LintelTables> = Partial<Selectable<LintelTables[T]>>[];

/** What events are put on record with. */
interface Ground {
  readonly tx: Kysely<LintelTables>;
  readonly tenantId: string;
  readonly number: number;
  readonly latest: string;
  readonly at: Date;
  readonly actor: { readonly userId?: string };
}

/** Puts events on record, each chained on the one before it; answers the hash of the last. */
async function putOnRecord({ tx, tenantId, number, latest, at, actor }: Ground, entries: readonly AuditEntry[]): Promise<string> {
  const by = actor.userId ?? null;
  const events: Rows<'lintel_audit'> = [];
  const beside: Rows<'lintel_audit_words'> = [];
  let hash = latest;
  for (const { what, event, words = {} } of entries) {
    const previous_hash = hash;
    const nth = number + events.length;
    const salt = randomHex(16);
    const commitment = commitmentTo(salt, words);
    hash = auditHash(previous_hash, { tenant_id: tenantId, number: nth, at, actor: by, what, event, commitment });
    events.push({ number: nth, what, event, commitment, previous_hash, hash });
    beside.push({ number: nth, salt, words });
  }
  await insertMany(tx, 'lintel_audit', events, { tenant_id: tenantId, at, actor: by });
  await insertMany(tx, 'lintel_audit_words', beside, { tenant_id: tenantId });
  return hash;
}

/** Puts a tenant's next events on record, and remembers the last of them as its latest. */
export async function putNext(ground: Ground, entries: readonly AuditEntry[]): Promise<void> {
  const { tx, tenantId, number } = ground;
  const last = { last_number: number + entries.length - 1, last_hash: await putOnRecord(ground, entries) };
  await tx.updateTable('lintel_tenant').set(last).where('id', '=', tenantId).execute();
}

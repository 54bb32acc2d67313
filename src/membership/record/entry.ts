import type { Kysely } from 'kysely';
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
  return hashOf([`${previous}\n${canonicalJson({ ...row, at: row.at.toISOString() })}`]);
}

/** What binds an event to its words without holding them. */
export function commitmentTo(salt: string, words: unknown): string {
  return hashOf([`${salt}\n${canonicalJson(words)}`]);
}

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
  let hash = latest;
  const told = entries.map((entry, i) => {
    const words = entry.words ?? {};
    const salt = randomHex(16);
    const row = {
      tenant_id: tenantId,
      number: number + i,
      at,
      actor: actor.userId ?? null,
      what: entry.what,
      event: JSON.parse(JSON.stringify(entry.event)) as Record<string, unknown>,
      commitment: commitmentTo(salt, words),
    };
    const previous = hash;
    hash = auditHash(previous, row);
    return {
      event: { ...row, previous_hash: previous, hash },
      words: { tenant_id: tenantId, number: row.number, salt, words },
    };
  });
  await insertMany(
    tx,
    'lintel_audit',
    told.map(({ event }) => event),
  );
  await insertMany(
    tx,
    'lintel_audit_words',
    told.map(({ words }) => words),
  );
  return hash;
}

/** Puts a tenant's next events on record, and remembers the last of them as its latest. */
export async function putNext(ground: Ground, entries: readonly AuditEntry[]): Promise<void> {
  const { tx, tenantId, number } = ground;
  const last = { last_number: number + entries.length - 1, last_hash: await putOnRecord(ground, entries) };
  await tx.updateTable('lintel_tenant').set(last).where('id', '=', tenantId).execute();
}

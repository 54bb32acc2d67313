import { type Kysely, sql } from 'kysely';
import type { Standing } from '../../standing/index.js';
import { insistOnPeople, isKnown } from '../held/index.js';
import type { LintelTables, Setting } from '../terms/index.js';
import { auditHash, commitmentTo } from './entry.js';

/** One change that is on record. */
export interface AuditEvent {
  /** Counted within the tenant. Absent for a reader who sees a part of the record, since it would tell how much there is besides. */
  readonly number?: number;
  readonly at: Date;
  /** Who did it, by id; null for somebody who was not signed in. */
  readonly actor: string | null;
  readonly what: string;
  /** Ids and values. */
  readonly event: Readonly<Record<string, unknown>>;
  /** Names, addresses and reasons; null once they were erased. */
  readonly words: Readonly<Record<string, string>> | null;
  readonly hash: string;
}

/** What a look through the chain found. */
export interface AuditVerdict {
  readonly events: number;
  /** Hash of the last event: keep it elsewhere, and a tail that is cut off later shows. */
  readonly head: string;
  /** Events that have no words any more. */
  readonly erased: number;
  /** The first event where the chain does not hold. */
  readonly broken?: {
    readonly number: number;
    readonly why: 'missing' | 'altered' | 'not linked' | 'words altered' | 'words deleted' | 'tail cut' | 'head unknown';
  };
}

const TOGETHER = 500;

/** Events of one tenant, each with its words if it has them still. */
const onRecord = (db: Kysely<LintelTables>, tenantId: string) =>
  db
    .selectFrom('lintel_audit as a')
    .leftJoin('lintel_audit_words as w', (on) => on.onRef('w.tenant_id', '=', 'a.tenant_id').onRef('w.number', '=', 'a.number'))
    .select(['a.number', 'a.at', 'a.actor', 'a.what', 'a.event', 'a.hash', 'w.words'])
    .where('a.tenant_id', '=', tenantId);

/** The first events of one tenant after the one of a number, in their order. */
export async function eventsAfter(db: Kysely<LintelTables>, tenantId: string, number: number, limit: number): Promise<(AuditEvent & { number: number })[]> {
  const rows = await onRecord(db, tenantId).where('a.number', '>', number).orderBy('a.number').limit(limit).execute();
  return rows.map((row) => ({ ...row, number: Number(row.number) }));
}

/** Events of one tenant in their order, read in pieces. `until`: only those that had happened by then. */
async function* eventsOf(db: Kysely<LintelTables>, tenantId: string, until?: Date) {
  for (let after = 0; ; ) {
    const rows = await onRecord(db, tenantId)
      .select(['a.commitment', 'a.previous_hash', 'w.salt'])
      .where('a.number', '>', after)
      .$if(until !== undefined, (qb) => qb.where('a.at', '<=', until as Date))
      .orderBy('a.number')
      .limit(TOGETHER)
      .execute();
    for (const row of rows) yield { ...row, number: Number(row.number) };
    if (rows.length < TOGETHER) return;
    after = Number(rows.at(-1)?.number);
  }
}

/** Whole numbers as spans from the first to the last, to be short on record. */
export function spans(numbers: readonly number[]): [number, number][] {
  const all: [number, number][] = [];
  for (const number of numbers) {
    const last = all.at(-1);
    if (last && last[1] === number - 1) last[1] = number;
    else all.push([number, number]);
  }
  return all;
}

/**
 * Goes through the record of a tenant from its first event: each is hashed anew over the one before it, and compared with its words where they
 * are still there; where they are not, a later event has to say that they were erased. Sees one moment, also while others write; in a transaction of the application's own,
 * as that sees it.
 *
 * @param head a hash that was kept elsewhere: it has to be met on the way, else the tail was cut off or written anew.
 */
export async function verifyAudit(db: Kysely<LintelTables>, tenantId: string, head?: string): Promise<AuditVerdict> {
  if (!db.isTransaction)
    return db
      .transaction()
      .setIsolationLevel('repeatable read')
      .setAccessMode('read only')
      .execute((tx) => verifyAudit(tx, tenantId, head));
  let [events, last, met] = [0, '', head === undefined];
  const without = new Set<number>();
  const verdict = (why?: NonNullable<AuditVerdict['broken']>['why'], number = events + 1): AuditVerdict => ({
    events,
    erased: without.size,
    head: last,
    ...(why && { broken: { number, why } }),
  });
  const toldErased: [number, number][] = [];
  for await (const row of eventsOf(db, tenantId)) {
    const { salt, words, hash, previous_hash, ...told } = row;
    if (row.number !== events + 1) return verdict('missing');
    if (previous_hash !== last) return verdict('not linked');
    if (auditHash(previous_hash, { tenant_id: tenantId, ...told }) !== hash) return verdict('altered');
    if (salt === null) without.add(row.number);
    else if (commitmentTo(salt, words) !== told.commitment) return verdict('words altered');
    if (row.what === 'words erased') toldErased.push(...(row.event as { numbers: [number, number][] }).numbers);
    events += 1;
    last = hash;
    met ||= hash === head;
  }
  const deleted = [...without].find((number) => !toldErased.some(([from, to]) => from <= number && number <= to));
  if (deleted !== undefined) return verdict('words deleted', deleted);
  const tenant = await db.selectFrom('lintel_tenant').select(['last_number', 'last_hash']).where('id', '=', tenantId).executeTakeFirst();
  if (tenant && (Number(tenant.last_number) !== events || tenant.last_hash !== last)) return verdict('tail cut');
  return verdict(met ? undefined : 'head unknown');
}

/** Which events are listed. */
export interface EventsAsked {
  /** `newest`, the default, or `oldest` first. */
  readonly order?: 'newest' | 'oldest';
  /** Only what this person did. Default: whoever. */
  readonly by?: string;
  /** Only what was done to this person. Default: to whomever. */
  readonly about?: string;
  /** Only events of this sort, as `what` calls it: `member suspended`. Default: all. */
  readonly what?: string;
  /** The hash of the last event of the part before. */
  readonly before?: string;
  /** At most 500. Default: 50. */
  readonly limit?: number;
}

/**
 * Events of the tenant, the newest first; for a reader who may know of some people only, what these did, and what was done to them. A page costs the same however many there are, for a
 * reader who may know of all and asks for no sort of event; else the record is gone through until there are enough.
 *
 * @throws LintelError `refused` without the permission to read them.
 */
export async function listAudit(
  setting: Setting,
  standing: Standing,
  { order = 'newest', by, about, what, before, limit = 50 }: EventsAsked = {},
): Promise<AuditEvent[]> {
  const known = insistOnPeople(standing, 'audit.read');
  const tenantId = standing.facts.tenant.id;
  const place = sql`(select b.number from lintel_audit b where b.tenant_id = ${tenantId} and left(b.hash, 12) = left(${before ?? ''}, 12) and b.hash = ${before ?? ''})`;
  const rows = await onRecord(setting.db, tenantId)
    .$if(known !== 'all', (qb) => qb.where((eb) => eb.or([isKnown(known, tenantId, sql.ref('a.actor')), isKnown(known, tenantId, sql`(a.event ->> 'user')`)])))
    .$if(by !== undefined, (qb) => qb.where('a.actor', '=', by as string))
    .$if(about !== undefined, (qb) => qb.where(sql<boolean>`a.event ->> 'user' = ${about}`))
    .$if(what !== undefined, (qb) => qb.where('a.what', '=', what as string))
    .$if(before !== undefined, (qb) => qb.where(order === 'newest' ? sql<boolean>`a.number < ${place}` : sql<boolean>`a.number > ${place}`))
    .orderBy('a.number', order === 'newest' ? 'desc' : 'asc')
    .limit(Math.min(limit, TOGETHER))
    .execute();
  return rows.map(({ number, ...row }): AuditEvent => ({ ...(known === 'all' && { number: Number(number) }), ...row }));
}

/** All events of a tenant as they happened, until some moment if one is given, one at a time: a long record is never held whole. */
export async function* exportAudit(db: Kysely<LintelTables>, tenantId: string, until?: Date): AsyncGenerator<AuditEvent> {
  for await (const { number, at, actor, what, event, words, hash } of eventsOf(db, tenantId, until)) yield { number, at, actor, what, event, words, hash };
}

import { type Kysely, type Selectable, sql, type Transaction } from 'kysely';
import { hashOf, LintelError, randomHex } from '../base/index.js';
import { type Charter, canonicalJson, KEYHOLDER, type RoleData, roleNow } from '../charter/index.js';
import { type Anchor, Standing, throwIfRefused } from '../standing/index.js';
import { type FactsQuery, readFacts } from './facts.js';
import { mayGive } from './giving.js';
import type { PersonMaker } from './ids.js';
import type { Handed } from './step.js';
import type { JoiningRow, LintelTables } from './tables.js';

/** What the rules of change take from outside. */
export interface Setting {
  readonly db: Kysely<LintelTables>;
  readonly charter: Charter;
  /** Milliseconds since 1970. */
  readonly now: () => number;
  /** How long an invitation can be accepted, in days. */
  readonly invitationDays: number;
  /** Messages that may be sent in 24 hours: by one tenant, and to one address by whatever tenants. */
  readonly sending: { readonly byTenant: number; readonly toAddress: number };
  /** True if messages can be sent; without, an invitation gives its link to hand over. */
  readonly hasMailer: boolean;
  /** Obligations that the person who acts has met. */
  readonly fulfilled: readonly string[];
  /** Makes somebody where the application keeps its people itself. */
  readonly newPerson?: PersonMaker;
  /** The tenant that is the platform, if there is one. */
  readonly platform?: string;
  /** Gives what one member owns of a kind to another, by the rules of scope; absent where the records are in another database. */
  readonly handOver?: (tx: Kysely<any>, kind: string, from: string, to: string) => Promise<Pick<Handed, 'handed' | 'left'>>;
}

/** A change of one tenant's membership in progress: the tenant's row is locked, the actor's standing was read afresh. */
export interface Change {
  readonly tx: Transaction<LintelTables>;
  readonly setting: Setting;
  readonly tenantId: string;
  /** Number of its first event within the tenant. */
  readonly number: number;
  /** The mark of the latest change before it. */
  readonly latest: string;
  readonly at: Date;
  readonly actor: Standing;
  readonly rules: Rules;
}

/** What a tenant has set for itself. */
export interface Rules {
  readonly oneRole: boolean;
  readonly joining: Partial<JoiningRow>;
  readonly bases: Readonly<Record<string, string>>;
}

/** What is put on record of a change. */
export interface AuditEntry {
  readonly what: string;
  /** Ids and values. No names, no addresses, no free text: those are words. */
  readonly event: Readonly<Record<string, unknown>>;
  readonly words?: Readonly<Record<string, string>>;
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

/** Puts events on record, each chained on the one before it; answers the hash of the last. */
async function putOnRecord({ tx, tenantId, number, latest, at, actor }: Change, entries: readonly AuditEntry[]): Promise<string> {
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

/** Rows that name the same columns, by one statement whose text does not depend on how many they are. Columns of JSON take what they hold. */
export async function insertMany<T extends keyof LintelTables>(
  tx: Kysely<LintelTables>,
  table: T,
  rows: readonly Partial<Selectable<LintelTables[T]>>[],
): Promise<void> {
  if (rows.length === 0) return;
  const columns = sql.join(Object.keys(rows[0] as object).map((column) => sql.ref(column)));
  await sql`insert into ${sql.table(table)} (${columns}) select ${columns} from json_populate_recordset(null::${sql.table(table)}, ${JSON.stringify(rows)})`.execute(
    tx,
  );
}

export interface ChangeOptions {
  /** The mark of the latest change that the actor has seen, where it has to be the latest still. */
  readonly seen?: string | undefined;
  /** Also in a tenant that is closed. */
  readonly evenClosed?: boolean;
}

/**
 * Runs one change of a tenant's membership as one transaction: locks the tenant's row and takes its next numbers, reads the
 * actor's standing afresh (undefined: somebody who is not signed in), does the work, and puts it on record. Two changes of one tenant therefore never run side by side.
 *
 * @throws LintelError `not-found` when the tenant is closed or unknown; `changed-meanwhile`.
 */
export async function changeTenant<R>(
  setting: Setting,
  tenantId: string,
  actorId: string | undefined,
  work: (change: Change) => Promise<{ result: R; entry: AuditEntry | readonly AuditEntry[] }>,
  { seen, evenClosed = false }: ChangeOptions = {},
): Promise<R> {
  return inTransaction(setting.db, async (tx) => {
    const tenant = await tx
      .selectFrom('lintel_tenant')
      .select(['last_number', 'last_hash', 'one_role', 'joining', 'bases'])
      .where('id', '=', tenantId)
      .$if(!evenClosed, (qb) => qb.where('status', '=', 'open'))
      .forUpdate()
      .executeTakeFirst();
    if (!tenant) throw new LintelError('not-found', 'There is no such page.', {});
    const actor = await standingInTenant(tx, setting, { tenant: tenantId, user: actorId, fulfilled: setting.fulfilled });
    const number = Number(tenant.last_number) + 1;
    if (seen !== undefined && seen !== tenant.last_hash)
      throw new LintelError('changed-meanwhile', 'Something was changed here since you looked. Look again, and decide anew.', { latest: tenant.last_hash });
    const change: Change = {
      tx,
      setting,
      tenantId,
      number,
      latest: tenant.last_hash,
      at: new Date(setting.now()),
      actor,
      rules: { oneRole: tenant.one_role, joining: tenant.joining, bases: tenant.bases },
    };
    const { result, entry } = await work(change);
    const entries = [entry].flat();
    if (entries.length === 0) return result;
    const hash = await putOnRecord(change, entries);
    await tx
      .updateTable('lintel_tenant')
      .set({ last_number: number + entries.length - 1, last_hash: hash })
      .where('id', '=', tenantId)
      .execute();
    return result;
  });
}

/** A standing that knows every role of the tenant's own, as somebody needs who gives them. */
export async function standingInTenant(db: Kysely<LintelTables>, setting: Setting, who: Omit<FactsQuery, 'now'>): Promise<Standing> {
  const facts = await readFacts(db, setting.charter, { ...who, now: setting.now() });
  return new Standing(setting.charter, { ...facts, roles: await ownRoles(db, setting.charter, who.tenant) }, { now: setting.now });
}

/** The roles of the tenant's own. */
export async function ownRoles(db: Kysely<LintelTables>, charter: Charter, tenantId: string): Promise<Record<string, RoleData>> {
  const rows = await db.selectFrom('lintel_role').select(['id', 'data']).where('tenant_id', '=', tenantId).orderBy('id').execute();
  return Object.fromEntries(rows.map((row) => [row.id, roleNow(charter, row.data)]));
}

/** In the application's own transaction if that is what we were given, else in one of ours. */
export function inTransaction<R>(db: Kysely<LintelTables>, work: (tx: Transaction<LintelTables>) => Promise<R>): Promise<R> {
  return db.isTransaction ? work(db as Transaction<LintelTables>) : db.transaction().execute(work);
}

/** Does work in a transaction, as {@link inTransaction}, and takes back whatever it has written: only its result is left. */
export function takenBack<R>(db: Kysely<LintelTables>, work: (tx: Transaction<LintelTables>) => Promise<R>): Promise<R> {
  return inTransaction(db, async (tx) => {
    await sql`savepoint lintel_taken_back`.execute(tx);
    try {
      return await work(tx);
    } finally {
      await sql`rollback to savepoint lintel_taken_back`.execute(tx);
      await sql`release savepoint lintel_taken_back`.execute(tx);
    }
  });
}

/** Works on each of several by itself, all from one state of the tenant, and takes back whatever that has written: only the results are left. */
export async function eachTakenBack<A, R>(
  setting: Setting,
  tenantId: string,
  actorId: string,
  many: readonly A[],
  work: (change: Change, one: A) => Promise<R>,
): Promise<R[]> {
  if (many.length === 0) return [];
  return changeTenant(setting, tenantId, actorId, async (change) => {
    const result: R[] = [];
    for (const one of many) result.push(await takenBack(change.tx, (tx) => work({ ...change, tx }, one)));
    return { result, entry: [] };
  });
}

/** Asks the actor's standing for an operation of the library. */
export function insistOn(change: Change, operation: string): void {
  throwIfRefused(change.actor.decide(operation));
}

/** Puts on record that somebody goes past the scope. @throws LintelError `bad-reason` for none. */
export async function recordDoor(setting: Setting, tenantId: string, actorId: string, name: string, reason: string): Promise<void> {
  if (name.trim() === '' || reason.trim() === '') throw new LintelError('bad-reason', 'to go past the scope takes a name and a reason, for the record', {});
  await changeTenant(setting, tenantId, actorId, async () => ({
    result: undefined,
    entry: { what: 'scope passed', event: { door: name }, words: { reason } },
  }));
}

/** A role that somebody may give, with its words. */
export interface RoleToGive {
  readonly role: string;
  readonly label: string;
  readonly sentence?: string;
}

/** The roles that this person may give at an anchor: a list that is short and exact. */
export async function rolesToGive(setting: Setting, standing: Standing<any>, anchor: Anchor): Promise<RoleToGive[]> {
  if (standing.facts.view) return [];
  const giver = await standingInTenant(setting.db, setting, { tenant: standing.facts.tenant.id, user: standing.userId, fulfilled: standing.facts.fulfilled });
  const all = [...Object.keys(giver.charter.data.roles), KEYHOLDER].filter((role) => mayGive(giver, { role, anchor }));
  return all.map((role) => {
    const { label, sentence } = giver.charter.role(role);
    return { role, label, ...(sentence !== undefined && { sentence }) };
  });
}

/** A mark of the latest change of a tenant's membership. It tells nothing of how many there were. */
export async function latestChange(db: Kysely<LintelTables>, tenantId: string): Promise<string> {
  const row = await db.selectFrom('lintel_tenant').select('last_hash').where('id', '=', tenantId).executeTakeFirst();
  return row?.last_hash ?? '';
}

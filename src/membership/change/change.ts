import type { Kysely, Transaction } from 'kysely';
import { inTransaction, LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { charterOf, type Demands, Standing, throwIfRefused } from '../../standing/index.js';
import { type Giver, giverInTenant, type Holding, readCourses } from '../held/index.js';
import { type AuditEntry, putNext } from '../record/index.js';
import { type JoiningRow, type LintelTables, lockTenants, type Setting, takenBack } from '../terms/index.js';
import { insistOnKeyholder } from './always.js';

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
  /** The actor over time: nobody gives for longer than they hold. */
  readonly giver: Giver;
  readonly rules: Rules;
  /** Who has left by it, and whom records elsewhere still name. */
  readonly left: string[];
}

/** What a tenant has set for itself. */
export interface Rules {
  readonly oneRole: boolean;
  readonly joining: Partial<JoiningRow>;
  readonly bases: Readonly<Record<string, string>>;
  readonly demands: Demands;
}

export interface ChangeOptions {
  /** The mark of the latest change that the actor has seen, where it has to be the latest still. */
  readonly seen?: string | undefined;
  /** Also in a tenant that is closed. */
  readonly evenClosed?: boolean;
}

/** How often something was put on record, by transaction: by it a change notices another one of the same tenant within it. */
const recorded = new WeakMap<object, number>();

async function nextOf(tx: Transaction<LintelTables>, tenantId: string): Promise<Pick<Change, 'number' | 'latest'>> {
  const row = await tx.selectFrom('lintel_tenant').select(['last_number', 'last_hash']).where('id', '=', tenantId).executeTakeFirstOrThrow();
  return { number: Number(row.last_number) + 1, latest: row.last_hash };
}

/** Whoever acts. What they may give is theirs; what is asked of them in a trial is asked of whoever looks too. */
export function actorOf({ tried, charter, now }: Setting, { now: own }: Giver): Standing {
  // guard trial-within-looker by looks: A trial would reach what the looker alone does not.
  return tried !== undefined && tried.user === own.userId
    ? /* guard trial-within-looker */ new Standing(charter, { ...own.facts, look: tried.look }, { now })
    : own;
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
  const left: string[] = [];
  const done = await inTransaction(setting.db, async (tx) => {
    left.length = 0;
    const [tenant] = await lockTenants(tx, [tenantId]);
    if (!tenant || (tenant.status !== 'open' && !evenClosed)) throw new LintelError('not-found', 'There is no such page.', {});
    const giver = await giverInTenant(tx, setting, { tenant: tenantId, user: actorId, fulfilled: setting.fulfilled });
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
      actor: actorOf(setting, giver),
      giver,
      rules: { oneRole: tenant.one_role, joining: tenant.joining, bases: tenant.bases, demands: tenant.demands },
      left,
    };
    const before = recorded.get(tx) ?? 0;
    const { result, entry } = await work(change);
    const entries = [entry].flat();
    if (entries.length === 0) return result;
    // guard keyholder-remains by races: Two at once could leave a tenant without a keyholder.
    await insistOnKeyholder(change);
    const isNext = (recorded.get(tx) ?? 0) === before;
    // guard next-number-in-order by races: A change within a change would take the same number.
    await putNext(isNext ? change : /* guard next-number-in-order */ { ...change, ...(await nextOf(tx, tenantId)) }, entries);
    recorded.set(tx, (recorded.get(tx) ?? 0) + 1);
    return result;
  });
  // It holds, unless it is a part of something larger.
  if (left.length > 0 && !setting.db.isTransaction) await setting.afterLeaving?.();
  return done;
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

/** What members hold from the moment of a change on, each with the charter as it stands in their tenant. Who is no member is left out. */
export async function heldBy({ tx, tenantId, setting: { charter }, at }: Change, users: readonly string[]): Promise<Map<string, Holding>> {
  if (users.length === 0) return new Map();
  const now = at.getTime();
  const courses = await readCourses(tx, charter, tenantId, users, now);
  // One view of the charter for all who hold the same roles of the tenant's own.
  const views = new Map<string, Charter>();
  return new Map(
    [...courses].map(([id, course]) => {
      const facts = course.at(now);
      const key = JSON.stringify(facts.roles ?? null);
      const view = views.get(key) ?? (charterOf(charter, facts) as Charter);
      views.set(key, view);
      return [id, { charter: view, course }];
    }),
  );
}

/** Asks the actor's standing for an operation of the library. */
export function insistOn({ actor }: Pick<Change, 'actor'>, operation: string): void {
  throwIfRefused(actor.decide(operation));
}

/** Puts on record that somebody goes past the scope. @throws LintelError `bad-reason` for none; `not-found` for somebody who is no member any more. */
export async function recordDoor(setting: Setting, tenantId: string, actorId: string, name: string, reason: string): Promise<void> {
  if (name.trim() === '' || reason.trim() === '') throw new LintelError('bad-reason', 'to go past the scope takes a name and a reason, for the record', {});
  await changeTenant(setting, tenantId, actorId, async ({ actor }) => {
    if (actor.facts.subject !== 'member') throw new LintelError('not-found', 'There is no such page.', {});
    return { result: undefined, entry: { what: 'scope passed', event: { door: name }, words: { reason } } };
  });
}

/** A mark of the latest change of a tenant's membership. It tells nothing of how many there were. */
export async function latestChange(db: Kysely<LintelTables>, tenantId: string): Promise<string> {
  const row = await db.selectFrom('lintel_tenant').select('last_hash').where('id', '=', tenantId).executeTakeFirst();
  return row?.last_hash ?? '';
}

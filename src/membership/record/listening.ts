import { type Kysely, sql } from 'kysely';
import type { LintelTables, Setting } from '../terms/index.js';
import { type AuditEvent, eventsAfter } from './audit.js';

/** Something that changed in the membership of a tenant, as it is on its record. */
export type MembershipEvent = AuditEvent & { readonly tenantId: string; readonly number: number };

/** Tries before an event is put aside, about four hours in all. */
const MAX_TRIES = 10;
/** A tenant whose events somebody has taken up is left to them for so many seconds after the last that was passed on. */
const LEASE = 120;
const TENANTS = 20;
const TOGETHER = 100;

interface Taken {
  tenant_id: string;
  number: string | number;
  tries: number;
}

/** Takes up tenants with events that the listener was not told of, so that nobody else does. */
async function takeUp(db: Kysely<LintelTables>, name: string, now: number): Promise<Taken[]> {
  const [at, until] = [new Date(now), new Date(now + LEASE * 1000)];
  await sql`insert into lintel_listener (tenant_id, name, next_at) select t.id, ${name}, ${at} from lintel_tenant t
    where not exists (select 1 from lintel_listener l where l.tenant_id = t.id and l.name = ${name}) on conflict do nothing`.execute(db);
  const { rows } = await sql<Taken>`update lintel_listener set next_at = ${until} where (tenant_id, name) in (
      select l.tenant_id, l.name from lintel_listener l join lintel_tenant t on t.id = l.tenant_id
      where l.name = ${name} and l.number < t.last_number and l.next_at <= ${at} order by l.next_at limit ${TENANTS} for update of l skip locked)
    returning tenant_id, number, tries`.execute(db);
  return rows;
}

/**
 * Passes on to one listener, by its name, what changed in every tenant since it was told last: within a tenant in order, and each at least once. What
 * the listener throws at is tried again later, and what comes after it waits; after ten tries it is put aside in `lintel_unheard`, and the next follows.
 *
 * @returns how many were passed on, and how many failed.
 */
export async function passOn(
  setting: Setting,
  name: string,
  listener: (event: MembershipEvent) => Promise<void> | void,
): Promise<{ passed: number; failed: number }> {
  const { db, now } = setting;
  const count = { passed: 0, failed: 0 };
  for (let batch = await takeUp(db, name, now()); batch.length > 0; batch = await takeUp(db, name, now())) {
    for (const taken of batch) {
      const mine = db.updateTable('lintel_listener').where('tenant_id', '=', taken.tenant_id).where('name', '=', name);
      let { tries } = taken;
      let wait = 0;
      for (const told of await eventsAfter(db, taken.tenant_id, Number(taken.number), TOGETHER)) {
        const event: MembershipEvent = { ...told, tenantId: taken.tenant_id };
        try {
          await listener(event);
          await mine.set({ number: event.number, tries: 0, next_at: new Date(now() + LEASE * 1000) }).execute();
          tries = 0;
          count.passed += 1;
        } catch (error) {
          tries += 1;
          count.failed += 1;
          if (tries < MAX_TRIES) {
            wait = 2 ** tries * 15_000;
            break;
          }
          const aside = { tenant_id: event.tenantId, name, number: event.number, error: String(error).slice(0, 500), at: new Date(now()) };
          await db
            .insertInto('lintel_unheard')
            .values(aside)
            .onConflict((c) => c.doNothing())
            .execute();
          await mine.set({ number: event.number, tries: 0 }).execute();
          tries = 0;
        }
      }
      await mine.set({ tries, next_at: new Date(now() + wait) }).execute();
    }
  }
  return count;
}

import { type Kysely, sql } from 'kysely';
import type { LintelTables } from '../membership/index.js';

const HOUR = 3_600_000;
/** So many sign-in sessions are remembered; then it begins anew. */
const REMEMBERED = 10_000;

/** Notes when somebody last came into a tenant, at most once an hour for one session. */
export class Entered {
  readonly #noted = new Map<string, number>();

  async note(db: Kysely<LintelTables>, session: string, { tenant, user }: { readonly tenant: string; readonly user: string }, now: number): Promise<void> {
    const key = JSON.stringify([session, tenant]);
    if ((this.#noted.get(key) ?? Number.NEGATIVE_INFINITY) > now - HOUR) return;
    if (this.#noted.size >= REMEMBERED) this.#noted.clear();
    this.#noted.set(key, now);
    const at = new Date(now);
    await sql`insert into lintel_entered (tenant_id, user_id, at) values (${tenant}, ${user}, ${at})
      on conflict (tenant_id, user_id) do update set at = excluded.at where lintel_entered.at < excluded.at`.execute(db);
  }
}

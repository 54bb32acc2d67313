import type { Kysely } from 'kysely';
import type { LintelTables } from '../membership/index.js';

/** A copy of the records that is read from, and how far it may be behind. */
export interface ReadsFrom {
  /** A Kysely over it. */
  readonly db: Kysely<any>;
  /** It has all that was written so many seconds ago. */
  readonly behind: number;
}

interface Who {
  readonly tenant: string;
  readonly user: string;
}

/** Who has written lately: for them the copies may be behind. It stands in the membership, so that it counts for whichever process they come to next. */
export class Wrote {
  readonly #db: Kysely<LintelTables>;
  readonly #now: () => number;

  constructor(db: Kysely<LintelTables>, now: () => number) {
    this.#db = db;
    this.#now = now;
  }

  async note({ tenant, user }: Who): Promise<void> {
    const at = new Date(this.#now());
    await this.#db
      .insertInto('lintel_wrote')
      .values({ tenant_id: tenant, user_id: user, at })
      .onConflict((c) => c.columns(['tenant_id', 'user_id']).doUpdateSet({ at }))
      .execute();
  }

  /** True where a copy that is so many seconds behind may lack what they wrote. */
  async isRecent({ tenant, user }: Who, seconds: number): Promise<boolean> {
    const row = await this.#db.selectFrom('lintel_wrote').select('at').where('tenant_id', '=', tenant).where('user_id', '=', user).executeTakeFirst();
    return row !== undefined && new Date(row.at).getTime() + seconds * 1000 >= this.#now();
  }
}

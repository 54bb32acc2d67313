import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import type { LintelTables } from '../membership/index.js';

/** Where records are: in one database for all tenants, or in several places of which each tenant has named one. */
export class Places {
  readonly #membership: Kysely<LintelTables>;
  readonly #only: Kysely<any> | undefined;
  readonly #named: ReadonlyMap<string, Kysely<any>>;
  /** Of each tenant that was asked for: a tenant's place is for good. */
  readonly #known = new Map<string, string>();
  readonly #unprepared: Set<string>;

  constructor(membership: Kysely<LintelTables>, records: Kysely<any> | ReadonlyMap<string, Kysely<any>>, unprepared: Set<string>) {
    this.#unprepared = unprepared;
    this.#membership = membership;
    this.#only = records instanceof Map ? undefined : (records as Kysely<any>);
    this.#named = records instanceof Map ? records : new Map([['', records as Kysely<any>]]);
  }

  /** The one database of all, if there is one. */
  get only(): Kysely<any> | undefined {
    return this.#only;
  }

  /** By name, which is empty for the only one. */
  get all(): ReadonlyMap<string, Kysely<any>> {
    return this.#named;
  }

  /** Does something in each that is there. Answers the names of those that cannot be reached: what is kept there is an error from here on, until it was done in them. */
  async prepare(work: (db: Kysely<any>) => Promise<void>): Promise<string[]> {
    for (const [name, db] of this.#named) {
      this.#unprepared.add(name);
      await work(db).then(
        () => this.#unprepared.delete(name),
        (error: unknown) => {
          if (this.#only || !isAway(error)) throw error;
        },
      );
    }
    return [...this.#unprepared];
  }

  /** The name of a tenant's place; empty where it has named none. */
  async nameOf(tenantId: string): Promise<string> {
    const known = this.#known.get(tenantId);
    if (known !== undefined) return known;
    const row = await this.#membership.selectFrom('lintel_tenant').select('place').where('id', '=', tenantId).executeTakeFirst();
    if (row?.place) this.#known.set(tenantId, row.place);
    return row?.place ?? '';
  }

  /** How the records of a tenant are come by. @throws nothing: what it answers does. */
  async of(tenantId: string): Promise<() => Kysely<any>> {
    const only = this.#only;
    if (only) return () => only;
    const name = await this.nameOf(tenantId);
    return () => this.#at(name, tenantId);
  }

  #at(name: string, tenantId: string): Kysely<any> {
    const db = this.#named.get(name);
    if (!db) {
      const words =
        name === '' ? 'has named no place for its records; say it once with placeTenant' : `has its records in "${name}", which is none of the places`;
      throw new LintelError('no-place', `the organisation "${tenantId}" ${words}`, { tenantId });
    }
    if (this.#unprepared.has(name)) throw placeAway(name);
    return db;
  }
}

export const placeAway = (name: string, cause?: unknown) =>
  new LintelError(
    'place-away',
    `The records of this organisation, in "${name}", cannot be reached now. What is kept elsewhere can.`,
    { place: name },
    { cause },
  );

/** A database, or the way to it, is not there: codes of the network, SQLSTATE classes 08 and 57P, and those of this library. */
const AWAY = /^(ECONNREFUSED|ECONNRESET|ENOTFOUND|EHOSTUNREACH|ETIMEDOUT|EPIPE|PROTOCOL_CONNECTION_LOST|08...|57P0[1-5]|place-away|database-away|no-place)$/;

/** True of an error by which records of one place cannot be had now, whatever is kept elsewhere. */
export const isAway = (error: unknown): boolean => AWAY.test(String((error as { code?: unknown } | null)?.code));

import type { Kysely } from 'kysely';
import type { CharterTypes } from '../charter/index.js';
import { type Id, spelled } from '../membership/index.js';
import { Boundary, type FindOptions, find, ScopedDb, SeveralBoundaries, writerFor } from '../scoping/index.js';
import type { RecordOf, Standing } from '../standing/index.js';
import { found } from './loaded.js';
import type { ServerStanding } from './server-standing.js';
import type { Workplace } from './workplace.js';

/** One person in several tenants, for reading: what `enterAll` gives. */
export class SeveralStandings<T extends CharterTypes = CharterTypes> {
  readonly standings: readonly ServerStanding<T>[];
  readonly #place: Workplace;

  constructor(standings: readonly ServerStanding<T>[], place: Workplace) {
    this.standings = standings;
    this.#place = place;
  }

  /** The standing in one of the tenants: to decide about a row, or to write. Undefined for another tenant. */
  in(tenant: Id): ServerStanding<T> | undefined {
    const id = spelled(this.#place.setting.charter, 'tenant', tenant);
    return this.standings.find((standing) => standing.facts.tenant.id === id);
  }

  /** Records of a kind out of all the tenants, each by its own tenant's rule. */
  async find<N extends keyof T['fields'] & string>(kind: N, options?: FindOptions): Promise<RecordOf<T, N>[]> {
    if (this.standings.length === 0) return [];
    return found(await find(this.#place.db, this.#boundary(this.#place.db), kind, options)) as RecordOf<T, N>[];
  }

  /** The application's Kysely narrowed to what may be read in any of the tenants. A write through it is refused: it has to name its tenant. */
  scope<DB>(db?: Kysely<DB>): Pick<ScopedDb<DB>, 'selectFrom' | 'with' | 'withRecursive'> {
    const over = db ?? (this.#place.db as Kysely<DB>);
    return new ScopedDb<DB>(over, this.#boundary(over));
  }

  #boundary(db: Kysely<any>): Boundary {
    const writer = writerFor(db, this.#place.setting.charter.shapes);
    const each = this.standings.map((standing) => new Boundary(standing as unknown as Standing, this.#place.support(standing.facts.tenant.id, db), writer));
    return new SeveralBoundaries(each);
  }
}

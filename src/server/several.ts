import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import { type Id, spelled } from '../membership/index.js';
import type { KindShape, RecordData } from '../predicate/index.js';
import { Boundary, type FindOptions, find, merged, ScopedDb, SeveralBoundaries, writerFor } from '../scoping/index.js';
import type { RecordOf, Standing } from '../standing/index.js';
import { found } from './loaded.js';
import { isAway } from './places.js';
import type { ServerStanding } from './server-standing.js';
import type { Workplace } from './workplace.js';

/** Some of the standings, whose records are in one database. */
type Together<T extends CharterTypes> = readonly [db: Kysely<any>, standings: readonly ServerStanding<T>[]];

/** One person in several tenants, for reading: what `enterAll` gives. */
export class SeveralStandings<T extends CharterTypes = CharterTypes> {
  readonly standings: readonly ServerStanding<T>[];
  readonly #work: Omit<Workplace, 'db'>;
  readonly #records: ReadonlyMap<string, () => Kysely<any>>;

  /** @param records where those of each tenant are. */
  constructor(standings: readonly ServerStanding<T>[], work: Omit<Workplace, 'db'>, records: ReadonlyMap<string, () => Kysely<any>>) {
    this.standings = standings;
    this.#work = work;
    this.#records = records;
  }

  /** The standing in one of the tenants: to decide about a row, or to write. Undefined for another tenant. */
  in(tenant: Id): ServerStanding<T> | undefined {
    const id = spelled(this.#work.setting.charter, 'tenant', tenant);
    return this.standings.find((standing) => standing.facts.tenant.id === id);
  }

  /**
   * Records of a kind out of all the tenants, each by its own tenant's rule. Out of several places they come in the order of values that all databases have, text by code point.
   *
   * @param options `away`: told of the tenants whose records cannot be reached now, and those of the others are given; without it that is an error.
   * @throws LintelError `place-away`.
   */
  async find<N extends keyof T['fields'] & string>(
    kind: N,
    { away, ...options }: FindOptions & { readonly away?: (tenants: readonly string[]) => void } = {},
  ): Promise<RecordOf<T, N>[]> {
    const missing: string[] = [];
    const missed = (standings: readonly ServerStanding<T>[]) => missing.push(...standings.map(({ facts }) => facts.tenant.id));
    const places = this.#places((standing) => missed([standing]));
    const [only] = places;
    const inEach = async ([db, standings]: Together<T>): Promise<RecordData[]> => {
      try {
        return await find(db, this.#boundary(db, standings), kind, options, places.length > 1);
      } catch (error) {
        if (!isAway(error)) throw error;
        missed(standings);
        return [];
      }
    };
    const lists = await Promise.all(places.map(inEach));
    if (missing.length > 0) {
      if (!away) throw new LintelError('place-away', `The records of ${missing.join(', ')} cannot be reached now.`, { tenants: missing });
      away(missing);
    }
    if (!only) return [];
    const { shapes } = this.#work.setting.charter;
    return found(places.length > 1 ? merged(shapes[kind] as KindShape, lists, options) : (lists[0] as RecordData[])) as RecordOf<T, N>[];
  }

  /**
   * The application's Kysely narrowed to what may be read in any of the tenants. A write through it is refused: it has to name its tenant.
   *
   * @throws LintelError `several-places` where their records are in more than one database.
   */
  scope<DB>(db?: Kysely<DB>): Pick<ScopedDb<DB>, 'selectFrom' | 'with' | 'withRecursive'> {
    if (db !== undefined) return new ScopedDb<DB>(db, this.#boundary(db, this.standings));
    const places = this.#places();
    const [[over] = [], another] = [places[0], places[1]];
    if (another) throw new LintelError('several-places', 'these tenants have their records in several places; use find, or the scope of each', {});
    if (!over) throw new LintelError('no-tenant', 'there is no tenant to read in; name at least one', {});
    return new ScopedDb<DB>(over, this.#boundary(over, this.standings));
  }

  /** The standings by the database of their records. @param away told of those who have none. */
  #places(away?: (standing: ServerStanding<T>) => void): Together<T>[] {
    const by = new Map<Kysely<any>, ServerStanding<T>[]>();
    for (const standing of this.standings) {
      try {
        const db = (this.#records.get(standing.facts.tenant.id) as () => Kysely<any>)();
        by.set(db, [...(by.get(db) ?? []), standing]);
      } catch (error) {
        if (!away || !isAway(error)) throw error;
        away(standing);
      }
    }
    return [...by];
  }

  #boundary(db: Kysely<any>, standings: readonly ServerStanding<T>[]): Boundary {
    const writer = writerFor(db, this.#work.setting.charter.shapes);
    const each = standings.map((standing) => new Boundary(standing as unknown as Standing, this.#work.support(standing.facts.tenant.id, db), writer));
    return new SeveralBoundaries(each);
  }
}

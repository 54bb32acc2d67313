import { type MariaDb, startMariaDb } from '../../test/mariadb.js';
import { type Cluster, startPostgres } from '../../test/setup.js';

/** Database servers, each started when it is first asked for. */
export class Servers {
  readonly #given: string | undefined;
  #postgres: Promise<Cluster> | undefined;
  #mariaDb: Promise<MariaDb> | undefined;

  /** @param given the address of a PostgreSQL that runs already; it is not stopped. */
  constructor(given?: string) {
    this.#given = given;
  }

  async postgres(): Promise<string> {
    if (this.#given !== undefined) return this.#given;
    this.#postgres ??= startPostgres();
    return (await this.#postgres).url;
  }

  mariaDb(): Promise<MariaDb> {
    this.#mariaDb ??= startMariaDb();
    return this.#mariaDb;
  }

  async stop(): Promise<void> {
    await (await this.#postgres)?.stop();
    await (await this.#mariaDb)?.stop();
  }
}

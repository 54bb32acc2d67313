import { CompiledQuery, type DatabaseConnection, type Dialect, type Driver, Kysely, type QueryResult } from 'kysely';
import { LintelError } from '../base/index.js';

/** A connection as it is lent inside: what would be a transaction of its own is a savepoint, and so is each statement that stands alone. */
class Lent implements DatabaseConnection {
  readonly #line: Line;
  #savepoint: string | undefined;

  constructor(line: Line) {
    this.#line = line;
  }

  async executeQuery<R>(query: CompiledQuery): Promise<QueryResult<R>> {
    if (this.#savepoint !== undefined) return this.#line.run(query);
    await this.begin();
    try {
      const result = await this.#line.run<R>(query);
      await this.commit(query.query.kind !== 'SelectQueryNode');
      return result;
    } catch (error) {
      // guard trial-survives-error by looks: An error would end the whole trial.
      await this.rollback();
      throw error;
    }
  }

  streamQuery<R>(query: CompiledQuery, chunkSize?: number): AsyncIterableIterator<QueryResult<R>> {
    return this.#line.stream(query, chunkSize);
  }

  async begin(): Promise<void> {
    const savepoint = this.#line.nextSavepoint();
    await this.#line.say(`savepoint ${savepoint}`);
    this.#savepoint = savepoint;
  }

  /** What would be asked at its end is asked; and asked again at each later one, as it stands then. */
  async commit(hasWritten = true): Promise<void> {
    // guard trial-asks-deferred by looks: A trial would not notice a deferred constraint.
    if (hasWritten) await this.#line.ask();
    await this.#line.say(`release savepoint ${this.#savepoint}`);
    this.#savepoint = undefined;
  }

  async rollback(): Promise<void> {
    const savepoint = this.#savepoint;
    this.#savepoint = undefined;
    if (savepoint === undefined) return;
    await this.#line.say(`rollback to savepoint ${savepoint}`);
    await this.#line.say(`release savepoint ${savepoint}`);
  }
}

/** The one connection, which is lent to one at a time and not after its time. */
class Line {
  readonly #connection: DatabaseConnection;
  readonly #ends: number;
  #turn: Promise<unknown> = Promise.resolve();
  #running: Promise<unknown> = Promise.resolve();
  #savepoints = 0;
  #isOver = false;

  constructor(connection: DatabaseConnection, milliseconds: number) {
    this.#connection = connection;
    this.#ends = performance.now() + milliseconds;
  }

  nextSavepoint(): string {
    this.#savepoints += 1;
    return `lintel_undone_${this.#savepoints}`;
  }

  provideConnection = <R>(use: (connection: DatabaseConnection) => Promise<R>): Promise<R> => {
    const turn = this.#turn.then(() => use(new Lent(this)));
    this.#turn = turn.catch(() => undefined);
    return turn;
  };

  async run<R>(query: CompiledQuery): Promise<QueryResult<R>> {
    const left = Math.ceil(this.#ends - performance.now());
    if (this.#isOver || left <= 0) throw tooLong();
    await this.say(`set local statement_timeout = ${left}`);
    return this.#send<R>(query);
  }

  async *stream<R>(query: CompiledQuery, chunkSize: number | undefined): AsyncIterableIterator<QueryResult<R>> {
    if (this.#isOver) throw tooLong();
    yield* this.#connection.streamQuery<R>(query, chunkSize);
  }

  say(text: string): Promise<unknown> {
    if (this.#isOver) throw tooLong();
    return this.#send(CompiledQuery.raw(text));
  }

  #send<R>(query: CompiledQuery): Promise<QueryResult<R>> {
    const running = this.#connection.executeQuery<R>(query);
    this.#running = running.catch(() => undefined);
    return running;
  }

  /** Asks what is deferred to the end of a transaction, and leaves it deferred. */
  async ask(): Promise<void> {
    const savepoint = this.nextSavepoint();
    await this.say(`savepoint ${savepoint}`);
    await this.say('set constraints all immediate');
    await this.say(`rollback to savepoint ${savepoint}`);
    await this.say(`release savepoint ${savepoint}`);
  }

  /** Lends it to nobody any more. Waits for the statement that is under way. */
  async close(): Promise<void> {
    this.#isOver = true;
    await this.#running;
  }
}

const tooLong = () => new LintelError('trial-too-long', 'This took longer than a trial may. Nothing of it was done.', {});

/** A trial lasts so long at most, in milliseconds. */
export const TRIAL_MS = 5000;

/** There is nothing behind it that could be asked for another connection. */
const NO_DIALECT = {} as Dialect;

/**
 * Does work in one transaction of a PostgreSQL and takes back whatever it has written: only its result is left. Inside, the database is used like any other; what would be a transaction
 * is a savepoint, and what is deferred to the end of one is asked there. It is one connection: whoever asks beside an open transaction waits for it.
 *
 * @param milliseconds the work fails after so long, whatever it waits for.
 * @throws LintelError `trial-too-long`.
 */
export function undone<DB, R>(db: Kysely<DB>, milliseconds: number, work: (inside: Kysely<DB>) => Promise<R>): Promise<R> {
  // guard trial-rolled-back by looks: A trial would be kept.
  const [begin, undo] = db.isTransaction
    ? ['savepoint lintel_undone', 'rollback to savepoint lintel_undone']
    : ['begin isolation level read committed', /* guard trial-rolled-back (replaced) */ 'rollback'];
  return db.getExecutor().provideConnection(async (connection) => {
    const line = new Line(connection, milliseconds);
    const driver: Driver = {
      init: async () => undefined,
      destroy: async () => undefined,
      acquireConnection: () => Promise.reject(new Error('connections are lent in turn')),
      releaseConnection: async () => undefined,
      beginTransaction: (lent) => (lent as Lent).begin(),
      commitTransaction: (lent) => (lent as Lent).commit(),
      rollbackTransaction: (lent) => (lent as Lent).rollback(),
    };
    const inside = new Kysely<DB>({ config: { dialect: NO_DIALECT }, dialect: NO_DIALECT, driver, executor: db.getExecutor().withConnectionProvider(line) });
    await connection.executeQuery(CompiledQuery.raw(begin));
    let timer: ReturnType<typeof setTimeout> | undefined;
    const late = new Promise<never>((_resolve, reject) => {
      timer = setTimeout(() => reject(tooLong()), milliseconds);
    });
    try {
      // guard trial-ends by looks: A trial could go on for ever.
      return await Promise.race([work(inside), /* guard trial-ends */ late]);
    } finally {
      clearTimeout(timer);
      await line.close();
      // Where the connection is gone, so is all that it had.
      await connection.executeQuery(CompiledQuery.raw(undo)).catch(() => undefined);
    }
  });
}

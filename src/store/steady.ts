import type { PostgresPool } from 'kysely';
import { HELD, LintelError } from '../base/index.js';
import { type Ask, type Client, type Prepare, Prepared } from './prepare.js';

/** SQLSTATE of a connection that is over: classes 08 (connection exception), and 57P01 to 57P05 (the server ends it). */
const OVER = /^(08...|57P0[1-5]|ECONNRESET|EPIPE)$/;
const BEGINS = /^\s*(begin|start transaction)/i;
const COMMITS = /^\s*commit\s*$/i;
const TAKES_BACK = /^\s*rollback/i;

interface Emitter {
  on?(event: 'error', listener: () => void): unknown;
}

/** Without somebody who listens, an error of a connection that nobody uses at the moment would end the process. */
const listenTo = (one: object) => (one as Emitter).on?.('error', () => {});

const NOTHING = { command: '', rowCount: 0, rows: [] };

/** What waits to go to the database with the next statement goes with it, in one message. */
function withHeld(ask: Ask): Ask {
  let held: string[] = [];
  return async (statement, values) => {
    if (typeof statement === 'string' && (statement.endsWith(HELD) || (held.length > 0 && BEGINS.test(statement)))) {
      held.push(statement);
      return NOTHING;
    }
    if (held.length === 0) return ask(statement, values);
    const before = held.join('; ');
    held = [];
    // A message of several statements has no parameters.
    if (typeof statement === 'string' && !(Array.isArray(values) && values.length > 0)) return [await ask(`${before}; ${statement}`, [])].flat().at(-1);
    await ask(before, []);
    return ask(statement, values);
  };
}

/**
 * A `pg` pool whose connections may go away at any time: the process goes on, what was under way in a transaction may be begun again as `try-again`, and where that cannot
 * be known the error says so.
 */
export class SteadyPool implements PostgresPool {
  readonly #pool: PostgresPool;
  readonly #prepared: Prepared;
  readonly #clients = new WeakMap<Client, Client>();
  readonly #away: ((error: unknown) => Error) | undefined;

  constructor(pool: PostgresPool, prepare: Prepare, away?: (error: unknown) => Error) {
    this.#pool = pool;
    this.#away = away;
    this.#prepared = new Prepared(prepare);
    listenTo(pool);
  }

  async connect(): Promise<Client> {
    const client = await this.#pool.connect().catch((error: unknown) => {
      throw this.#away?.(error) ?? error;
    });
    const known = this.#clients.get(client) ?? this.#steady(client);
    this.#clients.set(client, known);
    return known;
  }

  end(): Promise<void> {
    return this.#pool.end();
  }

  #steady(client: Client): Client {
    let [isOver, isOpen] = [false, false];
    (client as Emitter).on?.('error', () => {
      isOver = true;
    });
    const ask = withHeld(this.#prepared.asking(client, client.query.bind(client) as Ask));
    const query: Ask = async (statement, values) => {
      const text = typeof statement === 'string' ? statement : '';
      if (BEGINS.test(text)) isOpen = true;
      const within = isOpen && !COMMITS.test(text);
      if (COMMITS.test(text) || /^\s*rollback\s*$/i.test(text)) isOpen = false;
      try {
        return await ask(statement, values);
      } catch (error) {
        isOver ||= OVER.test(String((error as { code?: unknown }).code));
        if (!isOver) throw error;
        // With the connection, all that was under way on it was taken back.
        if (TAKES_BACK.test(text)) return { command: 'ROLLBACK', rowCount: 0, rows: [] };
        if (within)
          throw new LintelError('try-again', 'The connection to the database broke. Nothing of this transaction holds; begin it anew.', {}, { cause: error });
        const words = 'The connection to the database broke. Whether what was under way was done is not known: look, before you do it again.';
        throw new LintelError('database-away', words, {}, { cause: error });
      }
    };
    return { query: query as Client['query'], release: () => client.release(isOver) };
  }
}

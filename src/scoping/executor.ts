import {
  CompiledQuery,
  type DialectAdapter,
  type Kysely,
  type KyselyPlugin,
  type QueryExecutor,
  type QueryId,
  type QueryResult,
  type RawNode,
  type RootOperationNode,
} from 'kysely';
import { LintelError } from '../base/index.js';
import type { Boundary } from './boundary.js';
import { Narrower } from './narrow/narrow.js';
import { readQuery } from './read/grammar.js';
import { refuse } from './read/refuse.js';
import { inTongue, isMariaDb } from './tongue.js';
import { failedCheck } from './write/failure.js';
import { lookUpNamed } from './write/named.js';
import { COUNT, ROW, takeSteps, type WriteSteps } from './write/steps.js';
import type { WriteNode } from './write/target.js';
import { Write } from './write/write.js';

/** What was made of a query: never handed out. */
interface Plan {
  readonly compiled: CompiledQuery;
  readonly queryId: QueryId;
  readonly write?: { readonly node: WriteNode; readonly narrowed: Write };
}

/** What happens beside the database that is written to. */
export interface Beside {
  /** A copy that reads may go to; undefined where it may be behind. */
  readonly copy?: () => Promise<Kysely<any> | undefined>;
  /** Something was written. */
  readonly written?: () => Promise<void>;
}

/** What executors that differ in plugins alone have in common. */
interface Shared extends Beside {
  turn: Promise<unknown>;
}

/** A compiled query as callers hold it: theirs to change, since what is executed is the plan that it keeps to itself. What is none of these was compiled by somebody else. */
class Handed implements CompiledQuery {
  readonly query: RootOperationNode;
  readonly queryId: QueryId;
  readonly sql: string;
  readonly parameters: readonly unknown[];
  readonly #plan: Plan;
  readonly #of: Shared;

  constructor(query: RootOperationNode, plan: Plan, of: Shared) {
    this.query = query;
    this.queryId = plan.queryId;
    this.sql = plan.compiled.sql;
    this.parameters = plan.compiled.parameters.map((value) => (value instanceof Date ? new Date(value) : value));
    this.#plan = plan;
    this.#of = of;
  }

  /** What a query stands for that was compiled by executors that share this. */
  static plan(query: object, of: Shared): Plan | undefined {
    return #plan in query && query.#of === of ? query.#plan : undefined;
  }
}

/**
 * The executor behind a narrowed face. Queries are narrowed where they are compiled, after every plugin; and only what was
 * compiled here is executed. So neither a plugin that is taken off nor a query that was compiled elsewhere gets around it.
 */
export class ScopedExecutor implements QueryExecutor {
  readonly #db: Kysely<any>;
  readonly #inner: QueryExecutor;
  readonly #boundary: Boundary;
  readonly #shared: Shared;

  constructor(db: Kysely<any>, boundary: Boundary, inner = db.getExecutor(), shared?: Shared | Beside) {
    this.#db = db;
    this.#inner = inner;
    this.#boundary = boundary;
    this.#shared = shared && 'turn' in shared ? shared : { ...shared, turn: Promise.resolve() };
  }

  /** What a write returns is read by us, where the database itself returns nothing. */
  get adapter(): DialectAdapter {
    const { adapter } = this.#inner;
    return isMariaDb(adapter) ? Object.create(adapter, { supportsReturning: { value: true } }) : adapter;
  }

  get plugins(): readonly KyselyPlugin[] {
    return this.#inner.plugins;
  }

  transformQuery<T extends RootOperationNode>(node: T, queryId: QueryId): T {
    return this.#inner.transformQuery(node, queryId);
  }

  compileQuery<R>(node: RootOperationNode, queryId: QueryId): CompiledQuery<R> {
    return new Handed(node, this.#plan(node, queryId), this.#shared) as CompiledQuery<R>;
  }

  #plan(given: RootOperationNode, queryId: QueryId): Plan {
    const node = readQuery(given);
    if (node.kind === 'SelectQueryNode') return { compiled: this.#compiled(new Narrower(this.#boundary).whole(node), queryId), queryId };
    const narrowed = new Write(this.#boundary, node as WriteNode);
    const statement = this.#boundary.writer.writesInside ? narrowed.statement() : narrowed.steps().write([]);
    return { compiled: this.#compiled(statement, queryId), queryId, write: { node: node as WriteNode, narrowed } };
  }

  #compiled(node: RootOperationNode, queryId: QueryId): CompiledQuery {
    return inTongue(this.#inner.adapter, this.#inner.compileQuery(node, queryId));
  }

  async executeQuery<R>(compiled: CompiledQuery<R>): Promise<QueryResult<R>> {
    const known = Handed.plan(compiled, this.#shared);
    if (!known) return refuse('a query that was compiled elsewhere', 'build it on this scope');
    const { compiled: plan, write, queryId } = known;
    if (!write) return (await this.#toRead()).executeQuery(plan as CompiledQuery<R>);
    const result = await this.#write<R>(plan, write, queryId);
    await this.#shared.written?.();
    return result;
  }

  /** Whence a select is answered. */
  async #toRead(): Promise<QueryExecutor> {
    const copy = await this.#shared.copy?.();
    return copy ? this.#inner.withConnectionProvider({ provideConnection: (use) => copy.getExecutor().provideConnection(use) }) : this.#inner;
  }

  async #write<R>(plan: CompiledQuery, write: NonNullable<Plan['write']>, queryId: QueryId): Promise<QueryResult<R>> {
    const named = await lookUpNamed(write.node, this.#boundary, this.#db);
    if (!this.#boundary.writer.writesInside) return this.#inTurn(() => this.#executeSteps<R>(write.narrowed.steps(named), queryId));
    // Only what names others has to wait for what is known of them.
    const final = named ? this.#compiled(write.narrowed.statement(named), queryId) : plan;
    const result = await this.#inner.executeQuery(final as CompiledQuery<Record<string, unknown>>).catch((error: unknown) => {
      throw failedCheck(error) ?? error;
    });
    const written = Number(result.rows[0]?.[COUNT] ?? 0);
    return { rows: realRows(result.rows), numAffectedRows: BigInt(written) };
  }

  /** Writes of one connection wait for each other: the steps of two must not mix. */
  #inTurn<R>(work: () => Promise<R>): Promise<R> {
    const turn = this.#shared.turn.then(work, work);
    this.#shared.turn = turn;
    return turn;
  }

  async #executeSteps<R>(steps: WriteSteps, queryId: QueryId): Promise<QueryResult<R>> {
    return this.#inner.provideConnection(async (connection) => {
      const here = this.#inner.withConnectionProvider({ provideConnection: (use) => use(connection) });
      const run = (executor: QueryExecutor, node: RawNode) => executor.executeQuery<any>(inTongue(executor.adapter, executor.compileQuery(node, queryId)));
      const plain = here.withoutPlugins();
      const say = (text: string) => connection.executeQuery(CompiledQuery.raw(text));
      const [begin, end, undo] = this.#db.isTransaction
        ? [['savepoint lintel_write'], 'release savepoint lintel_write', 'rollback to savepoint lintel_write']
        : [this.#boundary.writer.begins, 'commit', 'rollback'];
      for (const text of begin) await say(text);
      try {
        const { returned, count } = await takeSteps(steps, {
          rows: async (node) => (await run(plain, node)).rows,
          shown: async (node) => (await run(here, node)).rows,
          count: async (node) => Number((await run(plain, node)).numAffectedRows ?? 0),
        });
        await say(end);
        return { rows: realRows(returned), numAffectedRows: BigInt(count) };
      } catch (error) {
        // Where the database took all of it back, there is no way to go back to.
        await say(undo).catch(() => undefined);
        throw error;
      }
    });
  }

  async *stream<R>(compiled: CompiledQuery<R>, chunkSize: number): AsyncIterableIterator<QueryResult<R>> {
    const known = Handed.plan(compiled, this.#shared);
    if (!known || known.write) return refuse('streaming of what is no select built on this scope', 'build it on this scope');
    yield* (await this.#toRead()).stream(known.compiled as CompiledQuery<R>, chunkSize);
  }

  provideConnection(): never {
    throw new LintelError('scope-refused', 'a bare connection cannot be had through scope; use transaction() of the scope');
  }

  withConnectionProvider(provider: Parameters<QueryExecutor['withConnectionProvider']>[0]): QueryExecutor {
    return this.#over(this.#inner.withConnectionProvider(provider));
  }

  withPlugin(plugin: KyselyPlugin): QueryExecutor {
    return this.#over(this.#inner.withPlugin(plugin));
  }

  withPlugins(plugins: readonly KyselyPlugin[]): QueryExecutor {
    return this.#over(this.#inner.withPlugins(plugins));
  }

  withPluginAtFront(plugin: KyselyPlugin): QueryExecutor {
    return this.#over(this.#inner.withPluginAtFront(plugin));
  }

  withoutPlugins(): QueryExecutor {
    return this.#over(this.#inner.withoutPlugins());
  }

  #over(inner: QueryExecutor): QueryExecutor {
    return new ScopedExecutor(this.#db, this.#boundary, inner, this.#shared);
  }
}

/** The rows that the writer may read of what was written, without what we put beside them. */
function realRows<R>(rows: readonly Record<string, unknown>[]): R[] {
  return rows.filter((row) => row[ROW] === true || row[ROW] === 1).map(({ [COUNT]: _count, [ROW]: _row, ...row }) => row as R);
}

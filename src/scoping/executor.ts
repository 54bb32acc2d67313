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
import { refuse } from './allowed.js';
import type { Boundary } from './boundary.js';
import { checkFailure, failedCheck } from './failure.js';
import { Narrower } from './narrow.js';
import { COUNT, lookUpNamed, planSteps, planWrite, ROW, type WriteNode, type WriteSteps } from './write.js';

/** What executors that differ in plugins alone have in common. */
interface Shared {
  /** What each compiled query stands for. What is not here was compiled by somebody else. */
  readonly known: WeakMap<object, { readonly plan: CompiledQuery; readonly write?: WriteNode; readonly queryId: QueryId }>;
  turn: Promise<unknown>;
}

/**
 * The executor behind a narrowed face. Queries are narrowed where they are compiled, after every plugin; and only what was
 * compiled here is executed. So neither a plugin that is taken off nor a query that was compiled elsewhere gets around it.
 */
export class ScopedExecutor implements QueryExecutor {
  readonly #db: Kysely<any>;
  readonly #inner: QueryExecutor;
  readonly #boundary: Boundary;
  readonly #narrower: Narrower;
  readonly #shared: Shared;

  constructor(db: Kysely<any>, boundary: Boundary, inner = db.getExecutor(), narrower = new Narrower(boundary), shared?: Shared) {
    this.#db = db;
    this.#inner = inner;
    this.#boundary = boundary;
    this.#narrower = narrower;
    this.#shared = shared ?? { known: new WeakMap(), turn: Promise.resolve() };
  }

  get adapter(): DialectAdapter {
    return this.#inner.adapter;
  }

  get plugins(): readonly KyselyPlugin[] {
    return this.#inner.plugins;
  }

  transformQuery<T extends RootOperationNode>(node: T, queryId: QueryId): T {
    return this.#inner.transformQuery(node, queryId);
  }

  compileQuery<R>(node: RootOperationNode, queryId: QueryId): CompiledQuery<R> {
    const shown = this.#compile(node, queryId);
    // The copy that callers hold is theirs to change; what is executed is kept here.
    const handed = { ...shown, query: node, parameters: [...shown.parameters] };
    this.#shared.known.set(handed, { plan: shown, queryId, ...(node.kind !== 'SelectQueryNode' && { write: node as WriteNode }) });
    return handed as CompiledQuery<R>;
  }

  #compile(node: RootOperationNode, queryId: QueryId): CompiledQuery {
    switch (node.kind) {
      case 'SelectQueryNode':
        return this.#inner.compileQuery(this.#narrower.narrow(node), queryId);
      case 'InsertQueryNode':
      case 'UpdateQueryNode':
      case 'DeleteQueryNode':
        return this.#inner.compileQuery(
          this.#boundary.writer.writesInside ? planWrite(node, this.#boundary) : planSteps(node, this.#boundary).write([]),
          queryId,
        );
      default:
        return refuse(node.kind === 'RawNode' ? 'a raw SQL query' : `a ${node.kind.replace(/Node$/, '')}`, 'use select, insert, update or delete');
    }
  }

  async executeQuery<R>(compiled: CompiledQuery<R>): Promise<QueryResult<R>> {
    const known = this.#shared.known.get(compiled);
    if (!known) return refuse('a query that was compiled elsewhere', 'build it on this scope');
    const { plan, write, queryId } = known;
    if (!write) return this.#inner.executeQuery(plan as CompiledQuery<R>);
    const named = await lookUpNamed(write, this.#boundary, this.#db);
    if (!this.#boundary.writer.writesInside) return this.#inTurn(() => this.#executeSteps<R>(planSteps(write, this.#boundary, named), queryId));
    // Only what names others has to wait for what is known of them.
    const final = named ? this.#inner.compileQuery(planWrite(write, this.#boundary, named), queryId) : plan;
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
      const run = async (executor: QueryExecutor, node: RawNode) => (await executor.executeQuery<any>(executor.compileQuery(node, queryId))).rows;
      const plain = here.withoutPlugins();
      const say = (text: string) => connection.executeQuery(CompiledQuery.raw(text));
      const [begin, end, undo] = this.#db.isTransaction
        ? ['savepoint lintel_write', 'release lintel_write', 'rollback to lintel_write']
        : ['begin immediate', 'commit', 'rollback'];
      await say(begin);
      try {
        const ids = (rows: readonly { lintelid: unknown }[]) => rows.map((row) => row.lintelid);
        const reached = steps.reached ? ids(await run(plain, steps.reached)) : [];
        const leaving = steps.leaving ? await run(here, steps.leaving(reached)) : [];
        const written = ids(await run(plain, steps.write(reached)));
        const failed = steps.failed ? (await run(plain, steps.failed(written))).find((row) => row.lintelfailed !== null) : undefined;
        if (failed) throw checkFailure(failed.lintelfailed);
        const returned = steps.returned ? await run(here, steps.returned(written)) : leaving;
        await say(end);
        return { rows: realRows(returned), numAffectedRows: BigInt(written.length) };
      } catch (error) {
        await say(undo);
        throw error;
      }
    });
  }

  async *stream<R>(compiled: CompiledQuery<R>, chunkSize: number): AsyncIterableIterator<QueryResult<R>> {
    const known = this.#shared.known.get(compiled);
    if (!known || known.write) return refuse('streaming of what is no select built on this scope', 'build it on this scope');
    yield* this.#inner.stream(known.plan as CompiledQuery<R>, chunkSize);
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
    return new ScopedExecutor(this.#db, this.#boundary, inner, this.#narrower, this.#shared);
  }
}

/** The rows that the writer may read of what was written, without what we put beside them. */
function realRows<R>(rows: readonly Record<string, unknown>[]): R[] {
  return rows.filter((row) => row[ROW] === true || row[ROW] === 1).map(({ [COUNT]: _count, [ROW]: _row, ...row }) => row as R);
}

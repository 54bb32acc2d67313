import type { CompiledQuery, DialectAdapter, Kysely, KyselyPlugin, QueryExecutor, QueryId, QueryResult, RootOperationNode } from 'kysely';
import { LintelError } from '../base/index.js';
import type { Boundary } from './boundary.js';
import { Narrower, refuse } from './narrow.js';
import { COUNT, failedCheck, newOwners, planWrite, ROW, type WriteNode } from './write.js';

/**
 * The executor behind a narrowed face. Queries are narrowed where they are compiled, after every plugin; and only what was
 * compiled here is executed. So neither a plugin that is taken off nor a query that was compiled elsewhere gets around it.
 */
export class ScopedExecutor implements QueryExecutor {
  readonly #db: Kysely<any>;
  readonly #inner: QueryExecutor;
  readonly #boundary: Boundary;
  readonly #narrower: Narrower;
  /** What each compiled query stands for. What is not here was compiled by somebody else. */
  readonly #known: WeakMap<object, { readonly plan: CompiledQuery; readonly write?: WriteNode; readonly queryId: QueryId }>;

  constructor(db: Kysely<any>, boundary: Boundary, inner = db.getExecutor(), narrower = new Narrower(boundary), known = new WeakMap()) {
    this.#db = db;
    this.#inner = inner;
    this.#boundary = boundary;
    this.#narrower = narrower;
    this.#known = known;
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
    this.#known.set(handed, { plan: shown, queryId, ...(node.kind !== 'SelectQueryNode' && { write: node as WriteNode }) });
    return handed as CompiledQuery<R>;
  }

  #compile(node: RootOperationNode, queryId: QueryId): CompiledQuery {
    switch (node.kind) {
      case 'SelectQueryNode':
        return this.#inner.compileQuery(this.#narrower.narrow(node), queryId);
      case 'InsertQueryNode':
      case 'UpdateQueryNode':
      case 'DeleteQueryNode':
        return this.#inner.compileQuery(planWrite(node, this.#boundary, new Map()), queryId);
      default:
        return refuse(node.kind === 'RawNode' ? 'a raw SQL query' : `a ${node.kind.replace(/Node$/, '')}`, 'use select, insert, update or delete');
    }
  }

  async executeQuery<R>(compiled: CompiledQuery<R>): Promise<QueryResult<R>> {
    const known = this.#known.get(compiled);
    if (!known) return refuse('a query that was compiled elsewhere', 'build it on this scope');
    const { plan, write, queryId } = known;
    if (!write) return this.#inner.executeQuery(plan as CompiledQuery<R>);
    const owners = await Promise.all(newOwners(write, this.#boundary).map(async (id) => [id, await this.#boundary.support.standingOf(id, this.#db)] as const));
    // Only what is given to somebody else has to wait for what they may read.
    const final = owners.length === 0 ? plan : this.#inner.compileQuery(planWrite(write, this.#boundary, new Map(owners)), queryId);
    const result = await this.#inner.executeQuery(final as CompiledQuery<Record<string, unknown>>).catch((error: unknown) => {
      throw failedCheck(error) ?? error;
    });
    const written = Number(result.rows[0]?.[COUNT] ?? 0);
    const rows = result.rows.filter((row) => row[ROW] === true).map(({ [COUNT]: _count, [ROW]: _row, ...row }) => row as R);
    return { rows, numAffectedRows: BigInt(written) };
  }

  async *stream<R>(compiled: CompiledQuery<R>, chunkSize: number): AsyncIterableIterator<QueryResult<R>> {
    const known = this.#known.get(compiled);
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
    return new ScopedExecutor(this.#db, this.#boundary, inner, this.#narrower, this.#known);
  }
}

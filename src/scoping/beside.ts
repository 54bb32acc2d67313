import {
  type CompiledQuery,
  type Kysely,
  type KyselyPlugin,
  QueryCreator,
  type QueryExecutor,
  type QueryId,
  type QueryResult,
  type RootOperationNode,
} from 'kysely';
import { isLintelError } from '../base/index.js';
import type { Boundary } from './boundary.js';
import { ScopedExecutor } from './executor.js';

/** What scope would have done otherwise with a query of the application's own. */
export interface ScopeDifference {
  readonly sql: string;
  /** Why scope would not run it. */
  readonly refused?: string;
  /** Rows that the query gave and scope would not, and the other way round. */
  readonly only?: readonly object[];
  readonly missing?: readonly object[];
}

/** Where a statement of the application and scope differ. */
export type ReportDifference = (difference: ScopeDifference) => void;

/**
 * The application's own Kysely, as it is: queries run unchanged, and beside each select the same one runs through scope. Where
 * they differ it is reported; the application never notices. For taking scope up step by step.
 */
export class BesideDb<DB> extends QueryCreator<DB> {
  readonly #db: Kysely<DB>;
  readonly #boundary: Boundary;
  readonly #report: ReportDifference;

  constructor(db: Kysely<DB>, boundary: Boundary, report: ReportDifference) {
    super({ executor: beside(db, db.getExecutor(), boundary, report) });
    this.#db = db;
    this.#boundary = boundary;
    this.#report = report;
  }

  transaction(): { execute<R>(work: (trx: BesideDb<DB>) => Promise<R>): Promise<R> } {
    return { execute: (work) => this.#db.transaction().execute((trx) => work(new BesideDb<DB>(trx, this.#boundary, this.#report))) };
  }
}

/** An executor that does all that the given one does, and looks. */
function beside(db: Kysely<any>, inner: QueryExecutor, boundary: Boundary, report: ReportDifference): QueryExecutor {
  const again = (next: QueryExecutor) => beside(db, next, boundary, report);
  return {
    get adapter() {
      return inner.adapter;
    },
    get plugins() {
      return inner.plugins;
    },
    transformQuery: <T extends RootOperationNode>(node: T, queryId: QueryId) => inner.transformQuery(node, queryId),
    compileQuery: (node, queryId) => inner.compileQuery(node, queryId),
    executeQuery: async <R>(compiled: CompiledQuery<R>): Promise<QueryResult<R>> => {
      const result = await inner.executeQuery(compiled);
      const difference = await compare(db, inner, boundary, compiled, result as QueryResult<object>);
      if (difference) report(difference);
      return result;
    },
    stream: (compiled, size) => inner.stream(compiled, size),
    provideConnection: (use) => inner.provideConnection(use),
    withConnectionProvider: (provider) => again(inner.withConnectionProvider(provider)),
    withPlugin: (plugin: KyselyPlugin) => again(inner.withPlugin(plugin)),
    withPlugins: (plugins) => again(inner.withPlugins(plugins)),
    withPluginAtFront: (plugin) => again(inner.withPluginAtFront(plugin)),
    withoutPlugins: () => again(inner.withoutPlugins()),
  };
}

async function compare(
  db: Kysely<any>,
  inner: QueryExecutor,
  boundary: Boundary,
  compiled: CompiledQuery<any>,
  own: QueryResult<object>,
): Promise<ScopeDifference | undefined> {
  const { sql, query, queryId } = compiled;
  try {
    const scoped = new ScopedExecutor(db, boundary, inner);
    const narrowed = scoped.compileQuery<object>(query, queryId);
    // A write is not done a second time: only whether scope would take it is said.
    if (query.kind !== 'SelectQueryNode') return undefined;
    const { rows } = await scoped.executeQuery(narrowed);
    const [only, missing] = [without(own.rows, rows), without(rows, own.rows)];
    return only.length + missing.length === 0 ? undefined : { sql, only, missing };
  } catch (error) {
    return { sql, refused: isLintelError(error) ? error.message : `it fails: ${String(error)}` };
  }
}

/** Rows of the first that are not in the second, each counted as often as it stands there. */
function without(rows: readonly object[], others: readonly object[]): object[] {
  const left = new Map<string, number>();
  for (const row of others) left.set(JSON.stringify(row), (left.get(JSON.stringify(row)) ?? 0) + 1);
  return rows.filter((row) => {
    const count = left.get(JSON.stringify(row)) ?? 0;
    left.set(JSON.stringify(row), count - 1);
    return count <= 0;
  });
}

/* Runs queries in two worlds and compares what comes of them. */
import { type KyselyPlugin, sql } from 'kysely';
import { isLintelError } from 'warm-lintel';
import { Choices } from '../harness/tape.js';
import { Drawer } from './draw.js';
import { misplaced } from './misplace.js';
import { TABLES, type World } from './world.js';

class Undo extends Error {}
const HIDDEN = TABLES.map(
  (table) =>
    `select '${table}' as t, id, secret, size, ${{ visits: 'hive_id', notes: 'entry_id', hives: 'owner_id', entries: 'owner_id' }[table]} as o, ${table === 'notes' ? 'null' : 'tenant_id'} as of from ${table} where secret = 'hidden'`,
).join(' union all ');

interface Said {
  /** Rows, or that there was an error, or that it was refused. */
  readonly said: string;
  readonly text: string;
  readonly parameters: readonly unknown[];
}

/** The statement of a tape on one scope: now and then with a node that does not belong. */
function statementOf(tape: readonly number[], scope: any): any {
  const c = new Choices(tape);
  const query = new Drawer(c).statement(scope);
  if (!c.oneIn(4)) return query;
  const plugin: KyselyPlugin = { transformQuery: ({ node }) => misplaced(node, c), transformResult: async ({ result }) => result };
  return query.withPlugin(plugin);
}

/** What the statement of a tape comes to in one world; and that it touched nothing hidden. */
async function ask(tape: readonly number[], { records, scope }: World): Promise<Said> {
  let said = '';
  let text = '';
  let parameters: readonly unknown[] = [];
  await records
    .transaction()
    .execute(async (tx) => {
      const before = JSON.stringify((await sql.raw<any>(HIDDEN).execute(tx)).rows);
      await sql`savepoint q`.execute(tx);
      try {
        // What is compiled for us to see is not what is executed: each is made anew, from the same choices.
        ({ sql: text, parameters } = statementOf(tape, scope(tx)).compile());
        const rows = (await statementOf(tape, scope(tx)).execute()) as object[];
        said = JSON.stringify(rows.map((row) => JSON.stringify(row, (_, value) => (typeof value === 'bigint' ? String(value) : value))).sort());
      } catch (error) {
        // Which of several errors comes first is a matter of the plan.
        said = isLintelError(error) ? `refused: ${error.message}` : isOrdinary(error) ? 'error' : `broken: ${String((error as Error).stack)}`;
        await sql`rollback to savepoint q`.execute(tx);
      }
      const after = JSON.stringify((await sql.raw<any>(HIDDEN).execute(tx)).rows);
      if (after !== before) said = `touched what is hidden: ${said}`;
      throw new Undo();
    })
    .catch((error: unknown) => {
      if (!(error instanceof Undo)) throw error;
    });
  return { said, text, parameters };
}

/** An error of the database, or of the builder, which was drawn something that it does not take; not a mistake of ours. */
const isOrdinary = (error: unknown) => typeof (error as { code?: unknown }).code === 'string' || (error as Error).constructor === Error;

/** Whether a planner, who has looked at all values beforehand, says the same of a query in both. */
async function plan({ records }: World, { text, parameters }: Said): Promise<string> {
  const executor = records.getExecutor();
  const query = { kind: 'RawNode', sqlFragments: [`explain ${text}`], parameters: [] } as never;
  return executor.executeQuery({ sql: `explain ${text}`, parameters, query, queryId: { queryId: 'plan' } } as never).then(
    () => 'planned',
    () => 'error',
  );
}

export type Outcome = 'answered' | 'empty' | 'refused' | 'error';

function outcomeOf(said: string): Outcome {
  if (said.startsWith('refused')) return 'refused';
  return said === 'error' ? 'error' : said === '[]' ? 'empty' : 'answered';
}

type Worlds = readonly [World, World];

/** Two worlds that differ in what is hidden; and the same two where a planner looked at all values beforehand. */
export class PairOfWorlds {
  readonly #worlds: Worlds;
  readonly #planned: Worlds | undefined;

  constructor(worlds: Worlds, planned: Worlds | undefined) {
    this.#worlds = worlds;
    this.#planned = planned;
  }

  /** What the statement of a tape comes to; and what it told, where the two worlds answer differently. */
  async compare(tape: readonly number[]): Promise<{ readonly outcome: Outcome; readonly told: string | undefined }> {
    const [a, b] = await Promise.all([ask(tape, this.#worlds[0]), ask(tape, this.#worlds[1])]);
    const outcome = outcomeOf(a.said);
    const told = (...lines: string[]) => ({ outcome, told: ['told something:', a.text, JSON.stringify(a.parameters), ...lines].join('\n') });
    if (a.said !== b.said) return told(a.said, b.said);
    if (/^(broken|touched)/.test(a.said)) return told(a.said);
    if (this.#planned && a.text !== '' && outcome !== 'refused') {
      const [p, q] = await Promise.all([plan(this.#planned[0], a), plan(this.#planned[1], a)]);
      if (p !== q) return told(`planned: ${p}`, `planned: ${q}`);
    }
    return { outcome, told: undefined };
  }

  async close(): Promise<void> {
    await Promise.all([...this.#worlds, ...(this.#planned ?? [])].map(({ records }) => records.destroy()));
  }
}

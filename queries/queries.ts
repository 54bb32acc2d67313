/* Runs queries in two worlds and compares what comes of them. */
import { type Kysely, type KyselyPlugin, sql } from 'kysely';
import { isLintelError } from 'warm-lintel';
import { Choices } from './choices.js';
import { Drawer } from './draw.js';
import { misplaced } from './misplace.js';
import { TABLES, type World } from './world.js';

class Undo extends Error {}
const HIDDEN = TABLES.map(
  (table) =>
    `select '${table}' as t, id, secret, size, ${{ visits: 'hive_id', notes: 'entry_id', hives: 'owner_id', entries: 'owner_id' }[table]} as o, ${table === 'notes' ? 'null' : 'tenant_id'} as of from ${table} where secret = 'hidden'`,
).join(' union all ');

export interface Said {
  /** Rows, or that there was an error, or that it was refused. */
  readonly said: string;
  readonly text: string;
  readonly parameters: readonly unknown[];
}

/** The statement of this number on one scope: now and then with a node that does not belong. */
function statementOf(number: number, scope: any): any {
  const c = new Choices(number);
  const query = new Drawer(c).statement(scope);
  if (!c.oneIn(4)) return query;
  const plugin: KyselyPlugin = { transformQuery: ({ node }) => misplaced(node, c), transformResult: async ({ result }) => result };
  return query.withPlugin(plugin);
}

/** What the statement of this number comes to in one world; and that it touched nothing hidden. */
export async function ask(number: number, { records, scope }: World): Promise<Said> {
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
        ({ sql: text, parameters } = statementOf(number, scope(tx)).compile());
        const rows = (await statementOf(number, scope(tx)).execute()) as object[];
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

export interface Report {
  readonly tally: Record<'answered' | 'empty' | 'refused' | 'error', number>;
  /** What was said differently, by the first query that told something. */
  readonly told?: string;
}

export interface Pair {
  readonly name: string;
  readonly worlds: readonly [World, World];
  /** The same two, in databases whose planner looked at the values. */
  readonly planned?: readonly [World, World];
}

/** Asks so many queries, from this number on, in both worlds of a pair. */
export async function compare({ name, worlds, planned }: Pair, first: number, count: number, progress: (done: number) => void = () => {}): Promise<Report> {
  const tally = { answered: 0, empty: 0, refused: 0, error: 0 };
  for (let number = first; number < first + count; number++) {
    const [a, b] = (await Promise.all(worlds.map((world) => ask(number, world)))) as [Said, Said];
    const told = (what: string, one: string, other: string) => ({
      tally,
      told: `${name}, query ${number} ${what}:\n${a.text}\n${JSON.stringify(a.parameters)}\n${one}\n${other}`,
    });
    if (a.said !== b.said) return told('differs', a.said, b.said);
    if (/^(broken|touched)/.test(a.said)) return told('is no answer', a.said, '');
    if (planned && a.text !== '' && !a.said.startsWith('refused')) {
      const [p, q] = (await Promise.all(planned.map((world) => plan(world, a)))) as [string, string];
      if (p !== q) return told('differs when it is planned', p, q);
    }
    tally[a.said.startsWith('refused') ? 'refused' : a.said === 'error' ? 'error' : a.said === '[]' ? 'empty' : 'answered'] += 1;
    progress(number - first + 1);
  }
  return { tally };
}

/** Two worlds of one kind of database. */
export async function pair(name: string, open: (second: boolean, analyzed: boolean) => Promise<World>, withPlans = false): Promise<Pair> {
  const both = async (analyzed: boolean) => [await open(false, analyzed), await open(true, analyzed)] as const;
  return { name, worlds: await both(false), ...(withPlans && { planned: await both(true) }) };
}

export const closeWorlds = async ({ worlds, planned = [] as never }: Pair): Promise<void> => {
  for (const { records } of [...worlds, ...planned] as { records: Kysely<any> }[]) await records.destroy();
};

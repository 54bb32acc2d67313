/* Two who write to the same rows in the same moment, on two connections: each row ends as one of the two orders would have left it. */
import { CompiledQuery, type Kysely, type Transaction } from 'kysely';
import { readCharter } from 'warm-lintel';
import { createLintel, policyStatements, type ServerStanding } from 'warm-lintel/server';
import { APP_ROLE, become, type Engine, fieldsOf, fill, isRefusal, SUBJECTS, statement } from './engines.js';
import type { Case, Draw, Row, Write } from './generate.js';
import { WriteRules } from './memory.js';
import { type Names, typed } from './typed.js';
import { columnFields, dropTables, KINDS, makeTables, tongueOf } from './world.js';

type AnyStanding = ServerStanding<any>;
type Told = 'refused' | 'done';

/** Rules about a plot look at nothing but the plot: what one of two sees of other tables is another matter. */
const KIND = 'plot';

/** What somebody wrote, held open until it is said how it ends. */
interface Writing {
  readonly told: Promise<Told>;
  end(): Promise<void>;
}

/** Begins a write in a transaction of its own, by way of scope, or by plain SQL under the policies, and keeps it open. */
function begin(engine: Engine, standing: AnyStanding, write: Write): Writing {
  let end = () => {};
  const ended = new Promise<void>((resolve) => {
    end = resolve;
  });
  let tell: (told: Told) => void = () => {};
  const told = new Promise<Told>((resolve) => {
    tell = resolve;
  });
  const work = async (on: Parameters<typeof statement>[0]) => {
    await statement(on, write, 'postgres').execute();
    tell('done');
    await ended;
  };
  const whole = engine.policies
    ? standing.withPolicies(engine.records, async (tx: Transaction<any>) => {
        await tx.executeQuery(CompiledQuery.raw(`set local role ${APP_ROLE}`));
        return work(tx);
      })
    : engine.records.transaction().execute((tx) => work(standing.scope<any>(tx)));
  const settled = whole.catch((error: unknown) => {
    if (!isRefusal(error)) throw error;
    tell('refused');
  });
  return {
    told: Promise.race([told, settled.then(() => told)]),
    end: async () => {
      end();
      await settled;
    },
  };
}

/** Whether anybody waits for a lock. */
async function anyWaits(db: Kysely<any>): Promise<boolean> {
  const ask = async (text: string) => (await db.executeQuery<Record<string, unknown>>(CompiledQuery.raw(text))).rows;
  // What its tables tell is of some moment before.
  if (tongueOf(db) === 'mariadb') return String((await ask('show engine innodb status'))[0]?.Status).includes('LOCK WAIT');
  return (await ask(`select 1 from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock' and pid <> pg_backend_pid()`)).length > 0;
}

/** The second waits for the first, or needs not to. */
async function isWaiting({ records }: Engine, second: Promise<Told>): Promise<void> {
  let over = false;
  void second.finally(() => {
    over = true;
  });
  for (;;) {
    const waits = await anyWaits(records);
    if (over || waits) return;
  }
}

/** A row as one text, of the fields that have a column. */
const textOf = (row: Row | undefined) =>
  row
    ? columnFields(KIND)
        .map(([name]) => `${name} ${row[name] ?? null}`)
        .join(', ')
    : 'gone';

/** What somebody wrote, and what they were told. */
interface Deed {
  readonly by: AnyStanding;
  readonly write: Write;
  readonly told: Told;
}
type Ends = (row: Row) => (Row | undefined)[];

const rulesOf = (names: Names, { by }: Deed, data: Draw['data']) => new WriteRules(by.inMemory, data, names, () => undefined);

/** How each row ends after deeds in this order, by memory. */
function lastOf(names: Names, data: Draw['data'], deeds: readonly Deed[]): Ends {
  let rows = data;
  for (const deed of deeds) {
    const outcome = deed.told === 'refused' ? 'refused' : rulesOf(names, deed, rows).outcome(deed.write);
    if (outcome !== 'refused') rows = { ...rows, [KIND]: outcome.rows };
    // What is done was not to be refused.
    else if (deed.told === 'done') return () => [];
  }
  const here = new Map(rows[KIND].filter((row) => row.tenantId === names.here).map((row) => [row.id, row]));
  return (row) => [row.tenantId === names.here ? here.get(row.id) : row];
}

/** How each row may end where a statement changes of it what the rules let be changed, or leaves it. */
function lastOfEach(names: Names, data: Draw['data'], deeds: readonly Deed[]): Ends {
  return (row) => {
    let states: (Row | undefined)[] = [row];
    for (const deed of deeds) {
      const { write } = deed;
      if (deed.told === 'refused' || write.do === 'insert' || !write.ids.includes(row.id)) continue;
      const rules = rulesOf(names, deed, data);
      const become = states.flatMap((is) => {
        const then = write.do === 'update' && is ? { ...is, ...write.set } : undefined;
        return is && rules.lets(KIND, is, then) ? [then] : [];
      });
      states = [...states, ...become];
    }
    return states;
  };
}

/** Races the writes of a draw in pairs; answers what came out otherwise than in one of the two orders. */
export async function race(engine: Engine, drawn: Case): Promise<{ readonly raced: number; readonly found: readonly string[] }> {
  const { names, charter: json, draws } = typed({ ...drawn, other: undefined, sent: false });
  const charter = readCharter(json);
  const { records } = engine;
  const found: string[] = [];
  let raced = 0;
  await dropTables(records);
  await makeTables(records, names);
  if (engine.policies) await records.executeQuery(CompiledQuery.raw(policyStatements(charter, { role: APP_ROLE }).join('\n')));
  const { membership } = engine;
  const lintel = createLintel({ charter, db: membership, ...(membership !== records && { records }) }) as any;
  for (const draw of draws) {
    // Who gets a record is asked by what others hold; that is not drawn here.
    const writes = draw.writes.filter((w) => w.kind === KIND && w.do !== 'insert' && !(w.do === 'update' && 'ownerId' in w.set && w.set.ownerId !== null));
    if (writes.length < 2 || draw.data[KIND].length === 0) continue;
    const data = { ...draw.data, hive: [], visit: [], note: [] };
    await become(membership, draw.who, names);
    const subject = SUBJECTS[draw.who.subject];
    const me = await lintel.enter({ tenant: names.here, user: subject && names.id('person', subject), context: draw.who.context });
    const boss = await lintel.enter({ tenant: names.here, user: names.id('person', 'boss') });
    await leave(membership, names);
    for (const [first, second, other] of [
      [writes[0], writes[1], me],
      [writes[0], writes[1], boss],
      [writes[1], writes[0], boss],
    ] as const) {
      const [w1, w2] = [first, second] as [Write, Write];
      await records.deleteFrom(KINDS[KIND].table).execute();
      await fill(records, data);
      const one = begin(engine, other, w1);
      const toldOne = await one.told;
      const two = begin(engine, me, w2);
      if (toldOne === 'done') await isWaiting(engine, two.told);
      await one.end();
      const toldTwo = await two.told;
      await two.end();
      raced++;
      const rows = (await records.selectFrom(KINDS[KIND].table).selectAll().execute()) as Row[];
      const is = new Map(rows.map((row) => [row.undeclared, fieldsOf(KIND, row)]));
      const [a, b]: Deed[] = [
        { by: other, write: w1, told: toldOne },
        { by: me, write: w2, told: toldTwo },
      ];
      const orders = [
        [a as Deed, b as Deed],
        [b as Deed, a as Deed],
      ];
      const ends = orders.map((deeds) => (engine.policies ? lastOfEach(names, data, deeds) : lastOf(names, data, deeds)));
      data[KIND].forEach((row, i) => {
        const got = textOf(is.get(String(i)));
        const may = ends.flatMap((end) => end(row)).map(textOf);
        if (!may.includes(got))
          found.push(
            `${engine.name}: of ${JSON.stringify([w1, w2])} (${other === me ? 'one' : 'two'}: ${toldOne}, ${toldTwo}) came ${got}, not ${[...new Set(may)].join(' or ')}`,
          );
      });
    }
  }
  if (engine.policies) await records.executeQuery(CompiledQuery.raw('drop schema lintel_wall cascade'));
  return { raced, found };
}

/** Takes what was given to somebody for a draw. */
async function leave(db: Kysely<any>, names: Names): Promise<void> {
  const me = names.text('person', SUBJECTS.member);
  for (const text of [
    'delete from lintel_opening',
    'delete from lintel_placement',
    `delete from lintel_assignment where role <> 'keyholder'`,
    `delete from lintel_group_member where user_id in ('${me}', '${names.text('person', 'gone')}')`,
    `update lintel_member set attributes = '{}'`,
  ])
    await db.executeQuery(CompiledQuery.raw(text));
}

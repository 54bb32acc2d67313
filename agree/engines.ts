/* The databases: each is filled with the rows of a case, asked, written to, and left as it was. */
import { PGlite } from '@electric-sql/pglite';
import { type Kysely, Kysely as KyselyClass, SqliteDialect, sql } from 'kysely';
import Database from 'libsql';
import type { Charter } from 'warm-lintel';
import { isLintelError } from 'warm-lintel';
import { connect, createLintel, policyStatements, type ScopedDb, type ServerStanding } from 'warm-lintel/server';
import type { Draw, Row, Write } from './generate.js';
import type { Outcome } from './memory.js';
import { columnFields, columnOf, HERE, isSqlite, KIND_NAMES, KINDS, type KindName, ME, makeMembership, makeTables, PEOPLE } from './world.js';

type AnyStanding = ServerStanding<any>;

/** Somewhere to keep records, with the membership beside them or in another database. */
export interface Engine {
  readonly name: string;
  readonly records: Kysely<any>;
  readonly membership: Kysely<any>;
  /** Asked by plain SQL under the row policies, and written to through scope and policies together. */
  readonly policies?: true;
}

export interface Answers {
  readonly find?: Record<string, Row[]>;
  readonly select: Record<string, Row[]>;
  /** Rows as plain SQL under the policies shows them. */
  readonly plain?: Record<string, Row[]>;
  readonly writes: readonly Outcome[];
}

export async function openEngine(name: string, records: Kysely<any>, membership = records): Promise<Engine> {
  await makeTables(records);
  if (membership === records) await makeMembership(records);
  return { name, records, membership };
}

const APP_ROLE = 'agree_app';

/** Plain SQL under the row policies of an engine's database. */
export async function withPolicies(engine: Engine): Promise<Engine> {
  // Roles belong to the server: another database there may have made it.
  await say(engine.records, `do $$ begin create role ${APP_ROLE}; exception when duplicate_object or unique_violation then null; end $$`);
  // A new owner's standing is read in the same transaction here, so the role may look at the membership.
  await say(engine.records, `grant select on all tables in schema public to ${APP_ROLE}`);
  return { ...engine, name: `${engine.name} under row policies`, policies: true };
}

export async function openPglite(): Promise<Engine> {
  return openEngine('PGlite', connect<any>(new PGlite()));
}

export async function openSqlite(membership: Kysely<any>): Promise<Engine> {
  const db = new KyselyClass<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) });
  return openEngine('SQLite', db, membership);
}

class Undo extends Error {}

/** Runs work in a transaction that is undone at the end. */
async function undone<R>(db: Kysely<any>, work: (tx: Kysely<any>) => Promise<R>): Promise<R> {
  let result: { value: R } | undefined;
  await db
    .transaction()
    .execute(async (tx) => {
      result = { value: await work(tx) };
      throw new Undo();
    })
    .catch((error: unknown) => {
      if (!(error instanceof Undo)) throw error;
    });
  return (result as { value: R }).value;
}

const cellOf = (value: unknown, sqlite: boolean) => (sqlite && typeof value === 'boolean' ? Number(value) : value);

async function fill(tx: Kysely<any>, data: Draw['data']): Promise<void> {
  const sqlite = isSqlite(tx);
  for (const kind of KIND_NAMES) {
    const rows = data[kind].map((row) => Object.fromEntries(columnFields(kind).map(([field]) => [columnOf(field), cellOf(row[field], sqlite)])));
    if (rows.length > 0) await tx.insertInto(KINDS[kind].table).values(rows).execute();
  }
  const links = data.hive.flatMap((hive) => (hive.helpers as string[]).map((user_id) => ({ tenant_id: hive.tenantId, hive_id: hive.id, user_id })));
  if (links.length > 0) await tx.insertInto('hive_helpers').values(links).execute();
}

const SUBJECTS = { member: ME, suspended: 'gone', guest: 'stranger', visitor: undefined } as const;

async function become(tx: Kysely<any>, who: Draw['who']): Promise<void> {
  const user_id = SUBJECTS[who.subject] ?? '';
  if (who.subject !== 'member' && who.subject !== 'suspended') return;
  const mine = { tenant_id: HERE, user_id };
  await tx
    .updateTable('lintel_member')
    .set({ attributes: JSON.stringify(who.attributes) })
    .where('tenant_id', '=', HERE)
    .where('user_id', '=', user_id)
    .execute();
  if (who.units.length > 0)
    await tx
      .insertInto('lintel_placement')
      .values(who.units.map((unit_id) => ({ ...mine, unit_id })))
      .execute();
  if (who.groups.length > 0)
    await tx
      .insertInto('lintel_group_member')
      .values(who.groups.map((group_id) => ({ ...mine, group_id })))
      .execute();
  await tx
    .insertInto('lintel_assignment')
    .values(who.assigned.map(({ role, anchor, anchorId, via }) => ({ tenant_id: HERE, ...holderOf(who, user_id, via), role, anchor, anchor_id: anchorId })))
    .onConflict((c) => c.doNothing())
    .execute();
  if (!who.opened) return;
  const { group, actions } = who.opened;
  await tx
    .insertInto('lintel_opening')
    .values({ tenant_id: HERE, id: 'o', group_id: group, to_user: user_id, kind: 'hive', actions: JSON.stringify(actions), keeps: false })
    .execute();
}

function holderOf({ groups, units }: Draw['who'], user_id: string, via: 'me' | 'group' | 'unit') {
  const [group_id] = via === 'group' ? groups : [];
  const [unit_id] = via === 'unit' ? units : [];
  return group_id ? { user_id: null, group_id } : unit_id ? { user_id: null, unit_id } : { user_id };
}

/** A row as the scope shows it, under its field names. */
function fieldsOf(kind: KindName, row: Row): Row {
  return Object.fromEntries(columnFields(kind).map(([field]) => [field, row[columnOf(field)]]));
}

const say = (tx: Kysely<any>, text: string) => sql.raw(text).execute(tx);

async function writeOne(tx: Kysely<any>, scope: ScopedDb<any>, write: Write, policies: boolean): Promise<Outcome> {
  const { table } = KINDS[write.kind];
  const sqlite = isSqlite(tx);
  const columns = (row: Row) => Object.fromEntries(Object.entries(row).map(([field, value]) => [columnOf(field), cellOf(value, sqlite)]));
  await sql`savepoint agree`.execute(tx);
  try {
    const query =
      write.do === 'insert'
        ? scope.insertInto(table).values(write.rows.map(columns)).returning('id')
        : write.do === 'delete'
          ? scope.deleteFrom(table).where('id', 'in', write.ids).returning('id')
          : scope.updateTable(table).set(columns(write.set)).where('id', 'in', write.ids).returning('id');
    const returned = (await query.execute()) as Row[];
    if (policies) await say(tx, 'reset role');
    const rows = (await tx.selectFrom(table).selectAll().execute()) as Row[];
    return { rows: rows.map((row) => fieldsOf(write.kind, row)), returned: returned.map((row) => row.id), written: -1 };
  } catch (error) {
    // 42501: a row policy refused what scope would have.
    if (!isLintelError(error) && (error as { code?: string }).code !== '42501') throw error;
    return 'refused';
  } finally {
    await sql`rollback to savepoint agree`.execute(tx);
  }
}

async function selectAll(from: { selectFrom(table: string): any }): Promise<Record<string, Row[]>> {
  const found: Record<string, Row[]> = {};
  for (const kind of KIND_NAMES) {
    const columns = columnFields(kind).map(([field]) => columnOf(field));
    found[kind] = ((await from.selectFrom(KINDS[kind].table).select(columns).execute()) as Row[]).map((row) => fieldsOf(kind, row));
  }
  return found;
}

/** The same questions to a connection of a role that owns nothing: by plain SQL, and through scope. */
async function underPolicies(tx: Kysely<any>, draw: Draw, standing: AnyStanding): Promise<Answers> {
  return standing.withPolicies(tx, async (_tx, scope) => {
    await say(tx, `set local role ${APP_ROLE}`);
    const answers = { plain: await selectAll(tx), select: await selectAll(scope) };
    const writes: Outcome[] = [];
    for (const write of draw.writes) {
      writes.push(await writeOne(tx, scope, write, true));
      await say(tx, `set local role ${APP_ROLE}`);
    }
    await say(tx, 'reset role');
    return { ...answers, writes };
  });
}

/** Members to whom some write gives a record. */
function receivers(writes: readonly Write[]): Set<string> {
  const rows = writes.flatMap((write) => (write.do === 'insert' ? write.rows : write.do === 'update' ? [write.set] : []));
  return new Set(rows.map((row) => String(row.ownerId)).filter((id) => PEOPLE.includes(id)));
}

/** Who asked, as this engine's own membership tells it, and what they were answered. */
export interface Asked {
  readonly standing: AnyStanding;
  readonly others: ReadonlyMap<string, AnyStanding>;
  readonly answers: Answers;
}

async function askOne(engine: Engine, charter: Charter, draw: Draw, membership: Kysely<any>, records: Kysely<any>): Promise<Asked> {
  await fill(records, draw.data);
  await become(membership, draw.who);
  const lintel = createLintel({ charter, db: membership, ...(engine.membership !== engine.records && { records }) });
  const standing = await lintel.enter({ tenant: HERE, user: SUBJECTS[draw.who.subject], context: draw.who.context });
  const others = new Map<string, AnyStanding>();
  for (const user of receivers(draw.writes)) others.set(user, await lintel.enter({ tenant: HERE, user }));
  if (engine.policies) return { standing, others, answers: await underPolicies(records, draw, standing) };
  const find: Record<string, Row[]> = {};
  const select = await selectAll(standing.scope<any>(records));
  for (const kind of KIND_NAMES) {
    const may = Object.keys(charter.kind(kind).actions)
      .filter((action) => action !== 'create')
      .map((action) => `${kind}.${action}`);
    find[kind] = (await standing.find(kind, { limit: 1000, may })) as Row[];
  }
  const writes: Outcome[] = [];
  for (const write of draw.writes) writes.push(await writeOne(records, standing.scope<any>(records), write, false));
  return { standing, others, answers: { find, select, writes } };
}

const CATALOGUE = ['pg_proc', 'pg_depend', 'pg_shdepend', 'pg_policy', 'pg_trigger', 'pg_class', 'pg_attribute', 'pg_type', 'pg_rewrite', 'pg_namespace'];

/** Policies that are put up and undone leave rows behind in the catalogue, and everything after them gets slower: sweeps them out. */
export async function sweep({ records, policies }: Engine): Promise<void> {
  if (policies) for (const table of CATALOGUE) await say(records, `vacuum pg_catalog.${table}`);
}

/** What one engine answers to each draw under a charter. */
export async function ask(engine: Engine, charter: Charter, draws: readonly Draw[]): Promise<Asked[]> {
  const over = async (membership: Kysely<any>, records: Kysely<any>): Promise<Asked[]> => {
    if (engine.policies) await say(records, policyStatements(charter, { role: APP_ROLE }).join('\n'));
    const places = new Set([membership, records]);
    const all: Asked[] = [];
    for (const draw of draws) {
      for (const place of places) await say(place, 'savepoint draw');
      all.push(await askOne(engine, charter, draw, membership, records));
      for (const place of places) await say(place, 'rollback to savepoint draw');
    }
    return all;
  };
  return undone(engine.membership, (membership) =>
    engine.membership === engine.records ? over(membership, membership) : undone(engine.records, (records) => over(membership, records)),
  );
}

/* The databases: each is filled with the rows of a case, asked, written to, and left as it was. */
import { PGlite } from '@electric-sql/pglite';
import { type Kysely, Kysely as KyselyClass, SqliteDialect, sql } from 'kysely';
import Database from 'libsql';
import type { Charter } from 'warm-lintel';
import { isLintelError } from 'warm-lintel';
import { connect, createLintel, type ServerStanding } from 'warm-lintel/server';
import type { Case, Row, Write } from './generate.js';
import type { Outcome } from './memory.js';
import { columnFields, columnOf, HERE, isSqlite, KIND_NAMES, KINDS, type KindName, ME, makeMembership, makeTables } from './world.js';

type AnyStanding = ServerStanding<any>;

/** Somewhere to keep records, with the membership beside them or in another database. */
export interface Engine {
  readonly name: string;
  readonly records: Kysely<any>;
  readonly membership: Kysely<any>;
}

export interface Answers {
  readonly find: Record<string, Row[]>;
  readonly select: Record<string, Row[]>;
  readonly writes: readonly Outcome[];
}

export async function openEngine(name: string, records: Kysely<any>, membership = records): Promise<Engine> {
  await makeTables(records);
  if (membership === records) await makeMembership(records);
  return { name, records, membership };
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

async function fill(tx: Kysely<any>, data: Case['data']): Promise<void> {
  const sqlite = isSqlite(tx);
  for (const kind of KIND_NAMES) {
    const rows = data[kind].map((row) => Object.fromEntries(columnFields(kind).map(([field]) => [columnOf(field), cellOf(row[field], sqlite)])));
    if (rows.length > 0) await tx.insertInto(KINDS[kind].table).values(rows).execute();
  }
  const links = data.hive.flatMap((hive) => (hive.helpers as string[]).map((user_id) => ({ tenant_id: hive.tenantId, hive_id: hive.id, user_id })));
  if (links.length > 0) await tx.insertInto('hive_helpers').values(links).execute();
}

const SUBJECTS = { member: ME, suspended: 'gone', guest: 'stranger', visitor: undefined } as const;

async function become(tx: Kysely<any>, who: Case['who']): Promise<void> {
  const user_id = SUBJECTS[who.subject];
  if (who.subject !== 'member' && who.subject !== 'suspended') return;
  const mine = { tenant_id: HERE, user_id };
  await tx.updateTable('lintel_member').set({ attributes: JSON.stringify(who.attributes) }).where('tenant_id', '=', HERE).where('user_id', '=', user_id).execute();
  await tx.insertInto('lintel_assignment').values(who.assigned.map(({ role, anchor, anchorId }) => ({ ...mine, role, anchor, anchor_id: anchorId }))).execute();
  if (who.units.length > 0) await tx.insertInto('lintel_placement').values(who.units.map((unit_id) => ({ ...mine, unit_id }))).execute();
  if (who.groups.length > 0) await tx.insertInto('lintel_group_member').values(who.groups.map((group_id) => ({ ...mine, group_id }))).execute();
}

/** A row as the scope shows it, under its field names. */
function fieldsOf(kind: KindName, row: Row): Row {
  return Object.fromEntries(columnFields(kind).map(([field]) => [field, row[columnOf(field)]]));
}

async function writeOne(tx: Kysely<any>, standing: AnyStanding, write: Write): Promise<Outcome> {
  const { table } = KINDS[write.kind];
  const scope = standing.scope<any>(tx);
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
    const rows = (await tx.selectFrom(table).selectAll().execute()) as Row[];
    return { rows: rows.map((row) => fieldsOf(write.kind, row)), returned: returned.map((row) => row.id), written: -1 };
  } catch (error) {
    if (!isLintelError(error)) throw error;
    return 'refused';
  } finally {
    await sql`rollback to savepoint agree`.execute(tx);
  }
}

/** What one engine answers to a case. */
export async function ask(engine: Engine, charter: Charter, drawn: Case, look: (standing: AnyStanding, others: Map<string, AnyStanding>) => void): Promise<Answers> {
  const over = async (membership: Kysely<any>, records: Kysely<any>): Promise<Answers> => {
    await fill(records, drawn.data);
    await become(membership, drawn.who);
    const lintel = createLintel({ charter, db: membership, ...(engine.membership !== engine.records && { records }) });
    const standing = await lintel.enter({ tenant: HERE, user: SUBJECTS[drawn.who.subject], context: drawn.who.context });
    const others = new Map<string, AnyStanding>();
    for (const user of ['u1', 'u2', 'U1', 'boss']) others.set(user, await lintel.enter({ tenant: HERE, user }));
    look(standing, others);
    const find: Record<string, Row[]> = {};
    const select: Record<string, Row[]> = {};
    for (const kind of KIND_NAMES) {
      const may = Object.keys(charter.kind(kind).actions).filter((action) => action !== 'create').map((action) => `${kind}.${action}`);
      find[kind] = (await standing.find(kind, { limit: 1000, may })) as Row[];
      select[kind] = ((await standing.scope<any>(records).selectFrom(KINDS[kind].table).select(columnFields(kind).map(([field]) => columnOf(field))).execute()) as Row[]).map((row) => fieldsOf(kind, row));
    }
    const writes: Outcome[] = [];
    for (const write of drawn.writes) writes.push(await writeOne(records, standing, write));
    return { find, select, writes };
  };
  return undone(engine.membership, (membership) =>
    engine.membership === engine.records ? over(membership, membership) : undone(engine.records, (records) => over(membership, records)),
  );
}

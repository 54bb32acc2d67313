/* The databases: each is filled with the rows of a case, asked, written to, and left as it was. */
import { type InsertQueryBuilder, type Kysely, Kysely as KyselyClass, SqliteDialect, sql } from 'kysely';
import Database from 'libsql';
import type { Charter } from 'warm-lintel';
import { isLintelError } from 'warm-lintel';
import { connect, createLintel, policyStatements, type ScopedDb, type ServerStanding } from 'warm-lintel/server';
import { checkSchema } from '../../src/store/index.js';
import { emptyPglite } from '../../test/pglite.js';
import type { Draw, Raw, RawLink, Row, Write } from './generate.js';
import { listIn, type Outcome } from './memory.js';
import { Names, type TypedCase } from './typed.js';
import { columnFields, columnOf, dropTables, KIND_NAMES, KINDS, type KindName, ME, makeMembership, makeTables, tongueOf } from './world.js';

type AnyStanding = ServerStanding<any>;

const TEXT = new Names({ tenant: 'text', person: 'text', unit: 'text', group: 'text', plot: 'text', hive: 'text', visit: 'text', note: 'text' });

/** Somewhere to keep records, with the membership beside them or in another database. */
export interface Engine {
  readonly name: string;
  readonly records: Kysely<any>;
  readonly membership: Kysely<any>;
  /** Asked by plain SQL under the row policies, and written to through scope and policies together. */
  readonly policies?: true;
  /** Several connections at once: two can write in the same moment. */
  readonly races?: true;
}

export interface Answers {
  readonly find?: Record<string, Row[]>;
  readonly select: Record<string, Row[]>;
  /** Rows as plain SQL under the policies shows them, and as the views that mask do. */
  readonly plain?: Record<string, Row[]>;
  readonly masked?: Record<string, Row[]>;
  readonly writes: readonly Outcome[];
  /** What was let be shown or written of columns that are nobody's. */
  readonly undeclared: readonly string[];
  /** Whether each change of a list of people, by name, was let be; undefined for what is no such change. */
  readonly links?: readonly (boolean | undefined)[];
  /** What each write by plain SQL under the policies did; nothing where it was refused. */
  readonly raw?: readonly (readonly Touched[])[];
}

/** A row that a write changed, made or took away; or that it made or dropped a link. */
export type Touched = { readonly kind: KindName; readonly before?: Row; readonly after: Row | undefined } | 'linked';

export async function openEngine(name: string, records: Kysely<any>, membership = records): Promise<Engine> {
  await makeTables(records, TEXT);
  if (membership === records) await makeMembership(records);
  return { name, records, membership };
}

export const APP_ROLE = 'agree_app';

/** Plain SQL under the row policies of an engine's database. */
export async function withPolicies(engine: Engine): Promise<Engine> {
  // Roles belong to the server: another database there may have made it.
  await say(engine.records, `do $$ begin create role ${APP_ROLE}; exception when duplicate_object or unique_violation then null; end $$`);
  // A new owner's standing is read in the same transaction here, so the role may look at the membership.
  await say(engine.records, `grant select on all tables in schema public to ${APP_ROLE}`);
  return { ...engine, name: `${engine.name} under row policies`, policies: true };
}

export async function openPglite(): Promise<Engine> {
  return openEngine('PGlite', connect<any>(await emptyPglite()));
}

export async function openSqlite(membership: Kysely<any>): Promise<Engine> {
  const db = new KyselyClass<any>({ dialect: new SqliteDialect({ database: new Database(':memory:') as never }) });
  return openEngine('SQLite', db, membership);
}

export async function openMariaDb(membership: Kysely<any>, records: Kysely<any>): Promise<Engine> {
  return { ...(await openEngine('MariaDB', records, membership)), races: true };
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

type Tongue = ReturnType<typeof tongueOf>;

/** A value as a statement past the library has to write it. */
function cellOf(value: unknown, tongue: Tongue): unknown {
  if (tongue === 'sqlite' && typeof value === 'boolean') return Number(value);
  return tongue === 'mariadb' && typeof value === 'string' ? value.replace(/^(\d{4}-\d\d-\d\d)T([\d:.]+)Z$/, '$1 $2') : value;
}

/** The charter fits the tables that stand there. */
async function isTaken(records: Kysely<any>, charter: Charter): Promise<boolean> {
  try {
    await checkSchema(records as Kysely<never>, charter);
    return true;
  } catch (error) {
    if (isLintelError(error) && error.code === 'schema-mismatch') return false;
    throw error;
  }
}

/** A number that no small column holds is looked for like any other: nothing is found, and nothing fails. */
async function lookFarBeyond(standing: AnyStanding, names: Names): Promise<void> {
  for (const kind of KIND_NAMES)
    for (const [field, { role, type }] of names.fields(kind))
      if (type === 'integer' && role !== 'people') await standing.find(kind, { where: { [field]: Number.MAX_SAFE_INTEGER }, limit: 1 });
}

/** A write as it comes in. */
function asSent(write: Write, names: Names): Write {
  const { kind } = write;
  if (write.do === 'update') return { ...write, set: names.sent(kind, write.set) };
  return write.do === 'insert' ? { ...write, rows: write.rows.map((row) => names.sent(kind, row)) } : write;
}

export async function fill(tx: Kysely<any>, data: Draw['data']): Promise<void> {
  const tongue = tongueOf(tx);
  for (const kind of KIND_NAMES) {
    const rows = data[kind].map((row, i) => ({
      ...Object.fromEntries(columnFields(kind).map(([field]) => [columnOf(field), cellOf(row[field], tongue)])),
      // By this a row is known again, whatever becomes of it.
      undeclared: String(i),
    }));
    if (rows.length > 0) await tx.insertInto(KINDS[kind].table).values(rows).execute();
  }
  const links = data.hive.flatMap((hive) => (hive.helpers as string[]).map((user_id) => ({ tenant_id: hive.tenantId, hive_id: hive.id, user_id })));
  if (links.length > 0) await tx.insertInto('hive_helpers').values(links).execute();
  const watched = data.note.flatMap((note) => (note.watchers as string[]).map((user_id) => ({ note_id: note.id, user_id })));
  if (watched.length > 0) await tx.insertInto('note_watchers').values(watched).execute();
}

export const SUBJECTS = { member: ME, suspended: 'gone', signedIn: 'stranger', visitor: undefined } as const;

export async function become(tx: Kysely<any>, who: Draw['who'], names: Names): Promise<void> {
  const tenant_id = String(names.here);
  await tx
    .updateTable('lintel_tenant')
    .set({ bases: JSON.stringify(who.bases) })
    .where('id', '=', tenant_id)
    .execute();
  if (who.subject !== 'member' && who.subject !== 'suspended') return;
  const user_id = names.text('person', SUBJECTS[who.subject]);
  const mine = { tenant_id, user_id };
  await tx
    .updateTable('lintel_member')
    .set({ attributes: JSON.stringify({ '': who.attributes }) })
    .where('tenant_id', '=', tenant_id)
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
    .values(who.assigned.map(({ role, anchor, anchorId, via }) => ({ tenant_id, ...holderOf(who, user_id, via), role, anchor, anchor_id: anchorId })))
    .onConflict((c) => c.doNothing())
    .execute();
  if (!who.opened) return;
  const { group, actions } = who.opened;
  await tx
    .insertInto('lintel_opening')
    .values({ tenant_id, id: 'o', group_id: group, to_user: user_id, kind: 'hive', actions: JSON.stringify(actions), keeps: false })
    .execute();
}

function holderOf({ groups, units }: Draw['who'], user_id: string, via: 'me' | 'group' | 'unit') {
  const [group_id] = via === 'group' ? groups : [];
  const [unit_id] = via === 'unit' ? units : [];
  return group_id ? { user_id: null, group_id } : unit_id ? { user_id: null, unit_id } : { user_id };
}

/** A row as the scope shows it, under its field names. */
export function fieldsOf(kind: KindName, row: Row): Row {
  return Object.fromEntries(columnFields(kind).map(([field]) => [field, row[columnOf(field)]]));
}

const say = (tx: Kysely<any>, text: string) => sql.raw(text).execute(tx);

/** The library refused it, or a row policy did (42501), or MariaDB to wait for each other. */
export const isRefusal = (error: unknown) => isLintelError(error) || ['42501', 'ER_LOCK_DEADLOCK'].includes(String((error as { code?: unknown }).code));

/** Does something and undoes it. */
async function tried<R>(tx: Kysely<any>, work: () => Promise<R>): Promise<R | 'refused'> {
  await sql`savepoint agree`.execute(tx);
  try {
    return await work();
  } catch (error) {
    if (!isRefusal(error)) throw error;
    return 'refused';
  } finally {
    await sql`rollback to savepoint agree`.execute(tx);
  }
}

/** The same statement through scope, or past it. */
export function statement(
  on: Pick<ScopedDb<any>, 'insertInto' | 'updateTable' | 'deleteFrom'>,
  write: Write,
  tongue: Tongue,
): InsertQueryBuilder<any, any, any> {
  const { table } = KINDS[write.kind];
  const columns = (row: Row) => Object.fromEntries(Object.entries(row).map(([field, value]) => [columnOf(field), cellOf(value, tongue)]));
  if (write.do === 'insert') return on.insertInto(table).values(write.rows.map(columns));
  const some: any = write.do === 'delete' ? on.deleteFrom(table) : on.updateTable(table).set(columns(write.set));
  return some.where('id', 'in', write.ids);
}

/** Moments are written as they are for scope, whatever the database. */
const throughScope = (tx: Kysely<any>): Tongue => (tongueOf(tx) === 'sqlite' ? 'sqlite' : 'postgres');

async function writeOne(tx: Kysely<any>, scope: ScopedDb<any>, write: Write, policies: boolean): Promise<Outcome> {
  return tried(tx, async () => {
    const returned = (await statement(scope, write, throughScope(tx)).returning('id').execute()) as Row[];
    if (policies) await say(tx, 'reset role');
    const rows = (await tx.selectFrom(KINDS[write.kind].table).selectAll().execute()) as Row[];
    return { rows: rows.map((row) => fieldsOf(write.kind, row)), returned: returned.map((row) => row.id), written: -1 };
  });
}

/** What a statement of somebody with SQL in their connection does to the rows. */
async function rawOne(tx: Kysely<any>, raw: Raw, data: Draw['data']): Promise<Touched[]> {
  const touched = await tried(tx, () => ('user' in raw ? linkOne(tx, raw) : writeRaw(tx, raw, data)));
  return touched === 'refused' ? [] : touched;
}

async function linkOne(tx: Kysely<any>, raw: RawLink): Promise<Touched[]> {
  const user_id = raw.user;
  const [table, link] =
    'note' in raw
      ? (['note_watchers', { note_id: raw.note, user_id }] as const)
      : (['hive_helpers', { tenant_id: raw.tenant, hive_id: raw.hive, user_id }] as const);
  if (raw.do === 'link') {
    await tx.insertInto(table).values(link).execute();
    return ['linked'];
  }
  const dropped = tx.deleteFrom(table).where((eb) => eb.and(link));
  return (await dropped.executeTakeFirstOrThrow()).numDeletedRows === 0n ? [] : ['linked'];
}

/** The same through the library: true where the record was in reach. */
async function linkByName(tx: Kysely<any>, standing: AnyStanding, raw: RawLink): Promise<boolean> {
  const [kind, id, field] = listIn(raw);
  const people = { [raw.do === 'link' ? 'add' : 'remove']: [raw.user] };
  const done = await tried(tx, () => standing.change(kind, [id], { [field]: people }));
  return done !== 'refused' && done.changed.length === 1;
}

async function writeRaw(tx: Kysely<any>, write: Write, data: Draw['data']): Promise<Touched[]> {
  const { kind } = write;
  await statement(tx, write, 'postgres').execute();
  await say(tx, 'reset role');
  const rows = (await tx.selectFrom(KINDS[kind].table).selectAll().execute()) as Row[];
  const known = new Map(rows.map((row) => [row.undeclared, fieldsOf(kind, row)]));
  const made = rows.filter((row) => row.undeclared === 'hidden').map((row) => ({ kind, after: fieldsOf(kind, row) }));
  return [...made, ...data[kind].map((before, i) => ({ kind, before, after: known.get(String(i)) }))];
}

async function selectAll(
  from: { selectFrom(table: string): any },
  kinds: readonly KindName[] = KIND_NAMES,
  tableOf = (kind: KindName): string => KINDS[kind].table,
): Promise<Record<string, Row[]>> {
  const found: Record<string, Row[]> = {};
  for (const kind of kinds) {
    const columns = columnFields(kind).map(([field]) => columnOf(field));
    found[kind] = ((await from.selectFrom(tableOf(kind)).select(columns).execute()) as Row[]).map((row) => fieldsOf(kind, row));
  }
  return found;
}

/** What the views show that stand for tables with masked fields. */
function masked(tx: Kysely<any>, { charter }: AnyStanding): Promise<Record<string, Row[]>> {
  const some = KIND_NAMES.filter((kind) => Object.values<{ read?: string }>(charter.kind(kind).fields).some(({ read }) => read !== undefined));
  return selectAll(tx, some, (kind) => `lintel_wall.masked_${KINDS[kind].table}`);
}

/** Statements that a column which the charter does not declare is shown or written by. */
async function undeclared(tx: Kysely<any>, on: Pick<ScopedDb<any>, 'selectFrom' | 'updateTable'>): Promise<string[]> {
  const allowed: string[] = [];
  for (const kind of KIND_NAMES) {
    const { table } = KINDS[kind];
    const statements = { read: on.selectFrom(table).select('undeclared'), asked: on.selectFrom(table).select('id').where('undeclared', '=', '0') };
    for (const [how, statement] of Object.entries({ ...statements, written: on.updateTable(table).set({ undeclared: 'x' }) })) {
      const outcome = await tried(tx, () => (statement as { execute(): Promise<unknown> }).execute());
      if (outcome !== 'refused') allowed.push(`${how} of ${table}`);
    }
  }
  return allowed;
}

/** The same questions to a connection of a role that owns nothing: by plain SQL, and through scope. */
async function underPolicies(tx: Kysely<any>, draw: Draw, standing: AnyStanding): Promise<Answers> {
  return standing.withPolicies(tx, async (_tx, scope) => {
    await say(tx, `set local role ${APP_ROLE}`);
    const answers = { plain: await selectAll(tx), masked: await masked(tx, standing), select: await selectAll(scope) };
    // Each is undone, and the role that was laid aside in it is back.
    const writes: Outcome[] = [];
    for (const write of draw.writes) writes.push(await writeOne(tx, scope, write, true));
    const raw: Touched[][] = [];
    for (const one of draw.raw) raw.push(await rawOne(tx, one, draw.data));
    const shown = [...(await undeclared(tx, scope)), ...(await undeclared(tx, tx))];
    await say(tx, 'reset role');
    return { ...answers, writes, raw, undeclared: shown };
  });
}

/** Members to whom some write gives a record. */
function receivers(writes: readonly Write[], names: Names): Set<string> {
  const rows = writes.flatMap((write) => (write.do === 'insert' ? write.rows : write.do === 'update' ? [write.set] : []));
  return new Set(rows.map((row) => String(row.ownerId)).filter((id) => names.people.includes(id)));
}

/** Who asked, as this engine's own membership tells it, and what they were answered. */
export interface Asked {
  readonly standing: AnyStanding;
  readonly others: ReadonlyMap<string, AnyStanding>;
  readonly answers: Answers;
}

async function askOne(engine: Engine, charter: Charter, { names }: TypedCase, draw: Draw, membership: Kysely<any>, records: Kysely<any>): Promise<Asked> {
  await fill(records, draw.data);
  await become(membership, draw.who, names);
  const writes = draw.writes.map((write) => asSent(write, names));
  const lintel = createLintel({ charter, db: membership, ...(engine.membership !== engine.records && { records }) });
  const subject = SUBJECTS[draw.who.subject];
  const standing = await lintel.enter({ tenant: names.here, user: subject && names.id('person', subject), context: draw.who.context });
  const others = new Map<string, AnyStanding>();
  for (const user of receivers(draw.writes, names)) others.set(user, await lintel.enter({ tenant: names.here, user }));
  if (engine.policies) return { standing, others, answers: await underPolicies(records, { ...draw, writes }, standing) };
  const find: Record<string, Row[]> = {};
  const select = await selectAll(standing.scope<any>(records));
  for (const kind of KIND_NAMES) {
    const may = Object.keys(charter.kind(kind).actions)
      .filter((action) => action !== 'create')
      .map((action) => `${kind}.${action}`);
    find[kind] = (await standing.find(kind, { limit: 1000, may })) as Row[];
  }
  if (names.narrow) await lookFarBeyond(standing, names);
  const outcomes: Outcome[] = [];
  for (const write of writes) outcomes.push(await writeOne(records, standing.scope<any>(records), write, false));
  const links: (boolean | undefined)[] = [];
  for (const raw of draw.raw) links.push('user' in raw ? await linkByName(records, standing, raw) : undefined);
  return { standing, others, answers: { find, select, writes: outcomes, links, undeclared: await undeclared(records, standing.scope<any>(records)) } };
}

const CATALOGUE = ['pg_proc', 'pg_depend', 'pg_shdepend', 'pg_policy', 'pg_trigger', 'pg_class', 'pg_attribute', 'pg_type', 'pg_rewrite', 'pg_namespace'];

/** Policies that are put up and undone leave rows behind in the catalogue, and everything after them gets slower: sweeps them out. */
export async function sweep({ records, policies }: Engine): Promise<void> {
  if (policies) for (const table of CATALOGUE) await say(records, `vacuum pg_catalog.${table}`);
}

/** What one engine answers to each draw under a charter; undefined where it does not take the charter over these columns. */
export async function ask(engine: Engine, charter: Charter, asked: TypedCase): Promise<Asked[] | undefined> {
  const { draws, names, other } = asked;
  const setUp = async (records: Kysely<any>) => {
    await dropTables(records);
    await makeTables(records, names, other);
  };
  // There a table that is made ends the transaction.
  const isBefore = tongueOf(engine.records) === 'mariadb';
  if (isBefore) await setUp(engine.records);
  const over = async (membership: Kysely<any>, records: Kysely<any>): Promise<Asked[] | undefined> => {
    if (!isBefore) await setUp(records);
    if (!(await isTaken(records, charter))) return undefined;
    if (engine.policies) await say(records, policyStatements(charter, { role: APP_ROLE }).join('\n'));
    const places = new Set([membership, records]);
    const all: Asked[] = [];
    for (const draw of draws) {
      for (const place of places) await say(place, 'savepoint draw');
      all.push(await askOne(engine, charter, asked, draw, membership, records));
      for (const place of places) await say(place, 'rollback to savepoint draw');
    }
    return all;
  };
  return undone(engine.membership, (membership) =>
    engine.membership === engine.records ? over(membership, membership) : undone(engine.records, (records) => over(membership, records)),
  );
}

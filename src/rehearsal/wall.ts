import { type Kysely, sql, type Transaction } from 'kysely';
import { isLintelError } from '../base/index.js';
import type { Charter, FieldData } from '../charter/index.js';
import type { KindShape } from '../predicate/index.js';
import type { ServerStanding } from '../server/index.js';
import type { Outcome } from './rehearse.js';
import { type Actor, nameOf, type Script } from './script.js';

/** Whom a script names, with the database behind them. */
export interface WallStage {
  readonly charter: Charter<any>;
  /** A member, as the database under its policies treats them. */
  person(name: string): Promise<ServerStanding<any>>;
  /** Whoever is not signed in. */
  visitor(): Promise<ServerStanding<any>>;
  /** The application's own connection, of the role that the policies hold. */
  readonly app: Kysely<any>;
}

class TakenBack extends Error {
  readonly found: boolean;

  constructor(found: boolean) {
    super('taken back');
    this.found = found;
  }
}

/** PostgreSQL's word for what a policy or one of our triggers refuses. */
const REFUSED = '42501';
const PLAIN = ['text', 'integer'];

const tableOf = ({ schema, table }: KindShape) => sql.table(schema === undefined ? table : `${schema}.${table}`);
const idOf = (shape: KindShape) => sql.ref(shape.fields[shape.idField]?.column ?? shape.idField);

/** The field by which an action shows, with another value for it; undefined where no field alone does. */
function fieldFor(charter: Charter<any>, kind: string, action: string): { readonly column: string; readonly value: unknown } | undefined {
  const guarded = action === 'update' ? undefined : action;
  const found = Object.entries(charter.kind(kind).fields).find(
    ([, { role, change, type }]: [string, FieldData]) => role === 'plain' && change === guarded && PLAIN.includes(type),
  );
  if (!found) return undefined;
  const [name, { type, options }] = found;
  return { column: charter.shapes[kind]?.fields[name]?.column ?? name, value: options ? options.at(-1) : type === 'integer' ? 77 : 'rehearsed' };
}

/** Whether the database lets somebody do this to a record. What it changes is taken back. Undefined: it cannot be asked by one statement. */
async function lets(stage: WallStage, standing: ServerStanding<any>, kind: string, action: string, id: string): Promise<boolean | undefined> {
  const shape = stage.charter.shapes[kind] as KindShape;
  const named = sql`${idOf(shape)}::text = ${id}`;
  const field = action === 'read' || action === 'delete' ? undefined : fieldFor(stage.charter, kind, action);
  const statement =
    action === 'read'
      ? sql`select 1 from ${tableOf(shape)} where ${named}`
      : action === 'delete'
        ? sql`delete from ${tableOf(shape)} where ${named} returning 1`
        : field && sql`update ${tableOf(shape)} set ${sql.ref(field.column)} = ${field.value} where ${named} returning 1`;
  if (!statement) return undefined;
  try {
    await standing.withPolicies(stage.app, async (tx: Transaction<any>) => {
      throw new TakenBack((await statement.execute(tx)).rows.length > 0);
    });
    return undefined;
  } catch (error) {
    if (error instanceof TakenBack) return error.found;
    if ((error as { code?: string }).code === REFUSED) return false;
    throw error;
  }
}

const isSomebody = (actor: Actor) => actor === 'visitor' || 'person' in actor;
const standingOf = (stage: WallStage, actor: Actor) => (actor === 'visitor' ? stage.visitor() : stage.person((actor as { person: string }).person));

/** True if plain SQL under the policies shows somebody the records that scope does. */
async function showsAlike(stage: WallStage, standing: ServerStanding<any>, kind: string): Promise<string | undefined> {
  const shape = stage.charter.shapes[kind] as KindShape;
  const query = sql<{ id: string }>`select ${idOf(shape)}::text as id from ${tableOf(shape)}`;
  const shown = new Set((await standing.withPolicies(stage.app, async (tx: Transaction<any>) => (await query.execute(tx)).rows)).map(({ id }) => id));
  const column = shape.fields[shape.idField]?.column as string;
  const scoped = (await standing.scope<any>().selectFrom(shape.table).select(`${shape.table}.${column} as id`).execute()) as { id: unknown }[];
  const meant = new Set(scoped.map(({ id }) => String(id)));
  const [more, fewer] = [[...shown].find((id) => !meant.has(id)), [...meant].find((id) => !shown.has(id))];
  if (more === undefined && fewer === undefined) return undefined;
  return more === undefined ? `the database hides ${kind} ${fewer}` : `the database shows ${kind} ${more}`;
}

/**
 * Holds a script against the database under its row policies: what somebody reads is the same as by the charter, and what they may do to a record is
 * tried, and taken back. Roles are not asked, since nobody may stand behind them; nor is an action that no single field shows: such lines are left out.
 *
 * @throws LintelError `no-policies` where they are not in the database.
 */
export async function rehearseAtWall(script: Script, stage: WallStage): Promise<Outcome[]> {
  const outcomes: Outcome[] = [];
  const hold = async (name: string, line: number, work: () => Promise<string | undefined>) => {
    const words = await work().catch((error: unknown) => {
      if (isLintelError(error) && error.code !== 'no-policies' && error.code !== 'charter-mismatch') return error.message;
      throw error;
    });
    outcomes.push({ name: `${name}, in the database`, line, held: words === undefined, words: words === undefined ? '' : `${name}: ${words}` });
  };
  for (const { actor, action, line } of script.reaches) {
    const permission = stage.charter.permission(action);
    if (permission.action !== 'read' || !isSomebody(actor)) continue;
    const name = `${nameOf(actor)}: ${action}`;
    await hold(name, line, async () => showsAlike(stage, await standingOf(stage, actor), permission.kind as string));
  }
  for (const { actor, action, may, record, line } of script.answers) {
    const { kind, action: verb } = stage.charter.permission(action);
    if (kind === undefined || verb === undefined || verb === 'create' || record === undefined || !isSomebody(actor)) continue;
    if (verb !== 'read' && verb !== 'delete' && !fieldFor(stage.charter, kind, verb)) continue;
    const name = `${nameOf(actor)} ${may ? 'may' : 'may not'} ${action} ${record}`;
    await hold(name, line, async () =>
      (await lets(stage, await standingOf(stage, actor), kind, verb, record)) === may ? undefined : `the database ${may ? 'refuses it' : 'lets them'}`,
    );
  }
  return outcomes.sort((a, b) => a.line - b.line);
}
